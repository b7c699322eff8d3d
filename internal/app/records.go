package app

import "encoding/json"

// What stands here are rows that changes write, where the row is no noun by itself.

// Lift takes stops back.
type Lift struct {
	IDs      []string
	By       string // id of the account
	At       int64  // Unix milliseconds
	Revision int64
}

// Stand says which revision lifts.
func (l *Lift) Stand(_, revision int64) { l.Revision = revision }

// RolesRecord is the roles of an account or a team in a project, and those that count in one environment alone; none
// takes it out.
type RolesRecord struct {
	ProjectID int64
	Account   string // or a team's id
	Team      bool
	Roles     []Role
	In        map[int64][]Role // by environment
}

// AttributeRecord is an attribute of a project's catalogue.
type AttributeRecord struct {
	ProjectID int64
	*Attribute
	Gone bool // taken out of it
}

// TestUnitRecord is a test unit of a project.
type TestUnitRecord struct {
	ProjectID int64
	*TestUnit
	Gone bool
}

// SamplingRecord says how an environment's population is sampled.
type SamplingRecord struct {
	EnvironmentID int64
	Off           bool
	Days          int
}

// AsksRecord is what an environment asks for besides a reason.
type AsksRecord struct {
	EnvironmentID int64
	OwnersOnly    bool
	Signing       Signing
}

// Erasure takes a unit out of an environment's population.
type Erasure struct {
	EnvironmentID int64  `json:"-"`
	Unit          string `json:"-"`
	Erased        int64  `json:"erased"` // rows; known once it is done
}

// ListRecord is a long list of a segment.
type ListRecord struct {
	ProjectID int64
	List      *ListBody
	Base      *ListBody // to which it is kept as the difference; nil: whole
	At        int64
}

// EmergencyKey is the public half of a new key that emergency orders are signed with.
type EmergencyKey struct{ Public string }

// EmergencyOrder is an emergency order that the records take.
type EmergencyOrder struct {
	EnvironmentID int64
	ID            string
	At            int64    // Unix milliseconds
	Lifts         []string // ids of stops
	Text          string   // as it travelled
}

// Stand says where the order is written.
func (o *EmergencyOrder) Stand(environment, _ int64) { o.EnvironmentID = environment }

// EpochRecord begins a new epoch.
type EpochRecord struct {
	At    int64 `json:"-"`
	Epoch int64 `json:"epoch"` // known once it is done
	Was   int64 `json:"-"`
}

// GoneRecord takes instances that fell silent off the list of the lost.
type GoneRecord struct {
	EnvironmentID   int64
	IDs             []string
	SilentSince, At int64
}

// ProjectTitle is another title of a project.
type ProjectTitle struct {
	ID    int64
	Title string
}

// SegmentTitle is another title of a segment.
type SegmentTitle struct {
	ProjectID int64
	Key       string
	Title     string
}

// SegmentDefinition is what a project owns of a segment.
type SegmentDefinition struct {
	ProjectID int64  `db:"project_id"`
	Key       string `db:"segment"`
	Title     string `db:"title"`
	Created   int64  `db:"created"`
}

// StateRecord is an environment's state; none where it is active.
type StateRecord struct {
	EnvironmentID int64            `db:"environment_id"`
	State         EnvironmentState `db:"state"`
	At            int64            `db:"at"`
	By            string           `db:"by_id"` // id of the account
}

// Inverses are what takes a change back of what a project owns, as changes in JSON, in the order in which they are
// made.
type Inverses struct {
	ProjectID int64
	Change    string
	At        int64
	Items     []json.RawMessage
}
