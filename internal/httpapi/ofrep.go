package httpapi

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
)

// OpenFeature Remote Evaluation Protocol.

func (a *API) addOFREP(e *echo.Echo) {
	const path = "/ofrep/v1/evaluate/flags"
	for _, p := range []string{path, path + "/*"} {
		e.OPTIONS(p, func(c *echo.Context) error {
			h := c.Response().Header()
			h.Set("Access-Control-Allow-Methods", "POST, OPTIONS")
			h.Set("Access-Control-Allow-Headers", "Content-Type, If-None-Match, Authorization")
			h.Set("Access-Control-Max-Age", "600")
			cors(c)
			return c.NoContent(http.StatusNoContent)
		})
	}
	e.POST(path, a.evaluateAll)
	e.POST(path+"/*", a.evaluateOne)
}

// cors lets pages of any origin ask: the access key is what counts, and no cookie is taken here.
func cors(c *echo.Context) {
	if c.Request().Header.Get("Origin") == "" {
		return // not a page
	}
	h := c.Response().Header()
	h.Set("Access-Control-Allow-Origin", "*")
	h.Set("Access-Control-Expose-Headers", "ETag, Retry-After")
}

// ofrepError is an error as the protocol writes it.
type ofrepError struct {
	Key     string `json:"key,omitempty"`
	Code    string `json:"errorCode"`
	Details string `json:"errorDetails,omitempty"`
}

// asked reads what remote evaluation needs; where it wrote an answer already, key is nil.
func (a *API) asked(c *echo.Context, flagKey string) (key *feed.Live, rules *decide.Ruleset, unit *condition.Context, err error) {
	cors(c)
	if key, err = a.accessKey(c); err != nil {
		return nil, nil, nil, err
	}
	if !key.Allow(a.Limits.KeyRate) {
		return nil, nil, nil, app.Faultf(app.TooMany, "too many evaluations with this access key: at most %.0f a second", a.Limits.KeyRate)
	}
	raw, err := readBody(c, a.Limits.Body)
	if err != nil {
		return nil, nil, nil, err
	}
	bad := func(code, details string) (*feed.Live, *decide.Ruleset, *condition.Context, error) {
		return nil, nil, nil, c.JSON(http.StatusBadRequest, ofrepError{flagKey, code, details})
	}
	if !utf8.Valid(raw) {
		return bad("PARSE_ERROR", "the body is not valid UTF-8")
	}
	body := map[string]any{}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	if err := dec.Decode(&body); err != nil && (err != io.EOF || len(raw) > 0) {
		return bad("PARSE_ERROR", `the body must be JSON such as {"context":{"targetingKey":"recipient-17"}}`)
	}
	if unit, err = condition.ContextOf(body["context"]); err != nil {
		return bad("INVALID_CONTEXT", err.Error())
	}
	place, err := a.Hub.Place(c.Request().Context(), key.EnvironmentID)
	if err != nil {
		return nil, nil, nil, err
	}
	return key, place.Rules(), unit, nil
}

func (a *API) evaluateOne(c *echo.Context) error {
	flagKey := c.Param("*")
	if plain, err := url.PathUnescape(flagKey); err == nil {
		flagKey = plain
	}
	key, rules, unit, err := a.asked(c, flagKey)
	if err != nil || key == nil {
		return err
	}
	f := rules.Flag(flagKey)
	if f == nil || !f.Visible && key.Kind == app.BrowserKey {
		return c.JSON(http.StatusNotFound, ofrepError{flagKey, "FLAG_NOT_FOUND", "there is no such flag"})
	}
	o := f.Decide(rules, unit)
	a.usage.count(key.EnvironmentID, f, o)
	if o.Reason == decide.Error {
		return c.JSON(http.StatusInternalServerError, ofrepError{flagKey, "GENERAL", "the flag's document cannot be read"})
	}
	return c.JSONBlob(http.StatusOK, appendAnswer(nil, rules, f, o, key.Kind == app.ServiceKey))
}

