package manage

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/diff"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/shift"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/zones"
)

var _ = listed(
	op[none, changesPage]("GET", atProject+"/changes", "Who changed what, one item for each change over all its "+
		"environments, newest first", (*call).changes).takes(changeQuery...).needs(app.Read),
	raw("GET", atProject+"/changes.csv", (*call).changesCSV).takes(changeQuery...).needs(app.Read),
	raw("GET", atProject+"/changes.json", (*call).changesJSON).takes(changeQuery...).needs(app.Read),
	op[none, PastFlag]("GET", atEnvironment+"/flags/:flag/revisions/:revision", "A flag as it stood after a "+
		"revision, what that changed, and what was changed since", (*call).pastFlag).needs(app.Read),
)

var changeQuery = []string{"environment", "flag", "person", "from", "to", "find", "action", "cursor", "limit"}

// Changed is one change, over all the environments that it touched.
type Changed struct {
	Change  string    `json:"change"`
	At      int64     `json:"at"`
	Name    string    `json:"name"` // of who made it
	Actor   app.Actor `json:"actor"`
	Action  string    `json:"action"` // of its first entry
	Subject string    `json:"subject,omitempty"`
	Reason  string    `json:"reason,omitempty"`
	// Says is who did what, and where.
	Says words.Said `json:"says"`
	// Signed are the names of those who signed the proposal that it was made of.
	Signed []string  `json:"signed,omitempty"`
	In     []Touched `json:"in"`
}

// Touched is what a change did in one place: an environment, or the project itself.
type Touched struct {
	Environment string       `json:"environment,omitempty"`
	Action      string       `json:"action"`
	Subject     string       `json:"subject,omitempty"`
	Chain       string       `json:"chain"`
	Sequence    int64        `json:"sequence"`
	Revision    int64        `json:"revision,omitempty"`
	Version     int64        `json:"version,omitempty"`
	Difference  []words.Said `json:"difference"`
	// Ended says how it arrived, and whether it was taken back; empty while that goes on.
	Ended string `json:"ended,omitempty"`
}

type changesPage struct {
	Items  []Changed `json:"items"`
	Cursor string    `json:"cursor,omitempty"` // of the next page
	// Back is how far was looked, in Unix milliseconds, where there may be more.
	Back int64 `json:"back,omitempty"`
}

// called is what people call who did something.
func called(names map[string]string, a *app.Actor) string {
	if a.Kind == "release" {
		return "the release"
	}
	return cmp.Or(names[a.ID], a.Kind)
}

// signersOf names those who signed what an actor made.
func signersOf(names map[string]string, a *app.Actor) (out []string) {
	if !strings.HasPrefix(a.Cause, "proposal ") || a.OnBehalfOf == "" {
		return nil
	}
	for _, id := range strings.Split(a.OnBehalfOf, ",") {
		out = append(out, cmp.Or(names[id], id))
	}
	return out
}

// delivered is the entry that says how a revision spread: it is shown with the change that made it.
const delivered = "revision.delivered"

// A page is looked for in this many entries at most; what is older comes with the next one.
const lookedAt = 2_000

// changeFilter is what somebody looks for in the history.
type changeFilter struct {
	*audit.Query
	environments map[int64]string
	accounts     map[string]string
	find, action string
}

func (c *call) changeFilter() (*changeFilter, error) {
	q, names, err := c.query()
	if err != nil {
		return nil, err
	}
	accounts, err := c.names()
	return &changeFilter{q, names, accounts, strings.ToLower(c.QueryParam("find")), c.QueryParam("action")}, err
}

// has tells whether an entry is one that is looked for.
func (f *changeFilter) has(e *audit.Entry, name string) bool {
	if e.Action == delivered || f.action != "" && e.Action != f.action {
		return false
	}
	return f.find == "" || strings.Contains(strings.ToLower(strings.Join(append([]string{name, e.Subject, e.Reason,
		e.Action, f.environments[e.Environment]}, e.Difference...), "\n")), f.find)
}

