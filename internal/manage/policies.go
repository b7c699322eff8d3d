package manage

import (
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/policies"
	"greenlever.example/greenlever/internal/policy"
)

var _ = listed(
	op[none, listOf[PolicyView]]("GET", atProject+"/policies", "The project's rules for changes, and how often each "+
		"ruled in the last 90 days", (*call).policies).needs(app.Read),
	op[none, listOf[app.Policy]]("GET", atProject+"/policies/library", "Policies to begin with",
		(*call).policyLibrary).needs(app.Read),
	op[policyBody, app.Policy]("PUT", atProject+"/policies/:policy", "Save a policy, a new one or in place of "+
		"the one "+
		"with its key", (*call).putPolicy).change().needs(app.Manage),
	op[reasonBody, app.Policy]("POST", atProject+"/policies/:policy/remove", "Take a policy away; how it ruled stays",
		(*call).removePolicy).change().needs(app.Manage),
	op[policyTry, PolicyTrial]("POST", atProject+"/policies/try", "How a policy would have ruled on the past",
		(*call).tryPolicy).needs(app.Read),
	op[none, listOf[RulingView]]("GET", atProject+"/policies/:policy/rulings", "How a policy ruled, the newest first",
		(*call).rulings).needs(app.Read),
)

// policyDays is for how many days the past is looked at.
const policyDays = 90

// PolicyView is a policy, and how it ruled.
type PolicyView struct {
	app.Policy
	ByName string `json:"byName"`
	Ruled  int    `json:"ruled"`  // in the last 90 days
	Failed int    `json:"failed"` // of these, how often it could not be judged
	Last   int64  `json:"last,omitempty"`
	Days   []int  `json:"days"` // of these, how many on each of the last 90 days, the oldest first
}

type policyBody struct {
	policies.Put
	Reason string `json:"reason,omitempty"`
}

type policyTry struct {
	Policy app.Policy `json:"policy"`
	Days   int        `json:"days,omitempty"` // how far back; 90 where nothing is said
}

// PolicyTrial is how a policy would have ruled on the changes of flags of the past.
type PolicyTrial struct {
	*policies.Trial
	Names map[string]string `json:"names"` // of those who made the changes
}

// RulingView is how a policy ruled on a change.
type RulingView struct {
	app.Ruling
	Name string `json:"name"` // of who wanted to make the change
}

// mostRulings is how many are counted of a project.
const mostRulings = 20_000

func (c *call) policies(*none) (any, error) {
	all, err := c.api.Records.Policies(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	names, err := c.names()
	if err != nil {
		return nil, err
	}
	now := c.api.Now()
	since := now.AddDate(0, 0, -policyDays)
	rulings, err := c.api.Records.RulingsOf(c.ctx, c.p.ID, "", since.UnixMilli(), mostRulings)
	if err != nil {
		return nil, err
	}
	out := listOf[PolicyView]{[]PolicyView{}}
	for _, p := range all {
		v := PolicyView{Policy: p, ByName: names[p.By], Days: make([]int, policyDays)}
		for i := range rulings {
			r := &rulings[i]
			if r.Policy != p.Key {
				continue
			}
			v.Ruled++
			v.Last = max(v.Last, r.At)
			if r.Failed != "" {
				v.Failed++
			}
			day := int(time.UnixMilli(r.At).Sub(since) / (24 * time.Hour))
			v.Days[max(0, min(day, policyDays-1))]++
		}
		out.Items = append(out.Items, v)
	}
	return out, nil
}

func (c *call) policyLibrary(*none) (any, error) {
	all := policy.Library()
	for i := range all {
		all[i].Environments, all[i].Tags = append([]string{}, all[i].Environments...), append([]string{},
			all[i].Tags...)
	}
	return listOf[app.Policy]{all}, nil
}

func (c *call) putPolicy(in *policyBody) (any, error) {
	return c.apply(in.Reason, c.Param("policy"), &in.Put)
}

func (c *call) removePolicy(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("policy"), &policies.Remove{})
}

func (c *call) tryPolicy(in *policyTry) (any, error) {
	p := in.Policy
	if err := app.InvalidFields(policies.Check(&p)); err != nil {
		return nil, err
	}
	days := in.Days
	if days == 0 {
		days = policyDays
	}
	if days < 1 || days > 400 {
		return nil, app.InvalidField("days", "must be 1 to 400")
	}
	w, err := c.crowd()
	if err != nil {
		return nil, err
	}
	trial, err := policies.Try(c.ctx, c.api.Records, &p, c.p.ID, c.api.Now().AddDate(0, 0, -days).UnixMilli(),
		func(account string) policy.Person { return policies.Person(w.of(account), c.p.ID, 0) })
	return &PolicyTrial{trial, w.names}, err
}

func (c *call) rulings(*none) (any, error) {
	names, err := c.names()
	if err != nil {
		return nil, err
	}
	all, err := c.api.Records.RulingsOf(c.ctx, c.p.ID, c.Param("policy"), 0, maxPage)
	out := listOf[RulingView]{[]RulingView{}}
	for _, r := range all {
		out.Items = append(out.Items, RulingView{r, names[r.Actor]})
	}
	return out, err
}
