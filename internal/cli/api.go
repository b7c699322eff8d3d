package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// profile is a kept address and token.
type profile struct {
	URL     string `yaml:"url"`
	Token   string `yaml:"token"`
	Project string `yaml:"project,omitempty"`
	Env     string `yaml:"env,omitempty"`
}

func profilesPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "greenlever", "profiles.yaml"), nil
}

func readProfiles() (map[string]profile, error) {
	path, err := profilesPath()
	if err != nil {
		return map[string]profile{}, nil // no home: nothing is kept
	}
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return map[string]profile{}, nil
	}
	if err != nil {
		return nil, err
	}
	all := map[string]profile{}
	if err := yaml.Unmarshal(raw, &all); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	return all, nil
}

func writeProfile(name string, p profile) (string, error) {
	path, err := profilesPath()
	if err != nil {
		return "", err
	}
	all, err := readProfiles()
	if err != nil {
		return "", err
	}
	all[name] = p
	raw, err := yaml.Marshal(all)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	return path, os.WriteFile(path, raw, 0o600)
}

// api talks to the management API.
type api struct {
	url, token string
	try        bool   // no change is sent
	key        string // the idempotency key that was asked for
	http       *http.Client
	err        io.Writer
}

// connect finds the service's address and the token: options, then environment, then the profile.
func (s *session) connect() (*api, error) {
	all, err := readProfiles()
	if err != nil {
		return nil, err
	}
	p := all[s.profile]
	first := func(values ...string) string {
		for _, v := range values {
			if v != "" {
				return v
			}
		}
		return ""
	}
	s.project = first(s.project, os.Getenv("GREENLEVER_PROJECT"), p.Project)
	s.env = first(s.env, os.Getenv("GREENLEVER_ENV"), p.Env)
	a := &api{try: s.try, key: s.key, err: s.err, url: strings.TrimRight(first(s.url, os.Getenv("GREENLEVER_URL"), p.URL), "/"), token: first(os.Getenv("GREENLEVER_TOKEN"), p.Token), http: &http.Client{Timeout: time.Minute}}
	if a.url == "" {
		return nil, coded(exitUsage, "no service is known: run `greenlever sign-in`, or set GREENLEVER_URL and GREENLEVER_TOKEN")
	}
	if a.token == "" {
		return nil, coded(exitRefused, "no personal token is known: run `greenlever sign-in`, or set GREENLEVER_TOKEN")
	}
	return a, nil
}

// call is one request of the management API.
type request struct {
	method, path string
	body         any
	version      int64     // for If-Match; 0 sends none
	file         io.Reader // a body that is no JSON
	size         int64     // of the file, in bytes
	reason       string    // of a change whose body is a file
}

// keyed tells whether the request takes an idempotency key.
func (r request) keyed() bool {
	for _, without := range []string{"/me", "/accounts", "/sign-", "/set-up"} {
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
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return coded(exitNoConnection, "the answer broke off: %w", err)
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(raw, out)
}

// readsOnly tells whether a request changes nothing.
func (r request) readsOnly() bool {
	return r.method == http.MethodGet || strings.Contains(r.path, "dryRun=true") || strings.HasPrefix(r.path, "/conditions/") || strings.HasSuffix(r.path, "/why") || strings.HasSuffix(r.path, "/unit") || strings.HasSuffix(r.path, "/population/units") || r.path == "/accounts/find"
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
	var raw []byte
	var err error
	if r.body != nil {
		if raw, err = json.Marshal(r.body); err != nil {
			return nil, err
		}
	}
	if !r.keyed() {
		return a.once(ctx, r, raw, "")
	}
	pending := a.pending(r, raw)
	end := time.Now().Add(tryFor)
	for pause := firstTry; ; pause = min(2*pause, longestTry) {
		res, err := a.once(ctx, r, raw, pending.key)
		if ExitCode(err) != exitNoConnection || r.file != nil {
			pending.settled()
			return res, err
		}
		if ctx.Err() != nil || time.Now().Add(pause).After(end) {
			return nil, fmt.Errorf("%w; whether it was done is not known: the same command again within a day asks for the same change, under the key %s", err, pending.keep())
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

func (a *api) once(ctx context.Context, r request, raw []byte, key string) (*http.Response, error) {
	body := r.file
	if raw != nil {
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, r.method, a.url+"/api/v1"+r.path, body)
	if err != nil {
		return nil, coded(exitUsage, "%q is no address of a service", a.url)
	}
	req.Header.Set("Authorization", "Bearer "+a.token)
	req.Header.Set("User-Agent", "greenlever-cli")
	req.Header.Set("Content-Type", "application/json")
	client := a.http
	if r.file != nil {
		req.Header.Set("Content-Type", "text/plain; charset=utf-8")
		req.ContentLength = r.size
		long := *a.http
		long.Timeout = 15 * time.Minute
		client = &long
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	if r.reason != "" {
		req.Header.Set("Greenlever-Reason", url.PathEscape(r.reason))
	}
	if r.version > 0 {
		req.Header.Set("If-Match", fmt.Sprintf(`"%d"`, r.version))
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, coded(exitNoConnection, "no connection to %s: %w", a.url, err)
	}
	if res.StatusCode < 400 {
		return res, nil
	}
	defer res.Body.Close()
	return nil, problem(res)
}

// options are what the API's fields are called on the command line.
var options = map[string]string{"reason": "--because", "units": "--units", "span": "--span", "minutes": "--minutes"}

// problem turns a problem document into an error with its exit code.
func problem(res *http.Response) error {
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	var p struct {
		Title, Detail string
		Fields        []flag.Problem
	}
	_ = json.Unmarshal(raw, &p)
	said := p.Detail
	if said == "" {
		said = res.Status
	}
	if len(p.Fields) > 0 {
		f := &app.Fault{Fields: slices.Clone(p.Fields)}
		for i := range f.Fields {
			if option := options[f.Fields[i].Place]; option != "" {
				f.Fields[i].Place = option
			}
		}
		said = f.Error()
	}
	code := exitFailed
	switch res.StatusCode {
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
	return coded(code, "%s", said)
}

// inProject finds the project: the one named, or the only one there is.
func (s *session) inProject(ctx context.Context) (*api, string, error) {
	a, err := s.connect()
	if err != nil {
		return nil, "", err
	}
	if s.project == "" {
		var all struct{ Items []app.Project }
		if err := a.do(ctx, request{method: "GET", path: "/projects"}, &all); err != nil {
			return nil, "", err
		}
		if len(all.Items) != 1 {
			return nil, "", coded(exitUsage, "there are %d projects: say which with --project", len(all.Items))
		}
		s.project = all.Items[0].Key
	}
	return a, "/projects/" + url.PathEscape(s.project), nil
}

// inEnvironment finds the environment that is named, or the only one there is.
func (s *session) inEnvironment(ctx context.Context) (*api, string, *app.Environment, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	var all struct{ Items []app.Environment }
	if err := a.do(ctx, request{method: "GET", path: path + "/environments"}, &all); err != nil {
		return nil, "", nil, err
	}
	var keys []string
	for _, e := range all.Items {
		keys = append(keys, e.Key)
		if e.Key == s.env || s.env == "" && len(all.Items) == 1 {
			s.env = e.Key
			return a, path + "/environments/" + url.PathEscape(e.Key), &e, nil
		}
	}
	if s.env == "" {
		return nil, "", nil, coded(exitUsage, "say which environment with --env: %s", strings.Join(keys, ", "))
	}
	return nil, "", nil, coded(exitNotFound, "there is no environment %s in project %s: there are %s", s.env, s.project, strings.Join(keys, ", "))
}
