// Package conditions is what flags and segments share when they are changed: a condition is put
// into its canonical form, held against what is known of attributes, and what it refers to is
// looked up under the environment's lock.
//
//	when, problems := conditions.Settle("when", sent)
package conditions

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/zones"
)

// NewSalt makes a salt, or the part of a rule's id that is its own.
func NewSalt() string {
	var b [8]byte
	rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// Settle puts a condition into its canonical form: ranges of versions are written out,
// parts of the population get their salts, and time zones must be known.
func Settle(place string, n *condition.Node) (*condition.Node, []flag.Problem) {
	if n == nil {
		return nil, nil
	}
	var found []flag.Problem
	n.Check(place, func(place, mend string) {
		if !strings.HasSuffix(place, ".part.salt") && !strings.HasSuffix(place, ".part.hash") {
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	})
	if len(found) > 0 {
		return n, found
	}
	n = n.Clone()
	if err := n.Expand(); err != nil {
		return n, []flag.Problem{{Place: place, Mend: err.Error()}}
	}
	n.Leaves(func(l *condition.Node) {
		switch {
		case l.Part != nil:
			if l.Part.Salt == "" {
				l.Part.Salt = NewSalt()
			}
			if l.Part.Hash == 0 {
				l.Part.Hash = bucket.Scheme
			}
		case l.Weekly != nil && zones.Find(l.Weekly.Zone) == nil:
			mend := fmt.Sprintf("%q is no time zone: use a name of the IANA database, such as Europe/Oslo or UTC",
				l.Weekly.Zone)
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	})
	return n.Canonical(), found
}

// Judge says what is declared and seen of attributes in an environment, for comparisons that
// cannot fit. Without it none is refused.
type Judge func(ctx context.Context, environment int64) (map[string]lint.Attribute, error)

// Overflows finds the other flags that an edit would push over a limit. Without it none is
// looked for.
type Overflows func(ctx context.Context, environment int64, flags []*flag.Document,
	segments []*flag.Segment) ([]flag.Problem, error)

// Refuse refuses an edit that would switch off other flags by pushing them over a limit.
func (o Overflows) Refuse(ctx context.Context, environment int64, flags []*flag.Document,
	segments []*flag.Segment) error {
	if o == nil {
		return nil
	}
	found, err := o(ctx, environment, flags, segments)
	if err != nil {
		return err
	}
	return app.InvalidFields(found)
}

// Leaves are comparisons that stand already, by their words: they are not judged again.
type Leaves map[string]bool

// Add adds the comparisons of a condition.
func (had Leaves) Add(n *condition.Node) {
	n.Leaves(func(l *condition.Node) { had[l.Words()] = true })
}

// Unfit finds comparisons that what is declared or seen of their attribute can never meet: a
// rule with such a one would silently never apply.
func Unfit(place string, n *condition.Node, known map[string]lint.Attribute, had Leaves) (found []flag.Problem) {
	n.Leaves(func(l *condition.Node) {
		a := known[l.Attribute]
		if a.Loose && strings.HasPrefix(l.Test, "version.") {
			l.Loose = true
		}
		if mend := lint.Fits(l, a, l.Attribute); mend != "" && !had[l.Words()] {
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	})
	return found
}

// reader reads what documents refer to, in the transaction.
type reader interface {
	Flag(environment int64, key string) (*app.FlagRecord, error)
	Segment(environment int64, key string) (*app.SegmentRecord, error)
}

// Around looks documents up in the transaction, under the environment's lock. What went wrong
// stands in Err then.
type Around struct {
	tx  reader
	env int64
	Err error
}

// Of looks around in an environment.
func Of(tx reader, environment int64) *Around { return &Around{tx: tx, env: environment} }

// Flag is a flag's document; nil where there is none.
func (a *Around) Flag(key string) *flag.Document {
	rec, err := a.tx.Flag(a.env, key)
	var f *app.Fault
	if err != nil {
		if !errors.As(err, &f) || f.Kind != app.NotFound {
			a.Err = err
		}
		return nil
	}
	return rec.Document
}

// Segment is a segment's document; nil where there is none.
func (a *Around) Segment(key string) *flag.Segment {
	rec, err := a.tx.Segment(a.env, key)
	if err != nil {
		a.Err = err
	}
	if rec == nil {
		return nil
	}
	return rec.Document
}

// Catalogue tells of an attribute whether the project declares it personal: then what it is
// compared with stands in the chain as a digest. It is read once it is asked, which most edits
// do not; an error stands in Err then, and what was made of the answers is of no use.
type Catalogue struct {
	read func() ([]app.Attribute, error)
	is   map[string]bool
	Err  error
}

// Declared is the catalogue of a project.
func Declared(tx interface {
	Attributes(project int64) ([]app.Attribute, error)
}, project int64) *Catalogue {
	return &Catalogue{read: func() ([]app.Attribute, error) { return tx.Attributes(project) }}
}

// Personal tells whether an attribute is.
func (k *Catalogue) Personal(attribute string) bool {
	if k.is == nil && k.Err == nil {
		var all []app.Attribute
		all, k.Err = k.read()
		k.is = map[string]bool{}
		for _, a := range all {
			k.is[a.Name] = a.Personal
		}
	}
	return k.is[attribute]
}
