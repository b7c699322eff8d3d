package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"

	"greenlever.example/greenlever/internal/app"
)

// Argon2id (RFC 9106) with 19 MiB and two passes: slow enough for a stolen table, quick
// enough for a person.
const (
	memoryKiB = 19 * 1024
	passes    = 2
	lanes     = 1
	hashLen   = 32
)

// MinPassword and MaxPassword bound a password, in bytes.
const (
	MinPassword = 10
	MaxPassword = 200
)

// atATime limits how many passwords are worked on together, and with them the memory.
var atATime = make(chan struct{}, 2)

func work(ctx context.Context, password string, salt []byte) ([]byte, error) {
	select {
	case atATime <- struct{}{}:
		defer func() { <-atATime }()
	case <-ctx.Done():
		return nil, app.Faultf(app.TooMany, "too many people sign in at once: try again")
	}
	return argon2.IDKey([]byte(password), salt, passes, memoryKiB, lanes, hashLen), nil
}

func hashPassword(ctx context.Context, password string, about ...string) (string, error) {
	if len(password) < MinPassword || len(password) > MaxPassword {
		return "", app.InvalidField("password", "must be %d to %d bytes", MinPassword, MaxPassword)
	}
	if common(password, about) {
		return "", app.InvalidField("password", "is one that others guess first: take three or four words that do "+
			"not belong together")
	}
	salt := make([]byte, 16)
	rand.Read(salt) // never fails
	sum, err := work(ctx, password, salt)
	if err != nil {
		return "", err
	}
	return format(salt, sum), nil
}

// leastGuesses is how many guesses a password must stand, of those who know lists of
// passwords, names and words, and what stands on the keyboard beside what.
const leastGuesses = 1e6

// common tells whether a password stands on such lists, or is made of what is known of its owner.
func common(password string, about []string) bool {
	var known []string
	for _, a := range about {
		known = append(known, a)
		known = append(known, strings.FieldsFunc(a, func(r rune) bool { return strings.ContainsRune(" .@-_", r) })...)
	}
	return zxcvbn.PasswordStrength(password[:min(len(password), 60)], known).Guesses < leastGuesses
}

// format is the PHC string format.
func format(salt, sum []byte) string {
	b := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memoryKiB, passes, lanes,
		b.EncodeToString(salt), b.EncodeToString(sum))
}

// nobodysHash is worked on for addresses that have no account.
var nobodysHash = format(make([]byte, 16), make([]byte, hashLen))

func checkPassword(ctx context.Context, hash, password string) (bool, error) {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false, fmt.Errorf("a password's hash is malformed")
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false, fmt.Errorf("a password's hash is malformed")
	}
	if len(password) > MaxPassword {
		return false, nil
	}
	sum, err := work(ctx, password, salt)
	return err == nil && subtle.ConstantTimeCompare(sum, want) == 1, err
}
