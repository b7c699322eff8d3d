package commit

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"greenlever.example/core/flag"
	"greenlever.example/core/merge"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/strictjson"
)

// Change is one thing that is to be changed, as a value: it can be written as JSON and read
// again, and done then or later, alone or together with others.
type Change struct {
	In       In      // where
	Of       string  // what there: the key of a flag, the id of an access key; empty where In says it all
	Versions []int64 // that the author has seen, of which one must be the present one
	Do       any     // what: a pointer to what a [Kind] takes, such as *flags.Put
	Aside    bool    // done along with another change; what it gives is not answered
}

// In is a project, or an environment in it; neither is the installation as a whole.
type In struct {
	Project     *app.Project
	Environment *app.Environment
}

// Span is how far a kind of change reaches, and so what is held while it is made.
type Span int

// The spans.
const (
	Installation Span = iota
	Project           // what the project owns
	Environments      // the project and all of its environments
	Environment       // one environment
)

// Kind is a kind of change: what it is called where it is written down, and what it takes.
type Kind struct {
	Name    string     // such as flag.put
	Says    string     // what it does
	Action  app.Action // that it takes; empty: something of the installation
	Span    Span
	Guarded bool // see admit.Case
	Moves   bool // see admit.Case
	OfFlag  bool // changes the targeting of the flag whose key it is of
	Reopens bool // see admit.Case
	Queued  bool // waits behind others of its project, so that a stop does not
	Insists bool // is tried until the caller's deadline, whatever breaks
	Owns    bool // is the release's own: it may change the rules that one owns
	Signs   bool // takes the signatures that an environment wants: see admit.Case
	Alone   bool // cannot be proposed, since what it answers is for who asks, or since it is no use later
	Inner   bool // of the service itself: nobody asks for it, so it needs no right and has no text

	value   reflect.Type
	prepare func(ctx context.Context, m *Moment, do any) (*Effects, error)
	hold    func(m *Moment) (*app.Environment, error) // in place of the usual way
	takes   func(m *Moment, do any) app.Action
	stands  func(ctx context.Context, m *Moment) (version int64, present func() any, err error)
}

// Of makes a kind of changes. prepare finds out what the change would do, and does nothing: it
// may be called again, and must leave do as it is.
func Of[T any](k Kind, prepare func(ctx context.Context, m *Moment, do *T) (*Effects, error)) *Kind {
	k.value = reflect.TypeFor[T]()
	k.prepare = func(ctx context.Context, m *Moment, do any) (*Effects, error) { return prepare(ctx, m, do.(*T)) }
	return &k
}

// Holding has the kind hold its environment by a function of its own, which may read on the way
// what prepare needs: see [Moment.Held].
func (k *Kind) Holding(hold func(m *Moment) (*app.Environment, error)) *Kind {
	k.hold = hold
	return k
}

// Taking has the right that a change takes hang on what it is, as soon as its environment is held.
func Taking[T any](k *Kind, takes func(m *Moment, do *T) app.Action) *Kind {
	k.takes = func(m *Moment, do any) app.Action { return takes(m, do.(*T)) }
	return k
}

// Standing reads what stands where the change is made: its version, which the author must have
// seen, and what is shown to one who has not. It is asked once the author is known to have the
// right, and before anything else that could refuse; what it reads it may keep in [Moment.Held].
func (k *Kind) Standing(stands func(ctx context.Context, m *Moment) (version int64, present func() any,
	err error)) *Kind {
	k.stands = stands
	return k
}

// Kinds are the kinds of changes that there are.
type Kinds struct {
	byName map[string]*Kind
	byType map[reflect.Type]*Kind
}

// NewKinds gathers kinds.
func NewKinds(all ...[]*Kind) *Kinds {
	k := &Kinds{map[string]*Kind{}, map[reflect.Type]*Kind{}}
	for _, some := range all {
		for _, kind := range some {
			if k.byName[kind.Name] != nil || k.byType[kind.value] != nil {
				panic("two kinds of changes are called " + kind.Name + ", or take the same")
			}
			k.byName[kind.Name], k.byType[kind.value] = kind, kind
		}
	}
	return k
}

