package app

import (
	"greenlever.example/core/stage"
)

// Release takes a flag in an environment from one variant to another, in stages.
type Release struct {
	ID          string `json:"id"`
	Project     int64  `json:"-"`
	Environment int64  `json:"-"`
	Flag        string `json:"flag"`
	Owner       string `json:"owner"` // id of the account in whose right it acts
	Made        int64  `json:"made"`
	Ended       int64  `json:"ended,omitempty"`
	// Expected is what its owner hopes for, in their own words.
	Expected string `json:"expected,omitempty"`
	Reason   string `json:"reason,omitempty"`
	// After is the id of the release that it follows, whose units it takes first.
	After  string `json:"after,omitempty"`
	Ladder string `json:"ladder,omitempty"` // that its stages come from
	// Bundle is one whose flags are released in step with this one.
	Bundle string `json:"bundle,omitempty"`
	// Revision is that of its last step that moved the flag.
	Revision int64       `json:"revision,omitempty"`
	State    stage.State `json:"state"`
}

// Running tells whether the release is not over.
func (r *Release) Running() bool { return !r.State.Is.Over() }

// ReleaseStep is one thing that happened to a release.
type ReleaseStep struct {
	Release  string      `json:"-"`
	Sequence int64       `json:"sequence"`
	At       int64       `json:"at"`
	Revision int64       `json:"revision,omitempty"` // that it made; 0: none
	Moves    bool        `json:"-"`                  // it makes one
	Actor    Actor       `json:"actor"`
	Event    stage.Event `json:"event"`
	Tell     stage.Tell  `json:"tell"`
	Is       stage.Is    `json:"is"`     // where the release stood after it
	Stage    int         `json:"stage"`  // and at which stage
	Share    uint32      `json:"share"`  // that had the new variant, of those whom the release is for
	Change   string      `json:"change"` // id that its entries in the audit bear
}

// Stand tells the step its revision.
func (s *ReleaseStep) Stand(_, revision int64) {
	if s.Moves {
		s.Revision = revision
	}
}

// Stand tells the release the revision of a step that moves its flag.
func (r *ReleaseRecord) Stand(environment, revision int64) {
	r.Environment = environment
	if r.Moves {
		r.Release.Revision = revision
	}
}

// ReleaseRecord is a release as it will stand.
type ReleaseRecord struct {
	*Release
	Moves bool // the step before it made a revision
}

// LadderStage is a stage of a ladder. One that asks takes the units that are named at the start.
type LadderStage struct {
	stage.Stage
	Asks bool `json:"asks,omitempty"`
}

// Ladder is a saved order of stages, which a project owns.
type Ladder struct {
	Key     string        `json:"key"`
	Title   string        `json:"title"`
	Says    string        `json:"says"` // what it is for, in one sentence
	Stages  []LadderStage `json:"stages"`
	Shipped bool          `json:"shipped,omitempty"` // it came with the service, and was not edited since
}

// LadderRecord is a ladder that a project saved over a shipped one or beside them, or took away.
type LadderRecord struct {
	ProjectID int64
	*Ladder
	Gone bool
}

// ShippedLadders are those that every project has until it edits them or takes them away.
func ShippedLadders() []Ladder {
	hours := func(n int) stage.Span { return stage.Span(n) * 3_600_000 }
	share := func(name string, percent uint32, least stage.Span) LadderStage {
		return LadderStage{Stage: stage.Stage{Name: name, Share: percent * 10_000, Least: least}}
	}
	self := LadderStage{Stage: stage.Stage{Name: "self", Least: hours(1)}, Asks: true}
	return []Ladder{
		{Key: "careful", Title: "Careful", Shipped: true,
			Says: "First yourself, then small shares for a day each; somebody who may release signs before half.",
			Stages: []LadderStage{self, share("2 %", 2, hours(24)), share("8 %", 8, hours(24)),
				{Stage: stage.Stage{Name: "30 %", Share: 300_000, Least: hours(24), SignOff: []string{"releaser",
					"keeper"}}},
				share("65 %", 65, hours(24)), share("100 %", 100, hours(24))}},
		{Key: "in-a-day", Title: "In a day", Shipped: true,
			Says: "Shares that grow by themselves within a working day.",
			Stages: []LadderStage{share("2 %", 2, hours(1)), share("8 %", 8, hours(1)), share("30 %", 30, hours(2)),
				share("65 %", 65, hours(2)), share("100 %", 100, hours(1))}},
	}
}
