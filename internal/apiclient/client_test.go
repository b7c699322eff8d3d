package apiclient

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// What is sent stands where the API looks for it, and what refuses is said as it was.
func TestCalls(t *testing.T) {
	var got *http.Request
	var body string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		got, body = r, string(raw)
		switch r.URL.Path {
		case "/api/v1/refused":
			w.WriteHeader(http.StatusBadRequest)
			io.WriteString(w, `{"detail":"some fields","fields":[{"place":"reason","mend":"say why"}]}`)
		case "/api/v1/proxy":
			w.WriteHeader(http.StatusBadGateway)
			io.WriteString(w, `<html>`)
		case "/api/v1/sign-in":
			http.SetCookie(w, &http.Cookie{Name: "greenlever", Value: "s1"})
			io.WriteString(w, `{"csrf":"c1"}`)
		case "/api/v1/me/tokens":
			if r.Header.Get("Cookie") != "greenlever=s1" || r.Header.Get("X-Greenlever-CSRF") != "c1" {
				w.WriteHeader(http.StatusForbidden)
			}
			io.WriteString(w, `{"secret":"glt_1"}`)
		default:
			io.WriteString(w, `{"key":"pinecrest"}`)
		}
	}))
	defer s.Close()
	ctx, c := context.Background(), &Client{URL: s.URL + "/", Token: "glt_x", Agent: "test"}
	type project struct{ Key string }
	p, err := Answer[project](ctx, c, Call{Method: "PUT", Path: "/projects/pinecrest", Body: map[string]int{"a": 1}, Version: 3, Key: "once"})
	if err != nil || p.Key != "pinecrest" || body != `{"a":1}` {
		t.Errorf("%+v %v %s", p, err, body)
	}
	for name, want := range map[string]string{"Authorization": "Bearer glt_x", "If-Match": `"3"`, "Idempotency-Key": "once",
		"User-Agent": "test", "Content-Type": "application/json", "Greenlever-Reason": "", "Cookie": ""} {
		if got.Header.Get(name) != want {
			t.Errorf("%s: %q", name, got.Header.Get(name))
		}
	}
	if err := c.Do(ctx, Call{Method: "PUT", Path: "/list", File: strings.NewReader("r-1\n"), Size: 4, Reason: "ø\n"}, nil); err != nil ||
		body != "r-1\n" || got.Header.Get("Greenlever-Reason") != "%C3%B8%0A" || got.ContentLength != 4 {
		t.Errorf("%v %q %+v", err, body, got.Header)
	}
	var refused *Problem
	if _, err := Get[project](ctx, c, "/refused"); !errors.As(err, &refused) || refused.Status != 400 || err.Error() != "reason: say why" {
		t.Errorf("%v", err)
	}
	if _, err := Get[project](ctx, c, "/proxy"); !errors.As(err, &refused) || err.Error() != "502 Bad Gateway" {
		t.Errorf("%v", err)
	}
	var none *NoAnswer
	if _, err := Get[project](ctx, &Client{URL: "http://127.0.0.1:1"}, "/x"); !errors.As(err, &none) {
		t.Errorf("%v", err)
	}
	me, err := SignIn(ctx, Client{URL: s.URL}, "ida.holm@pinecrest.example", "secret", "demo", 7)
	var asked map[string]any
	if err != nil || me.Token != "glt_1" || json.Unmarshal([]byte(body), &asked) != nil || asked["name"] != "demo" {
		t.Errorf("%+v %v %s", me, err, body)
	}
}
