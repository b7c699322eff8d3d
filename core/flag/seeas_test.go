package flag

import (
	"bytes"
	"errors"
	"testing"
)

func TestSeeAs(t *testing.T) {
	seed, other := bytes.Repeat([]byte{7}, 32), bytes.Repeat([]byte{8}, 32)
	s := &SeeAs{ID: "1", By: "me", Variants: map[string]string{"one-touch-open": "on"}, Until: 1_000_000}
	token, err := s.Sign(seed)
	if err != nil {
		t.Fatal(err)
	}
	got, err := ReadSeeAs(token, SeeAsKey(seed), 999_999)
	if err != nil || got.Variants["one-touch-open"] != "on" || got.By != "me" {
		t.Fatalf("%+v %v", got, err)
	}
	for name, c := range map[string]struct {
		token, key string
		now        int64
		want       error
	}{
		"expired":        {token, SeeAsKey(seed), 1_000_000, ErrSeeAsExpired},
		"too long":       {token, SeeAsKey(seed), -MaxSeeAs, ErrSeeAsExpired},
		"another key":    {token, SeeAsKey(other), 5, ErrSeeAsForged},
		"no key":         {token, "", 5, ErrSeeAsForged},
		"changed":        {"x" + token, SeeAsKey(seed), 5, ErrSeeAsForged},
		"no signature":   {token[:20], SeeAsKey(seed), 5, ErrSeeAsForged},
		"nothing":        {"", SeeAsKey(seed), 5, ErrSeeAsForged},
		"a changed mark": {token[:len(token)-4] + "AAAA", SeeAsKey(seed), 5, ErrSeeAsForged},
	} {
		if _, err := ReadSeeAs(c.token, c.key, c.now); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
