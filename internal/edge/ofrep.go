package edge

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/web"
)

// OpenFeature Remote Evaluation Protocol.

func (a *Edge) addOFREP(e *echo.Echo) {
	const path = "/ofrep/v1/evaluate/flags"
	for _, p := range []string{path, path + "/*"} {
		e.OPTIONS(p, preflight)
	}
	e.POST(path, a.evaluateAll)
	e.POST(path+"/*", a.evaluateOne)
	e.GET(streamPath, a.changes)
}

// preflight answers what a browser asks before a page of another origin may post. It carries
// no key, so origins are looked at when the request itself comes.
func preflight(c *echo.Context) error {
	h := c.Response().Header()
	h.Set("Access-Control-Allow-Methods", "POST, OPTIONS")
	h.Set("Access-Control-Allow-Headers", allowed(c.Request().Header.Values("Access-Control-Request-Headers")))
	h.Set("Access-Control-Max-Age", "600")
	cors(c)
	return c.NoContent(http.StatusNoContent)
}

// fieldName is the name of a header (RFC 9110, 5.1).
var fieldName = regexp.MustCompile("^[-!#$%&'*+.^_`|~0-9A-Za-z]+$")

// allowed names the headers that a page may send: those that are taken here, and whatever else its
// tools add, such as traceparent. No cookie is taken, so none of them lends anybody a right.
func allowed(asked []string) string {
	names := []string{"Content-Type", "If-None-Match", "Authorization", web.KeyHeader, flag.SeeAsHeader}
	for _, name := range strings.Split(strings.Join(asked, ","), ",") {
		name = strings.TrimSpace(name)
		if len(names) < 50 && len(name) <= 100 && fieldName.MatchString(name) && !slices.ContainsFunc(names,
			func(n string) bool { return strings.EqualFold(n, name) }) {
			names = append(names, name)
		}
	}
	return strings.Join(names, ", ")
}

// cors lets pages of any origin read the answer: the access key is what counts, and no
// cookie is taken here. A key that is bound to origins is checked by [fromPage].
func cors(c *echo.Context) {
	if c.Request().Header.Get("Origin") == "" {
		return // not a page
	}
	h := c.Response().Header()
	h.Set("Access-Control-Allow-Origin", "*")
	h.Set("Access-Control-Expose-Headers", "ETag, Retry-After")
}

// fromPage refuses a page of an origin that the key is not for, and lets no page read why.
func fromPage(c *echo.Context, key *feed.Live) error {
	origin := c.Request().Header.Get("Origin")
	if origin == "" || len(key.Origins) == 0 || slices.Contains(key.Origins, origin) {
		return nil
	}
	c.Response().Header().Del("Access-Control-Allow-Origin")
	return app.Faultf(app.Forbidden, "this access key is not for pages of %s", origin)
}

// ofrepError is an error as the protocol writes it.
type ofrepError struct {
	Key     string `json:"key,omitempty"`
	Code    string `json:"errorCode"`
	Details string `json:"errorDetails,omitempty"`
}

// asked reads what remote evaluation needs; where it wrote an answer already, key is nil.
func (a *Edge) asked(c *echo.Context,
	flagKey string) (key *feed.Live, rules *decide.Ruleset, unit *condition.Context, err error) {
	cors(c)
	if key, err = a.accessKey(c); err != nil {
		return nil, nil, nil, err
	}
	if key.Kind == app.IngestKey {
		return nil, nil, nil, app.Faultf(app.Forbidden, "an ingest key sends measurements: answers take a service or "+
			"browser key")
	}
	if err := fromPage(c, key); err != nil {
		return nil, nil, nil, err
	}
	if !key.Allow(a.Limits.KeyRate) {
		return nil, nil, nil, app.Faultf(app.TooMany, "too many evaluations with this access key: at most %.0f a "+
			"second", a.Limits.KeyRate)
	}
	raw, err := web.ReadBody(c, a.Limits.Body)
	if err != nil {
		return nil, nil, nil, err
	}
	bad := func(code, details string) (*feed.Live, *decide.Ruleset, *condition.Context, error) {
		return nil, nil, nil, c.JSON(http.StatusBadRequest, ofrepError{flagKey, code, details})
	}
	body := map[string]any{}
	if len(raw) > 0 {
		tree, err := condition.Sent(raw)
		if err != nil {
			return bad("PARSE_ERROR", "the body "+err.Error())
		}
		var ok bool
		if body, ok = tree.(map[string]any); !ok && tree != nil {
			return bad("PARSE_ERROR",
				`the body must be a JSON object such as {"context":{"targetingKey":"recipient-17"}}`)
		}
	}
	if unit, err = condition.ContextOf(body["context"]); err != nil {
		return bad("INVALID_CONTEXT", err.Error())
	}
	place, err := a.Hub.Place(c.Request().Context(), key.EnvironmentID)
	if err != nil {
		return nil, nil, nil, err
	}
	known, err := a.Population.Known(c.Request().Context(), key.EnvironmentID)
	if err == nil && key.Kind == app.BrowserKey && len(known.ServerOnly) > 0 {
		unit = unit.Without(func(name string) bool { return known.ServerOnly[name] })
	} else if err != nil && key.Kind == app.BrowserKey {
		return nil, nil, nil, err // what a browser may claim is not known
	}
	rules = place.Deciding(a.silence(key.EnvironmentID))
	return key, rules, a.seeAs(c.Request(), rules, unit), nil
}

