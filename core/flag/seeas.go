package flag

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// SeeAs is the override "see it as": variants by flag for one's own session, for a short
// time. It touches no rule.
type SeeAs struct {
	ID       string            `json:"id"`
	By       string            `json:"by"` // account
	Variants map[string]string `json:"variants"`
	Until    int64             `json:"until"` // Unix milliseconds
}

// Names under which an override travels in a request.
const (
	SeeAsHeader = "Greenlever-See-As"
	SeeAsCookie = "greenlever_see_as"
)

// Limits of an override.
const (
	MaxSeeAs      = 8 * 3_600_000 // milliseconds
	maxSeeAsToken = 4 << 10       // bytes
)

// Errors of overrides.
var (
	ErrSeeAsForged  = errors.New("the override is not signed with this environment's key")
	ErrSeeAsExpired = errors.New("the override has expired: get a new one")
)

// SeeAsKey is the public half of a key that overrides are signed with, as a [Snapshot] carries it.
func SeeAsKey(seed []byte) string {
	return base64.RawURLEncoding.EncodeToString(ed25519.NewKeyFromSeed(seed).Public().(ed25519.PublicKey))
}

// Sign gives the override as a token: its JSON and an Ed25519 signature, each in
// base64url, joined by a point.
func (s *SeeAs) Sign(seed []byte) (string, error) {
	body, err := json.Marshal(s)
	if err != nil {
		return "", err
	}
	payload := base64.RawURLEncoding.EncodeToString(body)
	sum := ed25519.Sign(ed25519.NewKeyFromSeed(seed), []byte(payload))
	return payload + "." + base64.RawURLEncoding.EncodeToString(sum), nil
}

// ReadSeeAs reads a token and checks it against the environment's key and the time, in
// Unix milliseconds. It returns [ErrSeeAsForged] and [ErrSeeAsExpired].
func ReadSeeAs(token, key string, now int64) (*SeeAs, error) {
	payload, sum, ok := strings.Cut(token, ".")
	public, err1 := base64.RawURLEncoding.DecodeString(key)
	signature, err2 := base64.RawURLEncoding.DecodeString(sum)
	if !ok || len(token) > maxSeeAsToken || err1 != nil || err2 != nil || len(public) != ed25519.PublicKeySize ||
		!ed25519.Verify(public, []byte(payload), signature) {
		return nil, ErrSeeAsForged
	}
	body, err := base64.RawURLEncoding.DecodeString(payload)
	if err != nil {
		return nil, ErrSeeAsForged
	}
	var s SeeAs
	if err := json.Unmarshal(body, &s); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSeeAsForged, err)
	}
	if now >= s.Until || s.Until-now > MaxSeeAs+60_000 {
		return nil, ErrSeeAsExpired
	}
	return &s, nil
}
