package stage

import (
	"fmt"
	"slices"
)

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
	// Outcome is what was said of it against what was expected, at its end.
	Outcome string `json:"outcome,omitempty"`
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

// Deeds lists what can happen.
func Deeds() []Do { return []Do{Look, Hold, GoOn, Next, RollBack, Finish, Sign, Decline, Edit} }

// Event is something that happens to a release.
type Event struct {
	Do      Do       `json:"do"`
	Because string   `json:"because,omitempty"`
	Roles   []string `json:"roles,omitempty"`   // of who signs or declines
	Facts   *Facts   `json:"facts,omitempty"`   // with look; with others only what holds
	Stages  []Stage  `json:"stages,omitempty"`  // with edit: all of them
	Drop    []string `json:"drop,omitempty"`    // with finish: ids of rules that go
	Outcome string   `json:"outcome,omitempty"` // with finish
}

// Facts are what was found where the release goes.
type Facts struct {
	Arrived int     `json:"arrived"` // processes that have the newest step
	Of      int     `json:"of"`      // processes that should
	Units   int64   `json:"units"`   // seen in this stage with the new variant
	Blocks  []Block `json:"blocks,omitempty"`
	Closed  bool    `json:"closed,omitempty"` // it is outside the plan's hours
	Around  string  `json:"around,omitempty"` // digest of what bears on it
	Changed string  `json:"changed,omitempty"`
	Stops   int64   `json:"stops,omitempty"` // revision up to which stops were looked at
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
)

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
	return State{Plan: p, Is: Waiting, Since: now, At: -1, Run: 1, RunBegan: now, Around: around, Stops: stops,
		Sequence: 1}
}

var takes = map[Is]func(*step) error{Waiting: (*step).waiting, Arriving: (*step).arriving,
	Underway: (*step).underway, Asking: (*step).asking, Held: (*step).held, Through: (*step).through,
	RolledBack: (*step).over, Finished: (*step).over, Withdrawn: (*step).over}

// Step takes an event. Where nothing comes of it the state is the one that was given, and the effects
// tell nothing. The error is a [*Refused].
func Step(s State, e Event, now int64) (State, Effects, error) {
	t := &step{State: s, e: &e, now: now}
	take := takes[s.Is]
	if take == nil {
		return s, Effects{}, fmt.Errorf("a release cannot stand at %q", s.Is)
	}
	if err := take(t); err != nil {
		return s, Effects{}, err
	}
	if t.out.Tell == "" {
		return s, Effects{}, nil
	}
	t.Sequence++
	return t.State, t.out, nil
}

// step is an event while it is taken.
type step struct {
	State
	e   *Event
	now int64
	out Effects
}

// refuse says why the event cannot be taken here.
func (t *step) refuse(format string, args ...any) error {
	return &Refused{t.Is, t.e.Do, fmt.Sprintf(format, args...)}
}

// to has the release stand somewhere else.
func (t *step) to(is Is, tell Tell) {
	t.Is, t.Since, t.out.Tell, t.Late = is, t.now, tell, false
	if is != Held {
		t.Was, t.Why, t.Says = "", "", ""
	}
}

// pause ends the time that counts.
func (t *step) pause() {
	if t.From > 0 {
		t.Counted, t.From = t.Counted+max(0, t.now-t.From), 0
	}
}

// passed is how much of the stage's time has passed.
func (t *step) passed() Span { return t.State.Passed(t.now) }

// Passed is how much of the present stage's time has passed.
func (s *State) Passed(now int64) Span {
	if s.From == 0 {
		return Span(s.Counted)
	}
	return Span(s.Counted + max(0, now-s.From))
}

// Stage is the present stage; nil before the first.
func (s *State) Stage() *Stage {
	if s.At < 0 || s.At >= len(s.Plan.Stages) {
		return nil
	}
	return &s.Plan.Stages[s.At]
}

// Last tells whether no stage comes after the present one.
func (s *State) Last() bool { return s.At == len(s.Plan.Stages)-1 }

