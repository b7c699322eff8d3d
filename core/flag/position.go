package flag

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Position is where a follower stands. Epoch and revision give the order; the digest says of
// whose history that revision is: after a restored backup two revisions may have one number.
// The proof lets the service trust what it has no record of any more.
type Position struct {
	Epoch    int64
	Revision int64
	At       int64  // Unix milliseconds of the revision
	Digest   string // of the revision's entry in the audit; empty: not known
	Proof    string // that a service of this installation gave this position
}

// Position is where a follower stands that applied the event.
func (e *Event) Position() Position {
	return Position{e.Epoch, e.Revision, e.At, e.Digest, e.Proof}
}

// ErrPosition is returned for a text that is no position.
var ErrPosition = errors.New("must be an event id as the feed gave it")

// String is the position as the id of an event: epoch.revision, and where they are known
// the rest of it.
func (p Position) String() string {
	if p.Proof == "" {
		return fmt.Sprintf("%d.%d", p.Epoch, p.Revision)
	}
	return fmt.Sprintf("%d.%d.%d.%s.%s", p.Epoch, p.Revision, p.At, p.Digest, p.Proof)
}

// ParsePosition reads what [Position.String] gives; no text is the position of knowing
// nothing. It returns [ErrPosition].
func ParsePosition(id string) (p Position, err error) {
	if id == "" {
		return p, nil
	}
	parts := strings.Split(id, ".")
	if len(parts) != 2 && len(parts) != 5 || len(id) > 250 {
		return p, ErrPosition
	}
	for i, into := range []*int64{&p.Epoch, &p.Revision, &p.At}[:min(3, len(parts))] {
		if *into, err = strconv.ParseInt(parts[i], 10, 64); err != nil || *into < 0 {
			return Position{}, ErrPosition
		}
	}
	if len(parts) == 5 {
		p.Digest, p.Proof = parts[3], parts[4]
	}
	return p, nil
}

// Prove gives the proof of a position in an environment under the installation's secret: an
// HMAC-SHA-256 (RFC 2104), cut to 128 bits, in hexadecimal.
func (p Position) Prove(secret []byte, environment int64) string {
	mac := hmac.New(sha256.New, secret)
	fmt.Fprintf(mac, "greenlever position\n%d\n%d\n%d\n%d\n%s\n", environment, p.Epoch, p.Revision, p.At, p.Digest)
	return hex.EncodeToString(mac.Sum(nil)[:16])
}

// Genuine tells whether a service of the installation gave this position.
func (p Position) Genuine(secret []byte, environment int64) bool {
	return p.Proof != "" && len(secret) > 0 && hmac.Equal([]byte(p.Proof), []byte(p.Prove(secret, environment)))
}
