package app

import (
	"fmt"

	"greenlever.example/core/flag"
)

// FaultKind groups faults by what the caller can do about them.
type FaultKind int

// The kinds.
const (
	Invalid      FaultKind = iota // mend the request
	Unauthorized                  // sign in
	Forbidden                     // ask for a role
	NotFound
	Conflict     // the records say no; the detail says what to do
	Stale        // the version given is not the present one
	NeedsVersion // no version was given
	TooMany      // wait
	Unavailable  // the records cannot be reached
)

// Fault is why a request is refused: what is wrong, where, and the mend.
type Fault struct {
	Kind   FaultKind
	Detail string
	Fields []flag.Problem
	More   map[string]any // members of the problem document
}

func (f *Fault) Error() string {
	said := f.Detail
	for _, p := range f.Fields {
		if said != "" {
			said += "; "
		}
		said += p.String()
	}
	return said
}

// Faultf makes a Fault.
func Faultf(kind FaultKind, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Detail: fmt.Sprintf(format, args...)}
}

// InvalidFields makes a Fault of the things that are wrong; nil for none.
func InvalidFields(problems []flag.Problem) error {
	if len(problems) == 0 {
		return nil
	}
	return &Fault{Kind: Invalid, Detail: "some fields cannot be taken", Fields: problems}
}

// InvalidField makes a Fault of one field.
func InvalidField(place, format string, args ...any) *Fault {
	return &Fault{Kind: Invalid, Detail: "a field cannot be taken",
		Fields: []flag.Problem{{Place: place, Mend: fmt.Sprintf(format, args...)}}}
}

// Below puts the places of what is wrong below another one, such as changes[3].
func Below(place string, err error) error {
	f, is := err.(*Fault)
	if !is || len(f.Fields) == 0 {
		return err
	}
	out := *f
	out.Fields = make([]flag.Problem, len(f.Fields))
	for i, p := range f.Fields {
		out.Fields[i] = flag.Problem{Place: place + p.Place, Mend: p.Mend}
	}
	return &out
}
