package app

// StopRecord is a stop with who set it, and who lifted it if it was.
type StopRecord struct {
	ID             string   `json:"id"`
	EnvironmentID  int64    `json:"-"`
	Flags          []string `json:"flags"`
	By             string   `json:"by"`
	At             int64    `json:"at"`
	Reason         string   `json:"reason"`
	Revision       int64    `json:"revision"`
	LiftedBy       string   `json:"liftedBy,omitempty"`
	LiftedAt       int64    `json:"liftedAt,omitempty"`
	LiftedRevision int64    `json:"liftedRevision,omitempty"`
	// Later is a reason that was given after the stop, by whom, and when.
	Later   string `json:"later,omitempty"`
	LaterBy string `json:"laterBy,omitempty"`
	LaterAt int64  `json:"laterAt,omitempty"`
}

// Who stopped where no account did: by_id of stops and lifts.
const (
	ByOrder   = "emergency-order" // an emergency order
	ByKeeping = "kept"            // processes kept it over a restore of the records
)

// StopReason gives a stop its reason afterwards.
type StopReason struct {
	ID     string
	Reason string
	By     string // account id
	At     int64
}

// Stand says where the stop is written, and under which revision.
func (r *StopRecord) Stand(environment, revision int64) {
	r.EnvironmentID, r.Revision = environment, revision
}
