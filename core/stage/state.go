package stage

import "greenlever.example/core/evidence"

// Is is where a release stands.
type Is string

// Where it can stand. The last three are ends.
const (
	Waiting    Is = "waiting"     // for its time to begin
	Arriving   Is = "arriving"    // a stage is on its way to all processes
	Underway   Is = "under-way"   // in a stage
	Asking     Is = "asking"      // for somebody to sign
	Held       Is = "held"        // until somebody has it go on
	Through    Is = "through"     // its last stage is done
	RolledBack Is = "rolled-back" // what it gave was taken back
	Finished   Is = "finished"    // what it gave is the flag's own
	Withdrawn  Is = "withdrawn"   // before it began
)

// All lists where a release can stand.
func All() []Is {
	return []Is{Waiting, Arriving, Underway, Asking, Held, Through, RolledBack, Finished, Withdrawn}
}

// Over tells whether that is an end.
func (is Is) Over() bool { return is == RolledBack || is == Finished || is == Withdrawn }

// State is a release while it goes.
type State struct {
	Plan     Plan  `json:"plan"`
	Sequence int64 `json:"sequence"` // how many events it has taken
	Is       Is    `json:"is"`
	Since    int64 `json:"since"` // since when it stands so, in Unix milliseconds
	At       int   `json:"at"`    // the stage that began last; -1 for none
	Began    int64 `json:"began"` // when that was
	// Counted is how much of the stage's time has passed, up to From, in milliseconds; time in which it
	// was held, or not delivered, is not in it. From is since when more counts; 0: it does not.
	Counted int64 `json:"counted"`
	From    int64 `json:"from,omitempty"`
	// Was is what it goes back to once it goes on, Why what holds it, and Says that in words.
	Was  Is     `json:"was,omitempty"`
	Why  Why    `json:"why,omitempty"`
	Says string `json:"says,omitempty"`
	// Late tells that it asks since the stage has taken its longest time.
	Late bool `json:"late,omitempty"`
	// Run is the number of its evidence run, which begins anew when others change what bears on it.
	Run      int    `json:"run"`
	RunBegan int64  `json:"runBegan"`
	Around   string `json:"around,omitempty"` // digest of what bears on it
	// Stops is the revision up to which stops were looked at.
	Stops int64 `json:"stops"`
	// Took are the reactions of its watches that were taken in this run, and what else was told of it once.
	Took []string `json:"took,omitempty"`
	// Compared is how many stages with two sides were planned at the start.
	Compared int `json:"compared,omitempty"`
	// Converted is when those who were kept to compare with were given the new variant, in Unix milliseconds.
	Converted int64 `json:"converted,omitempty"`
	// Outcome is what was said of it against what was expected, at its end.
	Outcome string `json:"outcome,omitempty"`
	// Chosen is the variant that all got in the end, of several that were new.
	Chosen string `json:"chosen,omitempty"`
}

// Why is what holds a release.
type Why string

// What can hold a release.
const (
	ByPerson   Why = "person"
	ByStop     Why = "stop"     // of the flag, or of one that it needs
	ByNeed     Why = "need"     // a flag that it needs gives something else
	ByLever    Why = "lever"    // the flag is off
	ByRight    Why = "right"    // its owner may not do this any more
	ByGate     Why = "gate"     // the environment does not let it, as in a freeze
	ByDelivery Why = "delivery" // the stage did not arrive in time
	ByTime     Why = "time"     // the stage took its longest time
	ByDecline  Why = "declined" // somebody declined to sign
	ByHarm     Why = "harm"     // a watch found harm
	ByRatio    Why = "ratio"    // the sides got units otherwise than the shares say
	ByBlind    Why = "blind"    // a watch has got no event
)

// Do is what happens to a release.
type Do string

// What can happen.
const (
	Look     Do = "look"      // time has passed: see [Facts]
	Hold     Do = "hold"      // somebody holds it
	GoOn     Do = "go-on"     // somebody has it go on as it was
	Next     Do = "next"      // somebody begins the next stage now
	RollBack Do = "roll-back" // somebody takes back what it gave
	Finish   Do = "finish"    // somebody makes what it gave the flag's own
	Sign     Do = "sign"      // somebody signs that it may go on
	Decline  Do = "decline"
	Edit     Do = "edit" // somebody changes the stages to come
)

// Started is the event with which a release begins, which no state takes.
const Started Do = "start"

// Deeds lists what can happen.
func Deeds() []Do { return []Do{Look, Hold, GoOn, Next, RollBack, Finish, Sign, Decline, Edit} }

