package web

import (
	"encoding/json"
	"net/http"
	"strings"
)

// KeyHeader is what remote evaluation takes access keys in besides Authorization.
const KeyHeader = "X-API-Key"

// Bearer is the secret that a request shows in Authorization; empty for none.
func Bearer(r *http.Request) string {
	scheme, secret, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return ""
	}
	return strings.TrimSpace(secret)
}

// MustJSON is a plain value of ours as JSON.
func MustJSON(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values of ours
	}
	return raw
}
