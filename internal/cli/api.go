package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/apiclient"
)

// api talks to the management API.
type api struct {
	*apiclient.Client
	try     bool   // no change is sent
	propose string // no change is made, but proposed: new, or the id of a proposal
	force   bool   // policies are overruled
	key     string // the idempotency key that was asked for
	err     io.Writer
}

// call is one request of the management API.
type request struct {
	method, path string
	body         any
	version      int64     // for If-Match; 0 sends none
	file         io.Reader // a body that is no JSON
	size         int64     // of the file, in bytes
	reason       string    // of a change whose body is a file
	base         string    // that the path is below; empty: that of the management API
}

// keyed tells whether the request takes an idempotency key.
func (r request) keyed() bool {
	for _, without := range []string{"/me", "/accounts", "/teams", "/robots", "/sign-", "/set-up"} {
		if strings.HasPrefix(r.path, without) {
			return false
		}
	}
	return !r.readsOnly()
}

// withReason is a body with a reason beside it.
func withReason(body any, reason string) any {
	raw, err := json.Marshal(body)
	all := map[string]json.RawMessage{}
	if err != nil || json.Unmarshal(raw, &all) != nil || reason == "" {
		return body
	}
	all["reason"], _ = json.Marshal(reason) // a text
	return all
}

// do sends a request and decodes its answer into out, unless that is nil.
func (a *api) do(ctx context.Context, r request, out any) error {
	res, err := a.send(ctx, r)
	if err != nil {
		return err
	}
	return refusal(apiclient.Decode(a.URL, res, out))
}

// readsOnly tells whether a request changes nothing.
func (r request) readsOnly() bool {
	return r.method == http.MethodGet || strings.Contains(r.path, "dryRun=true") || strings.HasPrefix(r.path,
		"/conditions/") || strings.HasSuffix(r.path, "/why") || strings.HasSuffix(r.path, "/policies/try") ||
		strings.HasSuffix(r.path, "/unit") ||
		strings.HasSuffix(r.path, "/population/units") || r.path == "/accounts/find"
}

// Times of tries of one change: an answer that does not come is asked for again, under the
// same key, so that nothing is done twice.
const (
	tryFor     = 25 * time.Second
	firstTry   = 200 * time.Millisecond
	longestTry = 3 * time.Second
)

// send sends a request. A change is tried again for a while where nobody knows whether it was
// done, and its key is kept, so that the same command later asks for the same change.
func (a *api) send(ctx context.Context, r request) (*http.Response, error) {
	if a.try && !r.readsOnly() {
		return nil, coded(exitUsage, "this cannot be tried, only done: nothing was changed")
	}
	add := func(name, value string) {
		r.path += map[bool]string{true: "&", false: "?"}[strings.Contains(r.path,
			"?")] + name + "=" + url.QueryEscape(value)
	}
	if a.force && r.method != http.MethodGet && strings.HasPrefix(r.path, "/projects/") && r.proposable() {
		add("force", "true")
	}
	if a.propose != "" && r.method != http.MethodGet && strings.HasPrefix(r.path, "/projects/") && r.proposable() {
		add("propose", a.propose)
	}
	var raw []byte
	var err error
	if r.body != nil {
		if raw, err = json.Marshal(r.body); err != nil {
			return nil, err
		}
	}
	if !r.keyed() || a.propose != "" {
		return a.once(ctx, r, "")
	}
	pending := a.pending(r, raw)
	end := time.Now().Add(tryFor)
	for pause := firstTry; ; pause = min(2*pause, longestTry) {
		res, err := a.once(ctx, r, pending.key)
		if ExitCode(err) != exitNoConnection || r.file != nil {
			pending.settled()
			return res, err
		}
		if ctx.Err() != nil || time.Now().Add(pause).After(end) {
			return nil, fmt.Errorf("%w; whether it was done is not known: the same command again within a day asks "+
				"for the same change, under the key %s", err, pending.keep())
		}
		if pause == firstTry {
			fmt.Fprintf(a.err, "no answer (%v); trying again under the key %s ...\n", err, pending.key)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (a *api) once(ctx context.Context, r request, key string) (*http.Response, error) {
	res, err := a.Send(ctx, apiclient.Call{Method: r.method, Path: r.path, Body: r.body, Version: r.version, Key: key,
		File: r.file, Size: r.size, Reason: r.reason, Base: r.base})
	if err == nil && res.StatusCode == http.StatusAccepted {
		var p struct{ ID, Title string }
		if err := apiclient.Decode(a.URL, res, &p); err != nil {
			return nil, refusal(err)
		}
		return nil, &proposed{p.ID, p.Title}
	}
	return res, refusal(err)
}

// proposable tells whether a request is a change, or looks what one would do.
func (r request) proposable() bool {
	return !r.readsOnly() || strings.Contains(r.path, "dryRun=true")
}

// options are what the API's fields are called on the command line.
var options = map[string]string{"reason": "--because", "units": "--units", "span": "--span", "minutes": "--minutes"}

// refusal gives an error of the API its exit code, and fields the names of their options.
func refusal(err error) error {
	var p *apiclient.Problem
	var none *apiclient.NoAnswer
	switch {
	case err == nil:
		return nil
	case errors.As(err, &none):
		return &codedError{exitNoConnection, err}
	case !errors.As(err, &p):
		return err
	}
	said := *p
	said.Fields = slices.Clone(p.Fields)
	said.Detail = strings.Replace(said.Detail, "propose the change", "propose the change, with --propose", 1)
	for i := range said.Fields {
		if option := options[said.Fields[i].Place]; option != "" {
			said.Fields[i].Place = option
		}
	}
	code := exitFailed
	switch p.Status {
	case http.StatusUnauthorized, http.StatusForbidden:
		code = exitRefused
	case http.StatusNotFound:
		code = exitNotFound
	case http.StatusConflict, http.StatusPreconditionFailed, http.StatusPreconditionRequired:
		code = exitConflict
	case http.StatusBadRequest, http.StatusRequestEntityTooLarge:
		code = exitInvalid
	case http.StatusServiceUnavailable, http.StatusBadGateway, http.StatusGatewayTimeout:
		code = exitNoConnection
	}
	return &codedError{code, &said}
}