func (a *API) evaluateAll(c *echo.Context) error {
	key, rules, unit, err := a.asked(c, "")
	if err != nil || key == nil {
		return err
	}
	var keys []string
	for f := range rules.Flags {
		if f.Visible || key.Kind == app.ServiceKey {
			keys = append(keys, f.Key)
		}
	}
	slices.Sort(keys)
	body := []byte(`{"flags":[`)
	for i, k := range keys {
		if i > 0 {
			body = append(body, ',')
		}
		f := rules.Flag(k)
		o := f.Decide(rules, unit)
		if o.Reason == decide.Error {
			body = append(body, mustJSON(ofrepError{k, "GENERAL", "the flag's document cannot be read"})...)
			continue
		}
		body = appendAnswer(body, rules, f, o, key.Kind == app.ServiceKey)
	}
	body = append(body, `],"metadata":{}}`...)
	sum := sha256.Sum256(body)
	etag := `"` + hex.EncodeToString(sum[:16]) + `"`
	c.Response().Header().Set("ETag", etag)
	if c.Request().Header.Get("If-None-Match") == etag {
		return c.NoContent(http.StatusNotModified)
	}
	return c.JSONBlob(http.StatusOK, body)
}

// appendAnswer writes one answer. Keys, variants and reasons are of plain characters, and
// values are JSON already. The revision is left out of bulk answers' ETag by not being
// part of what a browser sees; service keys see it.
func appendAnswer(b []byte, rules *decide.Ruleset, f *decide.Flag, o decide.Outcome, service bool) []byte {
	v := f.Variant(o.Variant)
	b = append(b, `{"key":"`...)
	b = append(b, f.Key...)
	b = append(b, `","value":`...)
	b = append(b, v.Raw...)
	b = append(b, `,"variant":"`...)
	b = append(b, v.Name...)
	b = append(b, `","reason":"`...)
	b = append(b, o.Reason.String()...)
	b = append(b, `","metadata":{`...)
	if service {
		b = append(b, `"revision":`...)
		b = strconv.AppendInt(b, rules.Source.Revision, 10)
		if id := f.RuleID(o); id != "" {
			b = append(b, `,"rule":`...)
			b = append(b, mustJSON(id)...)
		}
		if o.Note == decide.Missing {
			b = append(b, `,"missing":`...)
			b = append(b, mustJSON(f.MissingBy())...)
		}
	}
	return append(b, "}}"...)
}

// usage counts what is decided in the service, until it is written to the records.
type usage struct{ flags sync.Map } // *decide.Flag -> *flagUsage: a pointer is looked up without allocating

type flagUsage struct {
	environment int64
	cells       []atomic.Uint64 // of each variant, and of errors
}

func (u *usage) count(environment int64, f *decide.Flag, o decide.Outcome) {
	cells, ok := u.flags.Load(f)
	if !ok {
		cells, _ = u.flags.LoadOrStore(f, &flagUsage{environment, make([]atomic.Uint64, len(f.Variants())+1)})
	}
	at := int(o.Variant)
	if at < 0 {
		at = len(f.Variants())
	}
	cells.(*flagUsage).cells[at].Add(1)
}

// take gives what was counted since the last time, by environment. A flag is dropped once
// nothing came in for a whole round, so that those of old revisions do not pile up.
func (u *usage) take() map[int64][]app.CountLine {
	out := map[int64][]app.CountLine{}
	u.flags.Range(func(key, value any) bool {
		f, used := key.(*decide.Flag), value.(*flagUsage)
		counted := used.take(f, out)
		if !counted {
			u.flags.Delete(key)
			used.take(f, out) // what came in between
		}
		return true
	})
	return out
}

func (u *flagUsage) take(f *decide.Flag, out map[int64][]app.CountLine) (counted bool) {
	for i := range u.cells {
		n := u.cells[i].Swap(0)
		if n == 0 {
			continue
		}
		counted = true
		line := app.CountLine{Flag: f.Key, Count: n}
		if v := f.Variant(int16(i)); v != nil {
			line.Variant = v.Name
		}
		out[u.environment] = append(out[u.environment], line)
	}
	return counted
}

// WriteUsage writes what was decided in the service to the records.
func (a *API) WriteUsage(ctx context.Context) error {
	var err error
	for env, lines := range a.usage.take() {
		err = errors.Join(err, a.Records.AddCounts(ctx, env, a.Now().UnixMilli(), lines))
		for _, l := range lines {
			a.metrics.decisions.Add(float64(l.Count))
		}
	}
	return err
}
