package app

// DrillKind tells drills apart.
type DrillKind string

// The kinds.
const (
	Rehearsal DrillKind = "rehearsal" // nothing is stopped; how long a stop would take is measured
	Practice  DrillKind = "practice"  // a flag that is there for practice is stopped
	Reminder  DrillKind = "reminder"  // none, but that webhooks were told what was not practised
)

// PracticeTag marks flags that are there for practice.
const PracticeTag = "practice"

// Drill is a stop that was practised.
type Drill struct {
	ID            string    `json:"id"`
	EnvironmentID int64     `json:"-"`
	Kind          DrillKind `json:"kind"`
	Flags         []string  `json:"flags"`
	Tripwire      string    `json:"tripwire,omitempty"` // whose alert was rehearsed
	Stop          string    `json:"stop,omitempty"`     // of a practice stop
	By            string    `json:"by,omitempty"`       // account id
	At            int64     `json:"at"`                 // Unix milliseconds
	Reason        string    `json:"reason,omitempty"`
	Revision      int64     `json:"revision,omitempty"` // that was delivered
}

// Stand says where the drill is written, and under which revision; a reminder makes none.
func (d *Drill) Stand(environment, revision int64) {
	d.EnvironmentID = environment
	if d.Kind != Reminder {
		d.Revision = revision
	}
}
