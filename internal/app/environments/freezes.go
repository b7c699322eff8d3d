package environments

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/zones"
)

// Bounds of freezes.
const (
	maxFreezes  = 50
	longestOnce = 366 * 24 * time.Hour
	namedFor    = 7 * 24 * time.Hour // after it was taken away
)

func freezes() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "environment.freeze", Says: "Has nothing move units in an environment for a " +
			"while, once or " +
			"weekly", Action: app.Manage, Span: commit.Environment, Queued: true}, freeze),
		commit.Of(commit.Kind{Name: "environment.thaw", Says: "Takes a freeze away", Action: app.Manage,
			Span: commit.Environment, Queued: true}, thaw),
	}
}

// Freeze freezes the environment; the reason is the change's.
type Freeze struct {
	Freeze app.Freeze `json:"freeze"`
}

// Thaw takes the freeze away that the change is of.
type Thaw struct{}

func freeze(_ context.Context, m *commit.Moment, in *Freeze) (*commit.Effects, error) {
	f := in.Freeze
	f.By, f.Made = m.Actor.ID, m.At
	if err := app.InvalidFields(checkFreeze(&f, m)); err != nil {
		return nil, err
	}
	f.ID = uuid.Must(uuid.NewV7()).String()
	// Those that are over are of no use to anybody but the history.
	all := slices.DeleteFunc(slices.Clone(m.Environment.Freezes), func(f app.Freeze) bool {
		return f.Over(m.At) && m.At-f.Gone > namedFor.Milliseconds()
	})
	live := 0
	for _, f := range all {
		if f.Gone == 0 {
			live++
		}
	}
	if live >= maxFreezes {
		return nil, app.InvalidField("freeze", "an environment keeps at most %d: take one away first", maxFreezes)
	}
	return frozen(m, append(all, f), &f, "environment.frozen", words.Say("frozen %s: "+
			"%s", Says(&f), words.Name(f.Reason))),
		nil
}

func checkFreeze(f *app.Freeze, m *commit.Moment) (found []flag.Problem) {
	add := func(place, format string, args ...any) {
		found = append(found, flag.Problem{Place: "freeze." + place, Mend: fmt.Sprintf(format, args...)})
	}
	if mend := app.CheckText(f.Reason, 1, 500); mend != "" {
		add("reason", "%s: say why, whoever is held by it reads it", mend)
	}
	switch {
	case f.Weekly != nil && (f.From != 0 || f.To != 0):
		add("weekly", "stands beside from and to: a freeze is once, or weekly")
	case f.Weekly != nil:
		f.Weekly.Check("weekly", func(place, mend string) { add(place, "%s", mend) })
		if zones.Find(f.Weekly.Zone) == nil {
			add("weekly.zone", "there is no zone %q: use a name of the IANA database, such as "+
				"Europe/Oslo", f.Weekly.Zone)
		}
	case f.To <= m.At:
		add("to", "must be in the future")
	case f.From >= f.To:
		add("to", "must be after from")
	case f.To-f.From > longestOnce.Milliseconds():
		add("to", "takes a year at most: archive the environment instead")
	}
	for i, role := range f.Roles {
		if mend := app.CheckRole(role); mend != "" {
			add(fmt.Sprintf("roles[%d]", i), "%s", mend)
		}
	}
	for i, key := range f.Flags {
		if mend := flag.CheckKey(key); mend != "" || len(f.Flags) > 100 {
			add(fmt.Sprintf("flags[%d]", i), "must be the key of a flag; at most 100 are excepted")
			break
		}
	}
	return found
}

func thaw(_ context.Context, m *commit.Moment, _ *Thaw) (*commit.Effects, error) {
	all := slices.Clone(m.Environment.Freezes)
	at := slices.IndexFunc(all, func(f app.Freeze) bool { return f.ID == m.Of && f.Gone == 0 })
	if at < 0 {
		return nil, app.Faultf(app.NotFound, "there is no such freeze in this environment: it was taken away")
	}
	all[at].Gone = m.At
	f := all[at]
	return frozen(m, all, &f, "environment.thawed", words.Say("frozen no more %s: "+
		"%s", Says(&f),
		words.Name(f.Reason))), nil
}

func frozen(m *commit.Moment, all app.Freezes, f *app.Freeze, action string, said words.Said) *commit.Effects {
	return &commit.Effects{Result: f, In: []commit.Effect{{Environment: m.Environment,
		Records: []commit.Record{&app.FreezeRecord{EnvironmentID: m.Environment.ID, Freezes: all}},
		Entries: []commit.Entry{commit.Said(action, m.Environment.Key, diff.Text(said.String()))}}}}
}

// Says says when a freeze holds, and whom not.
func Says(f *app.Freeze) words.Said {
	at := func(ms int64) words.Token { return words.Time(time.UnixMilli(ms).UTC().Format(time.RFC3339)) }
	said := words.Say("from %s to %s", at(f.From), at(f.To))
	if f.Weekly != nil {
		said = words.Say("while %s", f.Weekly.Said())
	}
	for i, key := range f.Flags {
		join := ", "
		if i == 0 {
			join = ", but for "
		}
		said = words.Say("%s%s%s", said, words.Plain(join), words.Key(key))
	}
	for i, role := range f.Roles {
		join := ", "
		if i == 0 {
			join = ", not for the role "
		}
		said = words.Say("%s%s%s", said, words.Plain(join), words.Plain(string(role)))
	}
	return said
}