// silence is for how many whole minutes an outpost has not heard of the service.
func (a *Edge) silence(environment int64) int {
	if a.Contact == nil {
		return 0
	}
	return int((a.Now().UnixMilli() - a.Contact(environment)) / 60_000)
}

// seeAs adds the override that a request carries, if it is genuine; else the request is
// answered as if it carried none.
func (a *Edge) seeAs(r *http.Request, rules *decide.Ruleset, unit *condition.Context) *condition.Context {
	token := r.Header.Get(flag.SeeAsHeader)
	if cookie, err := r.Cookie(flag.SeeAsCookie); token == "" && err == nil {
		token = cookie.Value
	}
	if token == "" {
		return unit
	}
	s, err := flag.ReadSeeAs(token, rules.Source.SeeAs, a.Now().UnixMilli())
	if err != nil {
		return unit
	}
	return unit.Seeing(s.Variants)
}

// note notes a unit for the population, with what shares are drawn by beside the key.
func (a *Edge) note(ctx context.Context, environment int64, draws []condition.Name, unit *condition.Context) {
	if known, err := a.Population.Known(ctx, environment); err == nil {
		a.Population.Note(known, environment, draws, unit)
	}
}

func (a *Edge) evaluateOne(c *echo.Context) error {
	flagKey := c.Param("*")
	if plain, err := url.PathUnescape(flagKey); err == nil {
		flagKey = plain
	}
	key, rules, unit, err := a.asked(c, flagKey)
	if err != nil || key == nil {
		return err
	}
	f := rules.Flag(flagKey)
	if f == nil && key.Kind == app.ServiceKey {
		a.counts.Unknown(key.EnvironmentID, flagKey)
	}
	if f == nil || !f.Visible && key.Kind == app.BrowserKey {
		return c.JSON(http.StatusNotFound, ofrepError{flagKey, "FLAG_NOT_FOUND", "there is no such flag"})
	}
	o := f.Decide(rules, unit, a.Now().UnixMilli())
	a.counts.Count(key.EnvironmentID, rules, f, o, "")
	a.note(c.Request().Context(), key.EnvironmentID, f.Draws, unit)
	a.expose(key.EnvironmentID, f, o, unit, a.Now().UnixMilli())
	if o.Reason == decide.Error {
		return c.JSON(http.StatusInternalServerError, ofrepError{flagKey, "GENERAL",
			"the flag's document cannot be read"})
	}
	return c.JSONBlob(http.StatusOK, appendAnswer(nil, rules, f, o, key.Kind == app.ServiceKey))
}

func (a *Edge) evaluateAll(c *echo.Context) error {
	key, rules, unit, err := a.asked(c, "")
	if err != nil || key == nil {
		return err
	}
	service := key.Kind == app.ServiceKey
	place := a.order.of(key.EnvironmentID, rules)
	flags := place.all
	if !service {
		flags = place.visible
	}
	now := a.Now().UnixMilli()
	if unit.Key() != "" {
		a.audience.Asked(key.EnvironmentID, unit.Key(), now)
	}
	outcomes := make([]decide.Outcome, len(flags))
	said := make([]byte, 0, 64+24*len(flags)) // what the answers say, in short
	if service {
		said = fmt.Appendf(said, "%d.%d", rules.Source.Epoch, rules.Source.Revision)
	}
	said = binary.LittleEndian.AppendUint64(said, uint64(spell(now)))
	a.note(c.Request().Context(), key.EnvironmentID, place.draws, unit)
	for i, f := range flags {
		o := f.Decide(rules, unit, now)
		outcomes[i] = o
		said = f.appendMark(said, o, service)
	}
	if web.Tagged(c, said) {
		return c.NoContent(http.StatusNotModified)
	}
	body := append(make([]byte, 0, 512+160*len(flags)), `{"flags":[`...)
	for i, f := range flags {
		if i > 0 {
			body = append(body, ',')
		}
		if outcomes[i].Reason == decide.Error {
			body = append(body, web.MustJSON(ofrepError{f.Key, "GENERAL", "the flag's document cannot be read"})...)
			continue
		}
		body = append(body, f.heads[outcomes[i].Variant]...)
		body = appendWay(body, rules, f.Flag, outcomes[i], service)
	}
	body = append(body, `],"metadata":{}`...)
	if c.QueryParam("counts") != "own" { // who does not count by itself what it uses
		for i, f := range flags {
			a.counts.Count(key.EnvironmentID, rules, f.Flag, outcomes[i], wire.BulkUse)
		}
	}
	// The address is relative to where the answers were asked for: whatever stands between knows
	// better than this process under which name it is reached.
	body = append(body, `,"eventStreams":[{"type":"sse","endpoint":{"requestUri":`...)
	body = append(body, web.MustJSON(streamPath+"?token="+a.tokens.of(key, rules, now))...)
	return c.JSONBlob(http.StatusOK, append(body, "}}]}"...))
}

