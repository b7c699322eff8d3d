package flag

import (
	"errors"
	"strings"
	"testing"
)

func TestPositions(t *testing.T) {
	secret := []byte("0123456789abcdef0123456789abcdef")
	p := Position{Epoch: 2, Revision: 417, At: 1_795_600_000_000, Digest: strings.Repeat("ab", 32)}
	p.Proof = p.Prove(secret, 7)
	again, err := ParsePosition(p.String())
	if err != nil || again != p || !again.Genuine(secret, 7) {
		t.Errorf("%+v %v", again, err)
	}
	for what, other := range map[string]Position{
		"epoch": {3, 417, p.At, p.Digest, p.Proof}, "revision": {2, 418, p.At, p.Digest, p.Proof},
		"time":   {2, 417, p.At + 1, p.Digest, p.Proof},
		"digest": {2, 417, p.At, strings.Repeat("ac", 32), p.Proof}, "proof": {2, 417, p.At, p.Digest,
			strings.Repeat("0", 32)}, "no proof": {2, 417, p.At, p.Digest, ""},
	} {
		if other.Genuine(secret, 7) {
			t.Errorf("%s altered, and genuine", what)
		}
	}
	if p.Genuine(secret, 8) || p.Genuine(secret[1:], 7) || p.Genuine(nil, 7) {
		t.Error("genuine in another environment, or under another secret")
	}
	if short, err := ParsePosition("2.417"); err != nil || short != (Position{Epoch: 2, Revision: 417}) ||
		short.String() != "2.417" {
		t.Errorf("%+v %v", short, err)
	}
	if none, err := ParsePosition(""); err != nil || none != (Position{}) {
		t.Errorf("%+v %v", none, err)
	}
	for _, bad := range []string{"x", "1", "1.x", "-1.2", "1.2.3", "1.2.3.4", "1.2.3.4.5.6",
		"1.2." + strings.Repeat("9", 300) + ".a.b", "99999999999999999999.1"} {
		if p, err := ParsePosition(bad); !errors.Is(err, ErrPosition) || p != (Position{}) {
			t.Errorf("%q: %+v %v", bad, p, err)
		}
	}
}
