package flag

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Order is an emergency order: a stop, or a lift, of somebody who holds the installation's emergency key. It needs no
// records: whoever follows the environment can tell by the signature that it is genuine.
//
// It travels as a JWS in compact form (RFC 7515) with an Ed25519 signature (RFC 8037).
type Order struct {
	ID      string   `json:"id"` // the id of the stop that it is
	Of      string   `json:"of"` // project and environment, such as pinecrest/production
	Flags   []string `json:"flags,omitempty"`
	Lifts   []string `json:"lifts,omitempty"` // ids of stops; an order stops or lifts
	Reason  string   `json:"reason,omitempty"`
	Issued  int64    `json:"issued"`  // Unix milliseconds
	Expires int64    `json:"expires"` // until when a process of the service, or an outpost, accepts it

	Text string `json:"-"` // as it travels
}

// Emergency is what tells followers genuine orders from others.
type Emergency struct {
	Key string `json:"key"` // the public half, in base64url
	Of  string `json:"of"`  // what the environment is called in orders
}

// orderHeader is the whole of the protected header: nothing else is taken.
const orderHeader = `{"alg":"EdDSA","typ":"greenlever-order"}`

// Limits of orders.
const (
	MaxOrder     = 64 << 10                // bytes, as it travels
	MaxOrderLife = 7 * 24 * 60 * 60 * 1000 // milliseconds from issued to expires
	maxOrderOf   = 1_000                   // flags, or stops
	maxOrders    = 1_000                   // that are held before the service knows them
)

// Errors of orders.
var (
	// ErrOrder is returned for what is no order, or is not signed with the installation's key.
	ErrOrder = errors.New("this is no emergency order of this installation: it is signed with another key, or was " +
		"altered")
	// ErrNoKey is returned where the installation has no emergency key.
	ErrNoKey = errors.New("this installation has no emergency key: a keeper makes one with `greenlever emergency key`")
)

var b64 = base64.RawURLEncoding

// EmergencyKey is the public half of a key as [Emergency] has it.
func EmergencyKey(public ed25519.PublicKey) string { return b64.EncodeToString(public) }

// Check says what is wrong with what an order asks for; nil for nothing.
func (o *Order) Check() error {
	switch {
	case o.ID == "" || len(o.ID) > 36 || strings.ContainsAny(o.ID, " \t\r\n"):
		return errors.New("an emergency order needs an id of at most 36 characters")
	case strings.Count(o.Of, "/") != 1:
		return errors.New("an emergency order names a project and an environment, such as pinecrest/production")
	case (len(o.Flags) == 0) == (len(o.Lifts) == 0):
		return errors.New("an emergency order stops flags, or lifts stops")
	case len(o.Flags)+len(o.Lifts) > maxOrderOf || slices.Contains(o.Flags, "") || slices.Contains(o.Lifts, ""):
		return fmt.Errorf("an emergency order names 1 to %d flags or stops", maxOrderOf)
	case len(o.Reason) > 1_000:
		return errors.New("the reason of an emergency order has 1,000 bytes at most")
	case o.Issued <= 0 || o.Expires <= o.Issued || o.Expires-o.Issued > MaxOrderLife:
		return errors.New("an emergency order expires after it was issued, within seven days")
	}
	return nil
}

// Sign gives the order as it travels.
func (o *Order) Sign(key ed25519.PrivateKey) (string, error) {
	if err := o.Check(); err != nil {
		return "", err
	}
	body, err := json.Marshal(o)
	if err != nil {
		return "", err
	}
	signed := b64.EncodeToString([]byte(orderHeader)) + "." + b64.EncodeToString(body)
	text := signed + "." + b64.EncodeToString(ed25519.Sign(key, []byte(signed)))
	if len(text) > MaxOrder {
		return "", fmt.Errorf("the order has %d bytes, of at most %d: name fewer flags", len(text), MaxOrder)
	}
	return text, nil
}

// ReadOrder reads an order that is signed with the emergency's key and of its environment. Whether it may still be
// accepted, and whether it was taken before, is for the caller to say.
func ReadOrder(text string, by *Emergency) (*Order, error) {
	if by == nil || by.Key == "" {
		return nil, ErrNoKey
	}
	o, err := OrderBy(text, by.Key)
	if err != nil {
		return nil, err
	}
	if o.Of != by.Of {
		return nil, fmt.Errorf("this order is for %s, and this is %s", o.Of, by.Of)
	}
	return o, o.Check()
}

// OrderBy reads an order of whatever environment that is signed with a key. Whoever has not the key learns nothing by
// it. It returns [ErrOrder].
func OrderBy(text, key string) (*Order, error) {
	parts := strings.Split(text, ".")
	if len(parts) != 3 || len(text) > MaxOrder {
		return nil, ErrOrder
	}
	head, err := b64.Strict().DecodeString(parts[0])
	body, err1 := b64.Strict().DecodeString(parts[1])
	signature, err2 := b64.Strict().DecodeString(parts[2])
	public, err3 := b64.DecodeString(key)
	if err := errors.Join(err, err1, err2, err3); err != nil || string(head) != orderHeader ||
		len(public) != ed25519.PublicKeySize ||
		!ed25519.Verify(public, []byte(text[:len(text)-len(parts[2])-1]), signature) {
		return nil, ErrOrder
	}
	o := &Order{Text: text}
	if err := json.Unmarshal(body, o); err != nil {
		return nil, ErrOrder
	}
	return o, nil
}
