package flags

import (
	"errors"
	"fmt"
	"slices"

	"greenlever.example/core/bucket"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/conditions"
)

// complete fills in what the service knows better than the caller: what the definition
// owns, the ids of new rules, and the salts and buckets of shares.
func complete(old, now *flag.Document, docs flag.Documents, exact bool) error {
	var found []flag.Problem
	if now.Type == "" {
		now.Type = old.Type
	}
	if now.Type != old.Type {
		found = append(found, flag.Problem{Place: "document.type", Mend: "never changes: it is " + string(old.Type)})
	}
	if now.Visible != old.Visible {
		found = append(found, flag.Problem{Place: "document.visible", Mend: "belongs to the definition, where it " +
			"changes in all environments at once"})
	}
	if now.Variants == nil {
		now.Variants = old.Variants
	}
	if !slices.Equal(now.VariantNames(), old.VariantNames()) {
		found = append(found, flag.Problem{Place: "document.variants", Mend: "variants are added and removed in the " +
			"definition, in all environments at once; only their values can be edited here"})
	}
	now.Requires = now.Needed()
	byID := map[string]*flag.Rule{}
	for i := range old.Rules {
		byID[old.Rules[i].ID] = &old.Rules[i]
	}
	for i := range now.Rules {
		r := &now.Rules[i]
		var before *flag.Shares
		if r.ID == "" {
			r.ID = "r" + conditions.NewSalt()
		} else if o := byID[r.ID]; o != nil {
			before = o.Gives.Shares
		}
		place := fmt.Sprintf("document.rules[%d]", i)
		when, problems := conditions.Settle(place+".when", r.When)
		r.When = when
		found = append(found, problems...)
		found = append(found, arrange(place+".gives", &r.Gives, before, now, docs, exact)...)
	}
	return app.InvalidFields(append(found, arrange("document.end", &now.End, old.End.Shares, now, docs,
		exact)...))
}

// laidOut tells whether shares say themselves which units they take, and still move together with those that they are
// tied to.
func laidOut(s *flag.Shares, doc *flag.Document, docs flag.Documents) bool {
	if s.Salt == "" || s.Hash == 0 || len(s.By) == 0 || s.DrawAnew ||
		slices.ContainsFunc(s.Parts, func(p flag.Part) bool { return p.Buckets() != p.Share }) {
		return false
	}
	if s.Like == nil {
		return true
	}
	other := doc
	if s.Like.Flag != doc.Key {
		other = docs.Flag(s.Like.Flag)
	}
	if other == nil {
		return false
	}
	to := other.SharesAt(s.Like.Rule)
	return to != nil && to.Salt == s.Salt && slices.Equal(to.By, s.By) && to.Hash == s.Hash
}

// arrange gives shares their salt and their buckets. old are the shares that stood there.
func arrange(place string, g *flag.Gives, old *flag.Shares, doc *flag.Document, docs flag.Documents,
	exact bool) []flag.Problem {
	if g.Shares == nil {
		return nil
	}
	s := *g.Shares
	g.Shares, place = &s, place+".shares"
	if exact && laidOut(&s, doc, docs) {
		return nil // whether the buckets are whole is checked with the document
	}
	if s.Hash == 0 {
		s.Hash = bucket.Scheme
	}
	if s.DrawAnew {
		if old != nil && s.Salt == old.Salt {
			s.Salt = "" // a salt that a dry run gave is taken, so that what was shown is what happens
		}
		s.DrawAnew, s.Like, old = false, nil, nil
	} else if s.Like != nil {
		other := doc
		if s.Like.Flag != doc.Key {
			other = docs.Flag(s.Like.Flag)
		}
		var to *flag.Shares
		if other != nil {
			to = other.SharesAt(s.Like.Rule)
		}
		if to != nil && to != g.Shares {
			if old == nil || old.Salt != to.Salt || !slices.Equal(old.By, to.By) {
				old = to // the same buckets go to the same parts where they can
			}
			s.Salt, s.By, s.Hash = to.Salt, to.By, to.Hash
		}
	} else if old != nil && old.Like == nil {
		if s.Salt != "" && s.Salt != old.Salt {
			return []flag.Problem{{Place: place + ".salt", Mend: "cannot be edited, since that would move " +
				"everybody: leave it out, or ask for drawAnew"}}
		}
		s.Salt = old.Salt
	} else if old != nil && s.Salt == "" {
		s.Salt = old.Salt // no longer tied to others, drawn as before
	}
	if s.Salt == "" {
		s.Salt = conditions.NewSalt()
	}
	if len(s.By) == 0 {
		s.By = []string{"targetingKey"}
	}
	err := s.Arrange(old, doc.Resting)
	switch {
	case errors.Is(err, bucket.ErrSum):
		return []flag.Problem{{Place: place + ".parts", Mend: err.Error() + ": they must add up to exactly 100 % " +
			"(1000000)"}}
	case err != nil:
		return []flag.Problem{{Place: place + ".parts", Mend: err.Error()}}
	}
	return nil
}

// stillAlike keeps shares that others move together with from being drawn otherwise.
func stillAlike(tx documents, env int64, old, now *flag.Document) error {
	drawn := map[string]bool{}
	places := []string{""}
	for i := range old.Rules {
		places = append(places, old.Rules[i].ID)
	}
	for _, at := range places {
		a, b := old.SharesAt(at), now.SharesAt(at)
		if a != nil && b != nil && (a.Salt != b.Salt || !slices.Equal(a.By, b.By)) {
			drawn[at] = true
		}
	}
	if len(drawn) == 0 {
		return nil
	}
	all, err := tx.Flags(env)
	if err != nil {
		return err
	}
	for _, rec := range all {
		d := rec.Document
		if rec.Key == now.Key {
			d = now
		}
		ids := []string{""}
		for i := range d.Rules {
			ids = append(ids, d.Rules[i].ID)
		}
		for _, id := range ids {
			if s := d.SharesAt(id); s != nil && s.Like != nil && s.Like.Flag == now.Key && drawn[s.Like.Rule] &&
				s.Salt != saltAt(now, s.Like.Rule) {
				return app.Faultf(app.Conflict, "shares of flag %s move together with these: take that apart first, "+
					"or leave how these are drawn", rec.Key)
			}
		}
	}
	return nil
}

func saltAt(d *flag.Document, rule string) string {
	if s := d.SharesAt(rule); s != nil {
		return s.Salt
	}
	return ""
}