// begin begins the next stage.
func (t *step) begin() {
	tell := StageBegan
	if t.At < 0 {
		t.At, tell = t.Plan.First-1, Began
	}
	t.pause()
	t.At, t.Began, t.Counted = t.At+1, t.now, 0
	t.to(Arriving, tell)
	t.out.Serve = true
}

func (t *step) hold(why Why, says string) {
	was := t.Is
	t.pause()
	t.to(Held, IsHeld)
	t.Was, t.Why, t.Says = was, why, says
}

func (t *step) back() {
	t.pause()
	t.to(RolledBack, TookBack)
	t.out.Remove = true
}

// blocked is what keeps it from going on; nil for nothing.
func (t *step) blocked() *Block {
	if t.e.Facts == nil || len(t.e.Facts.Blocks) == 0 {
		return nil
	}
	return &t.e.Facts.Blocks[0]
}

// note takes over what was found, and begins a new evidence run where others changed what bears on it.
func (t *step) note() {
	f := t.e.Facts
	if f == nil {
		return
	}
	t.Stops = max(t.Stops, f.Stops)
	if f.Around == "" || f.Around == t.Around {
		return
	}
	was := t.Around
	t.Around = f.Around
	if was == "" { // it was never looked at
		return
	}
	t.Run, t.RunBegan = t.Run+1, t.now
	if t.out.Tell == "" {
		t.out.Tell = Anew
	}
}

// common takes what is taken alike wherever a release has begun and is not over.
func (t *step) common() error {
	switch t.e.Do {
	case Hold:
		t.hold(ByPerson, t.e.Because)
	case RollBack:
		t.back()
	case Next:
		if t.Last() {
			return t.refuse("it is in its last stage: finish it, or plan more stages")
		}
		if b := t.blocked(); b != nil {
			return t.refuse("%s", b.Says)
		}
		t.begin()
	case Edit:
		return t.edit()
	case Finish:
		if t.At < 0 {
			return t.refuse("nothing of it has begun: withdraw it with a roll back")
		}
		if b := t.blocked(); b != nil {
			return t.refuse("%s", b.Says)
		}
		t.pause()
		t.to(Finished, IsFinished)
		t.Outcome, t.out.Fold = t.e.Outcome, true
	case GoOn:
		return t.refuse("it is not held: it goes on by its plan")
	case Sign, Decline:
		return t.refuse("it asks nobody to sign now")
	default:
		return t.refuse("%q is nothing that happens to a release", t.e.Do)
	}
	t.note()
	return nil
}

func (t *step) waiting() error {
	switch t.e.Do {
	case Look:
		if t.e.Facts == nil || t.now < t.Plan.Begin || t.e.Facts.Closed || t.blocked() != nil {
			return nil // what is in the way may go before its time comes
		}
		t.begin()
		t.note()
		return nil
	case RollBack:
		t.to(Withdrawn, TookOff)
		return nil
	}
	return t.common()
}

func (t *step) arriving() error {
	f := t.e.Facts
	if t.e.Do != Look {
		return t.common()
	}
	switch b := t.blocked(); {
	case f == nil:
	case b != nil:
		t.hold(b.Why, b.Says)
	case t.delivered():
		t.to(Underway, Arrived)
		t.From = t.now
	case Span(t.now-t.Since) > t.Plan.Delivery.wait():
		t.hold(ByDelivery, fmt.Sprintf("the stage arrived at %d of %d processes within %s", f.Arrived, f.Of,
			t.Plan.Delivery.wait().Words()))
	}
	t.note()
	return nil
}

// delivered tells whether enough processes have the step.
func (t *step) delivered() bool {
	f := t.e.Facts
	return f.Arrived*100 >= f.Of*t.Plan.Delivery.percent()
}

func (t *step) underway() error {
	if t.e.Do != Look {
		return t.common()
	}
	f, s := t.e.Facts, t.Stage()
	if f == nil {
		return nil
	}
	done := t.passed() >= s.Least && f.Units >= s.Units
	switch b := t.blocked(); {
	case b != nil:
		t.hold(b.Why, b.Says)
	case done && len(s.SignOff) > 0:
		t.to(Asking, Asks)
	case done && t.Last():
		t.pause()
		t.to(Through, IsThrough)
	case done && !f.Closed:
		t.begin()
	case !done && s.Longest > 0 && t.passed() >= s.Longest:
		t.late()
	}
	t.note()
	return nil
}

