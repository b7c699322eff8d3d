package stage

import (
	"fmt"
	"slices"
	"strings"

	"greenlever.example/core/evidence"
)

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
	t.lay()
	t.to(Arriving, tell)
	t.out.Serve = true
}

// lay fixes how wide the sides are at the stage that begins.
func (t *step) lay() {
	if len(t.Plan.Watches) == 0 {
		return
	}
	widths := t.Plan.Widths()
	if t.At > 0 && widths[t.At-1].Compares() && !widths[t.At].Compares() {
		t.Converted = t.now
	}
	t.Plan.Arms = nil
	for _, w := range widths[:t.At+1] {
		t.Plan.Arms = append(t.Plan.Arms, w.Old)
	}
}

// found is what the watches have found in the present run and stage; nil where that is not known.
func (t *step) found() *Found {
	if f := t.e.Facts; f != nil && f.Found != nil && t.At >= 0 && f.Found.Run == t.Run &&
		f.Found.Stage == t.At {
		return f.Found
	}
	return nil
}

// once tells whether something was not taken before in this run, and notes it.
func (t *step) once(what string) bool {
	if slices.Contains(t.Took, what) {
		return false
	}
	t.Took = append(slices.Clone(t.Took), what)
	return true
}

// watched does what the plan says comes of what the watches found. It tells whether the release stands otherwise.
func (t *step) watched() bool {
	f := t.found()
	if f == nil {
		return false
	}
	for _, h := range f.Harm {
		if !t.once(string(h.Reaction)) {
			continue
		}
		switch {
		case h.Reaction == evidence.RollBack:
			t.back()
			t.Why, t.Says = ByHarm, h.Says
			return true
		case h.Reaction == evidence.Hold && t.Is != Held:
			t.hold(ByHarm, h.Says)
			return true
		}
		t.out.Tell = FoundHarm
	}
	if t.Is == Held || t.Is == Through {
		return false
	}
	switch {
	case f.Ratio != "" && t.once("ratio"):
		t.hold(ByRatio, f.Ratio)
	case f.Blind != "" && t.once("blind "+t.Stage().Name):
		t.hold(ByBlind, f.Blind)
	default:
		return false
	}
	return true
}

// passes tells whether what the watches found lets the stage go on. What is not known lets nobody in.
func (t *step) passes() bool {
	if len(t.Plan.Watches) == 0 {
		return true
	}
	f := t.found()
	return f != nil && f.Blind == "" && (t.Stage().Until != UntilClear || f.Clear)
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
	t.anew()
}

// choose takes which of several new variants all get in the end.
func (t *step) choose() error {
	news := t.Plan.News()
	switch {
	case len(news) == 1 && (t.e.Give == "" || t.e.Give == t.Plan.To):
	case !slices.Contains(news, t.e.Give):
		return t.refuse("say which one all get: %s", strings.Join(news, " or "))
	default:
		t.Chosen = t.e.Give
	}
	return nil
}

// anew begins a new evidence run.
func (t *step) anew() {
	t.Run, t.RunBegan, t.Took = t.Run+1, t.now, nil
	if t.out.Tell == "" {
		t.out.Tell = Anew
	}
	if len(t.Plan.Watches) > 0 && t.At >= 0 && !t.Is.Over() {
		t.out.Serve = true // clients are to tell of all units again
	}
}

// common takes what is taken alike wherever a release has begun and is not over.
func (t *step) common() error {
	switch t.e.Do {
	case Hold:
		t.hold(ByPerson, t.e.Because)
	case RollBack:
		t.back()
		t.Why, t.Says = ByPerson, t.e.Because
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
		if err := t.choose(); err != nil {
			return err
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
	case t.watched():
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
	done := t.passed() >= s.Least && f.Units >= s.Units && t.passes()
	switch b := t.blocked(); {
	case t.watched():
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
		case t.watched():
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
			t.Why, t.Says = ByDecline, t.e.Because
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
	case Look: // whatever comes, it stays held, but that harm takes it back; and evidence may begin anew
		t.watched()
	case Hold:
		return t.refuse("it is held already")
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
	if b := t.blocked(); t.watched() {
	} else if b != nil {
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