// All lists the kinds by name.
func (k *Kinds) All() []*Kind {
	var out []*Kind
	for _, kind := range k.byName {
		out = append(out, kind)
	}
	slices.SortFunc(out, func(a, b *Kind) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// of finds the kind of a change.
func (k *Kinds) of(c Change) (*Kind, error) {
	if t := reflect.TypeOf(c.Do); t != nil && t.Kind() == reflect.Pointer && k.byType[t.Elem()] != nil {
		return k.byType[t.Elem()], nil
	}
	return nil, fmt.Errorf("%T is no kind of change", c.Do)
}

// written is a change as JSON. With is what the API's route of the change takes as its body.
type written struct {
	Do          string          `json:"do"`
	Project     string          `json:"project,omitempty"`
	Environment string          `json:"environment,omitempty"`
	Of          string          `json:"of,omitempty"`
	Versions    []int64         `json:"versions,omitempty"`
	With        json.RawMessage `json:"with"`
}

// Write gives a change as JSON.
func (k *Kinds) Write(c Change) (json.RawMessage, error) {
	kind, err := k.of(c)
	if err != nil {
		return nil, err
	}
	if kind.Inner {
		return nil, fmt.Errorf("%s is the service's own, and is not written down", kind.Name)
	}
	w := written{Do: kind.Name, Of: c.Of, Versions: c.Versions}
	if c.In.Project != nil {
		w.Project = c.In.Project.Key
	}
	if c.In.Environment != nil {
		w.Environment = c.In.Environment.Key
	}
	if w.With, err = json.Marshal(c.Do); err != nil {
		return nil, err
	}
	return json.Marshal(w)
}

// Finder finds a project and, unless the key is empty, an environment of it.
type Finder func(ctx context.Context, project, environment string) (*app.Project, *app.Environment, error)

// Read reads a change from JSON. The error is a Fault that names what is wrong with the text.
func (k *Kinds) Read(ctx context.Context, raw []byte, find Finder) (Change, error) {
	return k.read(ctx, raw, find, strictjson.Decode)
}

// ReadShown reads a change that comes from outside: its texts are shown to people, and hold nothing that hides.
func (k *Kinds) ReadShown(ctx context.Context, raw []byte, find Finder) (Change, error) {
	return k.read(ctx, raw, find, func(raw []byte, into any) []flag.Problem {
		return strictjson.DecodeShown(raw, into, app.CheckShown)
	})
}

func (k *Kinds) read(ctx context.Context, raw []byte, find Finder,
	decode func(raw []byte, into any) []flag.Problem) (c Change, err error) {
	var w written
	if problems := decode(raw, &w); problems != nil {
		return c, app.InvalidFields(problems)
	}
	kind := k.byName[w.Do]
	if kind == nil || kind.Inner {
		return c, app.InvalidField("do", "%q is no kind of change", w.Do)
	}
	do := reflect.New(kind.value)
	if problems := decode(w.With, do.Interface()); problems != nil {
		for i := range problems {
			problems[i] = flag.Problem{Place: "with." + problems[i].Place, Mend: problems[i].Mend}
		}
		return c, app.InvalidFields(problems)
	}
	if (w.Project != "") != (kind.Span > Installation) || (w.Environment != "") != (kind.Span == Environment) {
		return c, app.InvalidField("do", "%s is changed in %s", w.Do,
			[]string{"the installation", "a project", "a project", "an environment of a project"}[kind.Span])
	}
	c = Change{Of: w.Of, Versions: w.Versions, Do: do.Interface()}
	if kind.Span > Installation {
		c.In.Project, c.In.Environment, err = find(ctx, w.Project, w.Environment)
		if err == nil && kind.Span == Environment && c.In.Environment == nil {
			err = app.InvalidField("environment", "there is no environment %s in this project", w.Environment)
		}
	}
	return c, err
}

// Carrier are changes that are made of what stood, and can be made of something else: see package merge. Base and
// present are what [Kind.Standing] shows.
type Carrier interface {
	// Edits says what the change makes of base.
	Edits(base json.RawMessage) ([]merge.Edit, error)
	// Carry gives the change as it is upon what stands at present.
	Carry(base, present json.RawMessage) (next any, conflicts []merge.Conflict, err error)
}

// Proposed tells whether changes of a kind can be proposed. The error says why not.
func (k *Kinds) Proposed(c Change) error {
	kind, err := k.of(c)
	if err != nil {
		return err
	}
	if kind.Inner || kind.Alone || kind.Insists || kind.Span == Installation || c.Aside {
		return app.InvalidField("propose", "%s is nothing that waits: do it, or leave it", kind.Name)
	}
	return nil
}

// Name is what the kind of a change is called; empty where it is of none.
func (k *Kinds) Name(c Change) string {
	kind, err := k.of(c)
	if err != nil {
		return ""
	}
	return kind.Name
}

// Says says what changes of a kind do; empty where there is no such kind.
func (k *Kinds) Says(name string) string {
	if kind := k.byName[name]; kind != nil {
		return kind.Says
	}
	return ""
}