// late does what the plan says comes after a stage's longest time.
func (t *step) late() {
	s := t.Stage()
	says := fmt.Sprintf("stage %q took its longest time, %s", s.Name, s.Longest.Words())
	switch s.then() {
	case ThenBack:
		t.back()
		t.Says = says
	case ThenAsk:
		t.to(Asking, Asks)
		t.Late = true
	default:
		t.hold(ByTime, says)
	}
}

func (t *step) asking() error {
	s := t.Stage()
	switch t.e.Do {
	case Look:
		switch b := t.blocked(); {
		case t.e.Facts == nil:
		case b != nil:
			t.hold(b.Why, b.Says)
		case !t.Late && s.Longest > 0 && t.passed() >= s.Longest && s.then() != ThenAsk:
			t.late()
		}
	case Sign, Decline:
		if len(s.SignOff) > 0 && !slices.ContainsFunc(t.e.Roles, func(r string) bool {
			return slices.Contains(s.SignOff, r)
		}) {
			return t.refuse("this is for one of the roles %v to sign", s.SignOff)
		}
		if b := t.blocked(); b != nil && t.e.Do == Sign {
			return t.refuse("%s", b.Says)
		}
		switch {
		case t.e.Do == Decline && s.Declined == ThenBack:
			t.back()
		case t.e.Do == Decline:
			t.hold(ByDecline, t.e.Because)
			t.Was = Underway // what it asked for was answered: going on asks again
		case t.Last():
			t.pause()
			t.to(Through, IsThrough)
		default:
			t.begin()
		}
	default:
		return t.common()
	}
	t.note()
	return nil
}

func (t *step) held() error {
	switch t.e.Do {
	case Look: // whatever comes, it stays held; only evidence begins anew
	case Hold:
		return t.refuse("it is held already, since %s", t.Says)
	case RollBack:
		if t.At < 0 {
			t.to(Withdrawn, TookOff)
			return nil
		}
		return t.common()
	case GoOn:
		if b := t.blocked(); b != nil {
			return t.refuse("%s", b.Says)
		}
		was := t.Was
		t.to(was, WentOn)
		if was == Underway || was == Asking {
			t.From = t.now
		}
	default:
		return t.common()
	}
	t.note()
	return nil
}

func (t *step) through() error {
	if t.e.Do != Look {
		return t.common()
	}
	if b := t.blocked(); b != nil {
		t.hold(b.Why, b.Says)
	}
	t.note()
	return nil
}

func (t *step) over() error {
	if t.e.Do == Look {
		return nil
	}
	return t.refuse("it is over: start a new one, which takes the same units first")
}

// edit changes the stages to come. What has begun keeps whom it is for.
func (t *step) edit() error {
	if problems := CheckStages("stages", t.e.Stages); len(problems) > 0 {
		return t.refuse("%s", problems[0])
	}
	if len(t.e.Stages) <= t.At || len(t.e.Stages) == 0 {
		return t.refuse("stages that have begun cannot be taken out")
	}
	for i := 0; i <= t.At; i++ {
		old, now := &t.Plan.Stages[i], &t.e.Stages[i]
		if old.Name != now.Name || old.Share != now.Share || (old.Who == nil) != (now.Who == nil) ||
			!old.Who.Equal(now.Who) {
			return t.refuse("stage %q has begun: whom it is for cannot be edited", old.Name)
		}
	}
	if t.At < 0 && t.Plan.First >= len(t.e.Stages) {
		return t.refuse("it was to begin with stage %d, which is not there any more", t.Plan.First+1)
	}
	again := t.Is == Through && len(t.e.Stages) > len(t.Plan.Stages)
	t.Plan.Stages = slices.Clone(t.e.Stages)
	t.out.Tell = Edited
	if again {
		t.to(Underway, Edited)
		t.From = t.now
	}
	t.out.Serve = t.At >= 0 && t.Plan.OldArm // the old arm leaves room for what is planned
	t.note()
	return nil
}