// order keeps the flags of each environment sorted by key, so that no request has to.
type order struct{ places sync.Map } // environment -> *sorted

type sorted struct {
	rules        *decide.Ruleset
	all, visible []marked
	draws        []condition.Name // what any of the flags draws shares by, beside the key
}

// marked is a flag with, for each of its variants, what an answer with it always says, and a
// mark that stands for that.
type marked struct {
	*decide.Flag
	heads [][]byte
	marks []uint64
}

// appendMark adds what an answer says, in short: answers are alike exactly if that is.
func (m marked) appendMark(b []byte, o decide.Outcome, service bool) []byte {
	if o.Reason == decide.Error {
		return append(b, m.Key...)
	}
	b = append(binary.LittleEndian.AppendUint64(b, m.marks[o.Variant]), byte(o.Reason))
	if service {
		b = append(append(b, m.RuleID(o)...), 0)
		if o.Note == decide.Missing {
			b = append(b, m.MissingBy()...)
		}
	}
	return b
}

// mark is made once for each ruleset; it is the same in every process.
func mark(f *decide.Flag) marked {
	m := marked{Flag: f}
	all := f.Variants()
	for i := range all {
		head := appendHead(nil, f, &all[i])
		sum := sha256.Sum256(head)
		m.heads = append(m.heads, head)
		m.marks = append(m.marks, binary.LittleEndian.Uint64(sum[:]))
	}
	return m
}

func (o *order) of(environment int64, rules *decide.Ruleset) *sorted {
	if had, ok := o.places.Load(environment); ok && had.(*sorted).rules == rules {
		return had.(*sorted)
	}
	s := &sorted{rules: rules}
	for _, f := range slices.SortedFunc(rules.Flags, func(a, b *decide.Flag) int {
		return strings.Compare(a.Key, b.Key)
	}) {
		m := mark(f)
		s.all = append(s.all, m)
		for _, name := range f.Draws {
			if !slices.Contains(s.draws, name) {
				s.draws = append(s.draws, name)
			}
		}
		if f.Visible {
			s.visible = append(s.visible, m)
		}
	}
	o.places.Store(environment, s)
	return s
}

// appendAnswer writes one answer. Keys, variants and reasons are of plain characters, and
// values are JSON already. Browsers are told no rule and no revision.
func appendAnswer(b []byte, rules *decide.Ruleset, f *decide.Flag, o decide.Outcome, service bool) []byte {
	return appendWay(appendHead(b, f, f.Variant(o.Variant)), rules, f, o, service)
}

// appendHead writes what an answer with a variant always says.
func appendHead(b []byte, f *decide.Flag, v *decide.Variant) []byte {
	b = append(b, `{"key":"`...)
	b = append(b, f.Key...)
	b = append(b, `","value":`...)
	b = append(b, v.Raw...)
	b = append(b, `,"variant":"`...)
	b = append(b, v.Name...)
	return append(b, `","reason":"`...)
}

// appendWay writes how it came to the answer.
func appendWay(b []byte, rules *decide.Ruleset, f *decide.Flag, o decide.Outcome, service bool) []byte {
	b = append(b, o.Reason.String()...)
	b = append(b, `","metadata":{`...)
	if service {
		b = append(b, `"revision":`...)
		b = strconv.AppendInt(b, rules.Source.Revision, 10)
		if id := f.RuleID(o); id != "" {
			b = append(b, `,"rule":`...)
			b = append(b, web.MustJSON(id)...)
		}
		if o.Note == decide.Missing {
			b = append(b, `,"missing":`...)
			b = append(b, web.MustJSON(f.MissingBy())...)
		}
	}
	return append(b, "}}"...)
}
