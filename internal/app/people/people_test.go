package people

import (
	"context"
	"strings"
	"testing"
)

func TestPasswords(t *testing.T) {
	ctx := context.Background()
	hash, err := hashPassword(ctx, "a long enough one")
	if err != nil || !strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$") {
		t.Fatalf("%s %v", hash, err)
	}
	if again, _ := hashPassword(ctx, "a long enough one"); again == hash {
		t.Error("two hashes of one password are alike")
	}
	for password, want := range map[string]bool{"a long enough one": true, "a long enough On": false, "": false,
		strings.Repeat("x", 5000): false} {
		if ok, err := checkPassword(ctx, hash, password); ok != want || err != nil {
			t.Errorf("%.20q: %t %v", password, ok, err)
		}
	}
	for _, bad := range []string{"", "short", strings.Repeat("x", MaxPassword+1)} {
		if _, err := hashPassword(ctx, bad); err == nil {
			t.Errorf("%.20q is taken", bad)
		}
	}
	for _, broken := range []string{"", "x", "$argon2id$v=19$m=1$!$!"} {
		if ok, err := checkPassword(ctx, broken, "x"); ok || err == nil {
			t.Errorf("hash %q: %t %v", broken, ok, err)
		}
	}
	if ok, err := checkPassword(ctx, nobodysHash, "anything"); ok || err != nil {
		t.Errorf("nobody's hash: %t %v", ok, err)
	}
}

// Only a few passwords are worked on at a time; who waits too long is told to try again.
func TestPasswordsAreLimited(t *testing.T) {
	for range cap(atATime) {
		atATime <- struct{}{}
	}
	defer func() {
		for range cap(atATime) {
			<-atATime
		}
	}()
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := hashPassword(ctx, "a long enough one"); err == nil || !strings.Contains(err.Error(), "try again") {
		t.Error(err)
	}
}

func TestSecrets(t *testing.T) {
	a, b := NewSecret(), NewSecret()
	if a == b || len(a) != 32 || string(Digest(a)) == string(Digest(b)) || len(Digest(a)) != 32 {
		t.Errorf("%q %q", a, b)
	}
}