// Event is something that happens to a release.
type Event struct {
	Do      Do       `json:"do"`
	Because string   `json:"because,omitempty"`
	Roles   []string `json:"roles,omitempty"`  // of who signs or declines
	Facts   *Facts   `json:"facts,omitempty"`  // with look; with others only what holds
	Stages  []Stage  `json:"stages,omitempty"` // with edit: all of them
	// with edit: all of them; nil: as they were
	Watches *[]evidence.Watch `json:"watches,omitempty"`
	Drop    []string          `json:"drop,omitempty"`    // with finish: ids of rules that go
	Outcome string            `json:"outcome,omitempty"` // with finish
	Give    string            `json:"give,omitempty"`    // with finish, of several new variants: the one for all
}

// Facts are what was found where the release goes.
type Facts struct {
	Arrived int     `json:"arrived"` // processes that have the newest step
	Of      int     `json:"of"`      // processes that should
	Units   int64   `json:"units"`   // seen in this stage with the new variant
	Blocks  []Block `json:"blocks,omitempty"`
	Closed  bool    `json:"closed,omitempty"` // it is outside the plan's hours, or in a freeze
	Frozen  string  `json:"frozen,omitempty"` // why the environment is frozen; empty where it is not
	Thaws   int64   `json:"thaws,omitempty"`  // when that is over, in Unix milliseconds
	Behind  string  `json:"behind,omitempty"` // a flag that is released in step with this one, and is not as far
	Around  string  `json:"around,omitempty"` // digest of what bears on it
	Edited  string  `json:"edited,omitempty"` // the same digest with the stages that an edit gives
	Changed string  `json:"changed,omitempty"`
	Stops   int64   `json:"stops,omitempty"` // revision up to which stops were looked at
	Found   *Found  `json:"found,omitempty"` // by its watches
}

// Found is what the watches of a release have found in an evidence run.
type Found struct {
	Run   int        `json:"run"`
	Stage int        `json:"stage"`           // that it was looked at for
	Harm  []HarmDone `json:"harm,omitempty"`  // the strongest reaction first
	Ratio string     `json:"ratio,omitempty"` // that the sides got units otherwise than the shares say
	Blind string     `json:"blind,omitempty"` // which watch got no event
	Clear bool       `json:"clear,omitempty"` // every watch found the stage clear
	Says  string     `json:"says,omitempty"`  // of all watches, in a sentence each
	Short string     `json:"short,omitempty"` // of all together, in a few words
}

// HarmDone is harm that a watch found.
type HarmDone struct {
	Reaction evidence.Reaction `json:"reaction"`
	Metric   string            `json:"metric"`
	Says     string            `json:"says"`
}

// Block is something that keeps a release from going on.
type Block struct {
	Why  Why    `json:"why"`
	Says string `json:"says"`
}

// Tell is what people are told of a step.
type Tell string

// What they are told.
const (
	Began      Tell = "began"
	StageBegan Tell = "stage"
	Arrived    Tell = "arrived"
	Asks       Tell = "asks"
	IsHeld     Tell = "held"
	WentOn     Tell = "went-on"
	IsThrough  Tell = "through"
	TookBack   Tell = "rolled-back"
	IsFinished Tell = "finished"
	TookOff    Tell = "withdrawn"
	Edited     Tell = "edited"
	Anew       Tell = "run" // a new evidence run
	Planned    Tell = "planned"
	FoundHarm  Tell = "harm" // a watch found harm, which is only told
)

// Tells are all of them.
var Tells = []Tell{Began, StageBegan, Arrived, Asks, IsHeld, WentOn, IsThrough, TookBack, IsFinished, TookOff, Edited,
	Anew, Planned, FoundHarm}

// Effects are what a step does outside.
type Effects struct {
	Serve  bool // the flag's rules hold the group of the state's stage
	Remove bool // its group is taken out
	Fold   bool // the flag is folded: see [Plan.Fold]
	Tell   Tell // what people are told; empty: nothing happened
}

// Refused is the error of an event that cannot be taken.
type Refused struct {
	Is   Is
	Do   Do
	Says string
}

func (r *Refused) Error() string { return r.Says }

// Begin is a release that has just been planned.
func Begin(p Plan, around string, stops, now int64) State {
	s := State{Plan: p, Is: Waiting, Since: now, At: -1, Run: 1, RunBegan: now, Around: around, Stops: stops,
		Sequence: 1}
	if len(p.Watches) > 0 {
		s.Compared = p.Compared()
	}
	return s
}
