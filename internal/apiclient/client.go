// Package apiclient speaks the management API, for everything of the project that is a client of
// it: the command line, the demo, the benchmarks.
//
//	c := &apiclient.Client{URL: "http://127.0.0.1:8090", Token: "glt_..."}
//	board, err := apiclient.Get[manage.Board](ctx, c, "/projects/pinecrest/board")
package apiclient

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
)

// Client is who asks where.
type Client struct {
	URL   string
	Token string // a personal one; empty: nobody's
	Agent string // what the client calls itself
	HTTP  *http.Client

	session, csrf string // of who signed in and has no token
}

// Call is one request.
type Call struct {
	Method, Path string    // below /api/v1
	Body         any       // written as JSON; nil: none
	Version      int64     // that was seen, for If-Match; 0 sends none
	Key          string    // idempotency key; empty: none
	File         io.Reader // a body that is no JSON
	Size         int64     // of the file, in bytes
	Reason       string    // of a change whose body is a file
	Base         string    // that the path is below; empty: /api/v1
}

// fileTime bounds a call whose body is a file.
const fileTime = 15 * time.Minute

// Problem is an answer that refuses.
type Problem struct {
	Status int            `json:"status"` // of HTTP
	Title  string         `json:"title"`
	Detail string         `json:"detail"`
	Fields []flag.Problem `json:"fields"`

	All json.RawMessage `json:"-"` // the whole document
}

// Error says the detail, or what is wrong with each field.
func (p *Problem) Error() string {
	if len(p.Fields) > 0 {
		return (&app.Fault{Fields: p.Fields}).Error()
	}
	if p.Detail != "" {
		return p.Detail
	}
	return fmt.Sprint(p.Status, " ", http.StatusText(p.Status))
}

// NoAnswer is returned where no answer came, so that nobody knows whether it was done.
type NoAnswer struct {
	URL string
	Err error
}

func (n *NoAnswer) Error() string { return fmt.Sprintf("no connection to %s: %v", n.URL, n.Err) }

// Unwrap is what went wrong with the connection.
func (n *NoAnswer) Unwrap() error { return n.Err }

// Send sends a call and gives the answer, whose body the caller closes. The error is a *Problem
// where the service refuses, and a *NoAnswer where it does not answer.
func (c *Client) Send(ctx context.Context, call Call) (*http.Response, error) {
	body := call.File
	if call.Body != nil {
		raw, err := json.Marshal(call.Body)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, call.Method, strings.TrimRight(c.URL, "/")+cmp.Or(call.Base,
		"/api/v1")+call.Path, body)
	if err != nil {
		return nil, fmt.Errorf("%q is no address of a service", c.URL)
	}
	client := http.DefaultClient
	if c.HTTP != nil {
		client = c.HTTP
	}
	h := req.Header
	h.Set("Content-Type", "application/json")
	if call.File != nil {
		h.Set("Content-Type", "text/plain; charset=utf-8")
		req.ContentLength = call.Size
		long := *client
		long.Timeout = fileTime
		client = &long
	}
	set := func(name, value string) {
		if value != "" {
			h.Set(name, value)
		}
	}
	if c.Token != "" {
		h.Set("Authorization", "Bearer "+c.Token)
	}
	set("Cookie", c.session)
	set("X-Greenlever-Csrf", c.csrf)
	set("User-Agent", c.Agent)
	set("Idempotency-Key", call.Key)
	set("Greenlever-Reason", url.PathEscape(call.Reason))
	if call.Version > 0 {
		h.Set("If-Match", fmt.Sprintf(`"%d"`, call.Version))
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, &NoAnswer{c.URL, err}
	}
	if res.StatusCode < http.StatusBadRequest {
		return res, nil
	}
	defer res.Body.Close()
	p := &Problem{}
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	_ = json.Unmarshal(raw, p) // what is no problem document has a status all the same
	p.Status, p.All = res.StatusCode, raw
	return nil, p
}

// Do sends a call and decodes its answer into out, unless that is nil.
func (c *Client) Do(ctx context.Context, call Call, out any) error {
	res, err := c.Send(ctx, call)
	if err != nil {
		return err
	}
	return Decode(c.URL, res, out)
}

// Decode reads an answer into out, unless that is nil, and closes it.
func Decode(from string, res *http.Response, out any) error {
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return &NoAnswer{from, fmt.Errorf("the answer broke off: %w", err)}
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(raw, out)
}

// Get reads what stands at an address.
func Get[T any](ctx context.Context, c *Client, path string) (*T, error) {
	return Answer[T](ctx, c, Call{Method: http.MethodGet, Path: path})
}

// Answer sends a call and gives its answer.
func Answer[T any](ctx context.Context, c *Client, call Call) (*T, error) {
	out := new(T)
	return out, c.Do(ctx, call, out)
}

// SignIn signs somebody in, as a browser does, and makes a personal token under a name, for so many
// days: the client of whoever it is.
func SignIn(ctx context.Context, c Client, email, password, name string, days int) (*Client, error) {
	res, err := c.Send(ctx, Call{Method: http.MethodPost, Path: "/sign-in", Body: map[string]string{"email": email,
		"password": password}})
	if err != nil {
		return nil, err
	}
	if cookies := res.Cookies(); len(cookies) > 0 {
		c.session = cookies[0].Name + "=" + cookies[0].Value
	}
	var me struct{ CSRF string }
	if err := Decode(c.URL, res, &me); err != nil {
		return nil, err
	}
	c.csrf = me.CSRF
	var token struct{ Secret string }
	err = c.Do(ctx, Call{Method: http.MethodPost, Path: "/me/tokens", Body: map[string]any{"name": name,
		"days": days}}, &token)
	return &Client{URL: c.URL, Token: token.Secret, Agent: c.Agent, HTTP: c.HTTP}, err
}
