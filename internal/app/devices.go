package app

// DeviceState is how it stands with a program that waits to be let in.
type DeviceState int

// The states.
const (
	DeviceAsked DeviceState = iota
	DeviceAllowed
	DeviceRefused
)

// DeviceAsk is a program that waits for somebody to let it in, as RFC 8628 has it.
type DeviceAsk struct {
	Digest  []byte      `db:"digest" json:"-"`        // of the program's own code
	Code    string      `db:"user_code" json:"code"`  // that both sides show
	Name    string      `db:"name" json:"name"`       // what it says of itself
	Address string      `db:"address" json:"address"` // from where it asked
	Created int64       `db:"created" json:"created"` // Unix milliseconds
	Expires int64       `db:"expires" json:"expires"`
	Polled  int64       `db:"polled" json:"-"`
	State   DeviceState `db:"state" json:"-"`
	Account string      `db:"account_id" json:"-"` // that lets it in
}
