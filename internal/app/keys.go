package app

// KeyKind is what an access key may do.
type KeyKind string

// The kinds: a service key may follow whole rulesets, a browser key gets answers only, an ingest key sends
// measurements and gets nothing.
const (
	ServiceKey KeyKind = "service"
	BrowserKey KeyKind = "browser"
	IngestKey  KeyKind = "ingest"
)

// AccessKey is a credential of software, bound to one environment.
type AccessKey struct {
	ID            string  `json:"id" db:"id"`
	EnvironmentID int64   `json:"-" db:"environment_id"`
	Kind          KeyKind `json:"kind" db:"kind"`
	Purpose       string  `json:"purpose" db:"purpose"`
	Hint          string  `json:"hint" db:"hint"` // the first characters of the secret
	Digest        []byte  `json:"-" db:"digest"`
	Created       int64   `json:"created" db:"created"`
	Revoked       int64   `json:"revoked,omitempty" db:"revoked"`
	Origins       Texts   `json:"origins,omitempty" db:"origins"` // of pages that may use a browser key; none: any
}