func (c *call) changes(*none) (any, error) {
	f, err := c.changeFilter()
	if err != nil {
		return nil, err
	}
	return c.changesOf(f)
}

// changesOf gives a page of changes, and moves the filter behind it.
func (c *call) changesOf(f *changeFilter) (*changesPage, error) {
	q, names := f.Query, f.environments
	page := &changesPage{Items: []Changed{}}
	limit, looked := q.Limit, 0
	q.Limit = maxPage
	defer func() { q.Limit = limit }()
	for {
		rows, err := c.api.Records.History(c.ctx, *q)
		if err != nil {
			return nil, err
		}
		for i := range rows {
			e, err := rows[i].Read()
			if err != nil {
				return nil, err
			}
			looked++
			// Changes of the same moment may stand between each other.
			at := slices.IndexFunc(page.Items, func(o Changed) bool { return o.At == e.At && o.Change == e.Change })
			if at < 0 && (len(page.Items) == limit || looked > lookedAt) {
				page.Cursor = fmt.Sprintf("%d.%d.%s", q.Before.At, q.Before.Sequence, q.Before.Chain)
				page.Back = q.Before.At
				return page, c.ended(page, names)
			}
			q.Before = audit.Cursor{At: rows[i].At, Chain: e.Chain, Sequence: e.Sequence}
			name := called(f.accounts, &e.Actor)
			if !f.has(e, name) {
				continue
			}
			touched := Touched{names[e.Environment], e.Action, e.Subject, e.Chain, e.Sequence, e.Revision, e.Version,
				readAll(e.Difference), ""}
			if at >= 0 {
				page.Items[at].In = append(page.Items[at].In, touched)
			} else {
				page.Items = append(page.Items, Changed{Signed: signersOf(f.accounts, &e.Actor), Change: e.Change,
					At: e.At, Name: name, Actor: e.Actor,
					Action: e.Action, Subject: e.Subject, Reason: e.Reason, In: []Touched{touched}})
			}
		}
		if len(rows) < q.Limit {
			return page, c.ended(page, names)
		}
	}
}

// ended adds to changes what is said of them as a whole, and how they arrived.
func (c *call) ended(page *changesPage, names map[int64]string) error {
	ids := map[string]int64{}
	for id, key := range names {
		ids[key] = id
	}
	revisions := map[string][]int64{}
	for i := range page.Items {
		item := &page.Items[i]
		slices.SortStableFunc(item.In, func(a, b Touched) int { return cmp.Compare(a.Environment, b.Environment) })
		item.say()
		for _, t := range item.In {
			if t.Revision > 0 {
				revisions[t.Environment] = append(revisions[t.Environment], t.Revision)
			}
		}
	}
	for key, all := range revisions {
		arrived, err := c.api.Records.DeliveriesOf(c.ctx, ids[key], all)
		if err != nil {
			return err
		}
		if err := c.arriving(ids[key], all, arrived); err != nil {
			return err
		}
		stops, err := c.api.Records.Stops(c.ctx, ids[key], maxPage)
		if err != nil {
			return err
		}
		for i := range page.Items {
			for j := range page.Items[i].In {
				t := &page.Items[i].In[j]
				if t.Environment != key {
					continue
				}
				var says []string
				if d, is := arrived[t.Revision]; is && d.Expected > 0 {
					says = append(says, deliveredIn(&d))
				}
				for _, s := range stops {
					if t.Action == "flag.stopped" && s.Revision == t.Revision && s.LiftedAt > 0 {
						says = append(says, "lifted after "+lasted(s.LiftedAt-s.At))
					}
				}
				t.Ended = strings.Join(says, ", ")
			}
		}
	}
	return nil
}

