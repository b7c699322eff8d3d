package manage

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"greenlever.example/core/stage"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/zones"
)

var _ = listed(op[none, NeedsView]("GET", atProject+"/needs", "What waits for one in the project, the most "+
	"urgent first",
	(*call).needs).needs(app.Read))

// NeedKind is a kind of what waits for somebody.
type NeedKind string

// The kinds, the most urgent first.
const (
	NeedHarm      NeedKind = "harm"     // a release of one's own is held, or its watches found harm
	NeedSign      NeedKind = "sign"     // a proposal to sign
	NeedSignOff   NeedKind = "sign-off" // a release to sign off
	NeedProposal  NeedKind = "proposal" // of one's own, that could not be made
	NeedDelivery  NeedKind = "delivery" // a webhook that could not be told
	NeedGoneBy    NeedKind = "gone-by"  // a flag of one's own that should be gone
	NeedFreezeEnd NeedKind = "thaws"    // a freeze that ends
)

var needOrder = []NeedKind{NeedHarm, NeedSign, NeedSignOff, NeedProposal, NeedDelivery, NeedGoneBy, NeedFreezeEnd}

// NeedOf is one thing that waits for somebody.
type NeedOf struct {
	Kind        NeedKind `json:"kind"`
	Of          string   `json:"of"` // id or key
	Title       string   `json:"title"`
	Says        string   `json:"says"`
	Environment string   `json:"environment,omitempty"`
	At          int64    `json:"at,omitempty"` // since when, or when it is
}

// NeedsView is all that waits for somebody.
type NeedsView struct {
	Items []NeedOf `json:"items"`
}

// dueSoon is how long before its date a flag waits for its owners, and thawsSoon before its end a freeze for all.
const (
	dueSoon   = 14 * 24 * time.Hour
	thawsSoon = 72 * time.Hour
)

func (c *call) needs(*none) (any, error) {
	out := &NeedsView{Items: []NeedOf{}}
	for _, add := range []func(*NeedsView) error{c.needsOfProposals, c.needsOfReleases, c.needsOfWebhooks,
		c.needsOfFlags} {
		if err := add(out); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(out.Items, func(a, b NeedOf) int {
		return cmp.Or(cmp.Compare(slices.Index(needOrder, a.Kind), slices.Index(needOrder, b.Kind)),
			cmp.Compare(a.At, b.At))
	})
	return out, nil
}

func (c *call) needsOfProposals(out *NeedsView) error {
	all, err := c.api.Records.Proposals(c.ctx, c.p.ID, 0)
	if err != nil || len(all) == 0 {
		return err
	}
	w, err := c.crowd()
	if err != nil {
		return err
	}
	for i := range all {
		p := &all[i]
		l := c.lineOf(p, w)
		if err := c.underPolicies(p, &l); err != nil {
			return err
		}
		if l.ForMe {
			out.Items = append(out.Items, NeedOf{NeedSign, p.ID, p.Title, "proposed by " + w.names[p.Author] +
				", waits for your signature", "", p.Made})
		}
		if p.Author == c.actor.ID && p.Waits != "" {
			out.Items = append(out.Items, NeedOf{NeedProposal, p.ID, p.Title, "could not be made: " + p.Waits, "",
				p.At})
		}
	}
	return nil
}

func (c *call) needsOfReleases(out *NeedsView) error {
	all, err := c.api.Records.Releases(c.ctx, c.p.ID, 0)
	if err != nil {
		return err
	}
	envs, err := c.api.Records.Environments(c.ctx, c.p.ID)
	if err != nil {
		return err
	}
	for i := range all {
		rel := &all[i]
		at := slices.IndexFunc(envs, func(e app.Environment) bool { return e.ID == rel.Environment })
		if at < 0 {
			continue
		}
		need := NeedOf{Of: rel.ID, Title: "release of " + rel.Flag, Environment: envs[at].Key, At: rel.State.Since}
		if rel.State.Is == stage.Asking && c.maySign(rel) {
			need.Kind, need.Says = NeedSignOff, "asks to sign stage "+rel.State.Stage().Name
			out.Items = append(out.Items, need)
		}
		if rel.State.Is == stage.Held && rel.Owner == c.actor.ID {
			need.Kind, need.Says = NeedHarm, cmp.Or(rel.State.Says, "is held")
			out.Items = append(out.Items, need)
		}
	}
	return nil
}

func (c *call) needsOfWebhooks(out *NeedsView) error {
	if _, keeps := c.actor.Grants.Allows(app.Manage, c.p.ID, 0); !keeps {
		return nil
	}
	counts, err := c.api.Records.NoticeCounts(c.ctx, c.p.ID)
	if err != nil {
		return err
	}
	hooks, err := c.api.Records.Webhooks(c.ctx, c.p.ID)
	for _, h := range hooks {
		if n := counts[h.ID][app.NoticeParked]; n > 0 {
			out.Items = append(out.Items, NeedOf{Kind: NeedDelivery, Of: h.ID, Title: "webhook " + h.Title,
				Says: fmt.Sprintf("could not be told of %d events", n)})
		}
	}
	return err
}

func (c *call) needsOfFlags(out *NeedsView) error {
	now := c.api.Now()
	defs, err := c.api.Records.Definitions(c.ctx, c.p.ID)
	if err != nil {
		return err
	}
	for _, d := range defs {
		mine := slices.ContainsFunc(d.Owners, func(o string) bool {
			return slices.ContainsFunc(c.actor.Is, func(is string) bool { return strings.EqualFold(o, is) })
		})
		if date, err := time.Parse("2006-01-02", d.GoneBy); err == nil && mine && date.Sub(now) < dueSoon {
			says := "should be gone by " + d.GoneBy
			if now.After(date) {
				says = "should be gone since " + d.GoneBy
			}
			out.Items = append(out.Items, NeedOf{Kind: NeedGoneBy, Of: d.Key, Title: d.Key, Says: says,
				At: date.UnixMilli()})
		}
	}
	envs, err := c.api.Records.Environments(c.ctx, c.p.ID)
	for i := range envs {
		for j := range envs[i].Freezes {
			f := &envs[i].Freezes[j]
			until, holds := f.Until(now.UnixMilli(), zones.Find)
			if holds && f.Weekly == nil && until-now.UnixMilli() < thawsSoon.Milliseconds() {
				out.Items = append(out.Items, NeedOf{NeedFreezeEnd, f.ID, "the freeze of " + envs[i].Key,
					f.Reason + ", ends", envs[i].Key,
					until})
			}
		}
	}
	return err
}
