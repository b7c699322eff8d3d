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
}

// Stand says where the stop is written, and under which revision.
func (r *StopRecord) Stand(environment, revision int64) {
	r.EnvironmentID, r.Revision = environment, revision
}