// arriving adds how the newest revision spreads, which is recorded once that is over.
func (c *call) arriving(environment int64, revisions []int64, arrived map[int64]app.Delivery) error {
	place, err := c.api.Hub.Place(c.ctx, environment)
	if err != nil {
		return err
	}
	src := place.Rules().Source
	if _, is := arrived[src.Revision]; is || !slices.Contains(revisions, src.Revision) {
		return nil
	}
	d, err := c.api.Delivery.Newest(c.ctx, environment, src.Epoch, src.Revision)
	if err == nil && d != nil {
		arrived[src.Revision] = *d
	}
	return err
}

func deliveredIn(d *app.Delivery) string {
	says := fmt.Sprintf("delivered to %d of %d", d.Reached, d.Expected)
	if d.All >= 0 {
		says += " after " + lasted(d.All)
	}
	return says
}

// lasted says a span of milliseconds in one unit.
func lasted(ms int64) string {
	switch d := time.Duration(ms) * time.Millisecond; {
	case d < time.Second:
		return fmt.Sprintf("%d ms", ms)
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	default:
		return fmt.Sprintf("%.0f d", d.Hours()/24)
	}
}

// say says who did what, and where. The action that touches an environment tells most.
func (c *Changed) say() {
	tells := c.In[0]
	var where []words.Token
	for _, t := range c.In {
		if t.Environment == "" {
			continue
		}
		if tells.Environment == "" {
			tells = t
		}
		if !slices.Contains(where, words.Key(t.Environment)) {
			where = append(where, words.Key(t.Environment))
		}
	}
	// A definition that is changed, and with it the documents everywhere, is one thing.
	for _, t := range c.In {
		if t.Environment == "" && t.Action != "" {
			tells = t
		}
	}
	c.Action, c.Subject = tells.Action, tells.Subject
	verb, known := done[tells.Action]
	if !known {
		verb = tells.Action
	}
	c.Says = words.Say("%s %s", words.Name(c.Name), verb)
	if strings.HasPrefix(tells.Action, "proposal.") && len(tells.Difference) > 0 { // people know it by its title
		c.Says = words.Say("%s %s", c.Says, tells.Difference[0])
	} else if tells.Subject != "" {
		c.Says = words.Say("%s %s", c.Says, words.Key(tells.Subject))
	}
	if len(where) > 0 {
		c.Says = words.Say("%s in %s", c.Says, words.List(where))
	}
	if len(c.Signed) > 0 {
		names := make([]words.Token, len(c.Signed))
		for i, name := range c.Signed {
			names[i] = words.Name(name)
		}
		c.Says = words.Say("%s, signed by %s", c.Says, words.List(names))
	}
}

// eachChange hands all changes that a filter finds to visit, newest first; begin is called once the filter is
// known to be good.
func (c *call) eachChange(begin func() error, visit func(*Changed) error) error {
	c.ctx = c.Request().Context() // it takes as long as it takes
	f, err := c.changeFilter()
	if err != nil {
		return err
	}
	if err := begin(); err != nil {
		return err
	}
	stream := http.NewResponseController(c.Response())
	for {
		page, err := c.changesOf(f)
		if err != nil {
			return err
		}
		_ = stream.SetWriteDeadline(time.Now().Add(c.api.Limits.Time))
		for i := range page.Items {
			if err := visit(&page.Items[i]); err != nil {
				return err
			}
		}
		if page.Cursor == "" {
			return nil
		}
	}
}

// taken has a browser save what comes under a name.
func (c *call) taken(kind, name string) {
	h := c.Response().Header()
	h.Set("Content-Type", kind)
	h.Set("Content-Disposition", `attachment; filename="`+name+`"`)
}

// changesJSON streams what a filter finds as a list in JSON.
func (c *call) changesJSON() error {
	w, before := c.Response(), "[\n"
	err := c.eachChange(func() error { c.taken("application/json", "history.json"); return nil },
		func(item *Changed) error {
			raw, err := json.Marshal(item)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(w, "%s%s", before, raw)
			before = ",\n"
			return err
		})
	if err != nil {
		return err
	}
	if before == "[\n" {
		_, err = fmt.Fprint(w, "[")
	}
	if err == nil {
		_, err = fmt.Fprint(w, "\n]\n")
	}
	return err
}

// changesCSV streams what a filter finds as CSV (RFC 4180): a line for each place that a change touched.
func (c *call) changesCSV() error {
	w := csv.NewWriter(c.Response())
	err := c.eachChange(func() error {
		c.taken("text/csv; charset=utf-8; header=present", "history.csv")
		return w.Write([]string{"at", "who", "through", "action", "subject", "environment", "revision", "version",
			"difference", "reason", "ended", "change", "chain", "sequence"})
	}, func(item *Changed) error {
		for _, t := range item.In {
			lines := make([]string, len(t.Difference))
			for i, l := range t.Difference {
				lines[i] = l.String()
			}
			if err := w.Write([]string{time.UnixMilli(item.At).UTC().Format(time.RFC3339Nano), plainCell(item.Name),
				item.Actor.Through, t.Action, plainCell(t.Subject), t.Environment, strconv.FormatInt(t.Revision, 10),
				strconv.FormatInt(t.Version, 10), plainCell(strings.Join(lines, "\n")), plainCell(item.Reason),
				t.Ended,
				item.Change, t.Chain, strconv.FormatInt(t.Sequence, 10)}); err != nil {
				return err
			}
		}
		return nil
	})
	w.Flush()
	return errors.Join(err, w.Error())
}

// plainCell keeps a spreadsheet from taking what people wrote for a formula.
func plainCell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// PastFlag is a flag as it stood.
type PastFlag struct {
	Revision int64          `json:"revision"`
	Made     int64          `json:"made"` // when the revision was made
	Document *flag.Document `json:"document"`
	Sentence words.Said     `json:"sentence"`
	Says     []words.Said   `json:"says"`
	// Moved is what the revision moved, on the units that were seen lately; missing for the first.
	Moved *shift.Shift `json:"moved,omitempty"`
	// Since is what was changed from then to now.
	Since []words.Said `json:"since"`
}

func (c *call) pastFlag(*none) (any, error) {
	revision, err := strconv.ParseInt(c.Param("revision"), 10, 64)
	if err != nil || revision < 1 {
		return nil, app.Faultf(app.NotFound, "%q is no revision", c.Param("revision"))
	}
	key := c.Param("flag")
	at := func(r int64) (*decide.Ruleset, error) {
		src, err := c.api.Records.RulesetAt(c.ctx, c.e.ID, r)
		if err != nil {
			return nil, err
		}
		return decide.Compile(src, zones.Find), nil
	}
	then, err := at(revision)
	if err != nil {
		return nil, err
	}
	f := then.Flag(key)
	if f == nil {
		return nil, app.Faultf(app.NotFound, "there was no flag %s in this environment at revision %d", key, revision)
	}
	place, err := c.api.Hub.Place(c.ctx, c.e.ID)
	if err != nil {
		return nil, err
	}
	names := c.api.Population.Names(c.ctx, c.e.ID)
	doc := f.Document()
	out := &PastFlag{Revision: revision, Made: then.Source.At, Document: doc, Since: []words.Said{},
		Sentence: sentence.Of(doc, len(f.Stops()) > 0, names), Says: sentence.Parts(doc, names)}
	if now := place.Rules().Flag(key); now != nil {
		out.Since = diff.Said(diff.Flags(doc, now.Document()))
	}
	if revision == 1 {
		return out, nil
	}
	before, err := at(revision - 1)
	if err != nil || before.Flag(key) == nil {
		return out, err
	}
	units, err := c.api.Population.Units(c.ctx, c.e.ID, condition.KeyAttribute)
	if err != nil {
		return nil, err
	}
	out.Moved = shift.Between(before, then, key, units, c.api.Now().UnixMilli())
	return out, nil
}
