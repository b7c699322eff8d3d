package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"sync"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/server"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// service is a service over a database of its own, with somebody who may do everything.
type service struct {
	*server.Server
	at, dir, token, key string
}

// url is where the service is, in this process or apart.
func (s *service) url() string { return s.at }

func newService(ctx context.Context, change ...func(*server.Config)) (*service, error) {
	dir, err := os.MkdirTemp("", "gl-bench-")
	if err != nil {
		return nil, err
	}
	s := &service{dir: dir}
	config := server.Config{Listen: "127.0.0.1:0", Dir: dir, Log: quiet}
	for _, c := range change {
		c(&config)
	}
	if s.Server, err = server.Start(ctx, config); err != nil {
		return nil, err
	}
	s.at = s.URL()
	if err := s.setUp(ctx, s.SetUpCode); err != nil {
		s.end()
		return nil, err
	}
	return s, nil
}

const (
	keeper   = "ida.holm@pinecrest.example"
	password = "only for the bench"
)

type object = map[string]any

// session calls the management API as a browser does.
type session struct {
	s             *service
	cookies, csrf string
}

func (b *session) call(ctx context.Context, method, path string, body, out any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, b.s.url()+"/api/v1"+path, bytes.NewReader(raw))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Cookie", b.cookies)
	req.Header.Set("X-Greenlever-CSRF", b.csrf)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		said, _ := io.ReadAll(res.Body)
		return fmt.Errorf("%s %s: %s", method, path, said)
	}
	if len(res.Cookies()) > 0 {
		b.cookies = res.Cookies()[0].Name + "=" + res.Cookies()[0].Value
	}
	return json.NewDecoder(res.Body).Decode(out)
}

// account makes the first account, and gives its id.
func (s *service) account(ctx context.Context, code string) (string, error) {
	var made struct{ ID string }
	err := (&session{s: s}).call(ctx, "POST", "/set-up", object{"code": code, "email": keeper, "name": "Ida Holm", "password": password}, &made)
	return made.ID, err
}

// signIn signs in and keeps a token.
func (s *service) signIn(ctx context.Context) error {
	b := &session{s: s}
	var me struct{ CSRF string }
	if err := b.call(ctx, "POST", "/sign-in", object{"email": keeper, "password": password}, &me); err != nil {
		return err
	}
	b.csrf = me.CSRF
	var token struct{ Secret string }
	err := b.call(ctx, "POST", "/me/tokens", object{"name": "bench", "days": 1}, &token)
	s.token = token.Secret
	return err
}

// setUp makes the first account, a project and an environment, and keeps their secrets.
func (s *service) setUp(ctx context.Context, code string) error {
	if _, err := s.account(ctx, code); err != nil {
		return err
	}
	if err := s.signIn(ctx); err != nil {
		return err
	}
	var made struct {
		Keys []struct{ Kind, Secret string }
	}
	if err := s.call("POST", "/projects", "", object{"key": "pinecrest"}, nil); err != nil {
		return err
	}
	if err := s.call("POST", "/projects/pinecrest/environments", "", object{"key": "production"}, &made); err != nil {
		return err
	}
	for _, k := range made.Keys {
		if k.Kind == "service" {
			s.key = k.Secret
		}
	}
	return nil
}

func (s *service) end() {
	_ = s.Stop()
	os.RemoveAll(s.dir)
}

// call calls the management API with the token.
func (s *service) call(method, path, version string, body, out any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	for {
		req, err := http.NewRequest(method, s.url()+"/api/v1"+path, bytes.NewReader(raw))
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+s.token)
		req.Header.Set("Content-Type", "application/json")
		if version != "" {
			req.Header.Set("If-Match", version)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		said, err := io.ReadAll(res.Body)
		res.Body.Close()
		if err != nil {
			return err
		}
		if res.StatusCode == http.StatusTooManyRequests {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		if res.StatusCode >= 300 {
			return fmt.Errorf("%s %s: %s", method, path, said)
		}
		if out == nil {
			return nil
		}
		return json.Unmarshal(said, out)
	}
}

func (s *service) addFlags(from, to int) error {
	for i := from; i < to; i++ {
		if err := s.call("POST", "/projects/pinecrest/flags", "", map[string]any{"key": fmt.Sprintf("flag-%d", i), "goneBy": "stays"}, nil); err != nil {
			return err
		}
	}
	return nil
}

// benchPush measures from the answer to a change until 100 clients decide by it, over 200
// changes among 1,000 flags, and the size of one change on the wire among 10,000.
func benchPush(ctx context.Context, _ int) ([]row, error) {
	const clients, changes, some, many = 100, 200, 1_000, 10_000
	s, err := newService(ctx)
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, some); err != nil {
		return nil, err
	}
	var all []*greenlever.Client
	for range clients {
		c, err := greenlever.Open(ctx, greenlever.Options{URL: s.url(), Key: s.key, Dir: s.dir, Application: "bench", Logger: quiet, Wait: time.Minute})
		if err != nil {
			return nil, err
		}
		defer c.Close()
		all = append(all, c)
	}
	const path = "/projects/pinecrest/environments/production/flags/flag-77"
	var v struct {
		Document flag.Document
		Version  int64
	}
	if err := s.call("GET", path, "", nil, &v); err != nil {
		return nil, err
	}
	var each, slowest []time.Duration
	for i := range changes {
		v.Document.Lever = []flag.Lever{flag.On, flag.Off}[i%2]
		var saved struct{ Version, Revision int64 }
		done := make(chan time.Time, clients)
		var ready sync.WaitGroup
		ready.Add(clients)
		for _, c := range all {
			go func() {
				before := c.State().Revision
				ready.Done()
				for {
					changed := c.Changed()
					if c.State().Revision > before {
						done <- time.Now()
						return
					}
					<-changed
				}
			}()
		}
		ready.Wait()
		if err := s.call("PUT", path, fmt.Sprint(v.Version), map[string]any{"document": v.Document}, &saved); err != nil {
			return nil, err
		}
		answered := time.Now()
		v.Version = saved.Version
		last := time.Duration(0)
		for range clients {
			d := max(0, (<-done).Sub(answered))
			each = append(each, d)
			last = max(last, d)
		}
		slowest = append(slowest, last)
	}
	for _, c := range all {
		c.Close()
	}
	if err := s.addFlags(some, many); err != nil {
		return nil, err
	}
	size := make(chan int, 1)
	go watchSize(ctx, s, size)
	v.Document.Lever = flag.On
	for len(size) == 0 { // until the feed is open and one change came through
		var saved struct{ Version int64 }
		v.Document.Lever = map[flag.Lever]flag.Lever{flag.On: flag.Off, flag.Off: flag.On}[v.Document.Lever]
		if err := s.call("PUT", path, fmt.Sprint(v.Version), map[string]any{"document": v.Document}, &saved); err != nil {
			return nil, err
		}
		v.Version = saved.Version
	}
	ms := func(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }
	return []row{
		{what: "one change among 10,000 flags, on the wire", ours: fmt.Sprintf("%d bytes", <-size), floor: "1000 bytes"},
		{what: "commit answered -> 100 clients: each p50", ours: ms(percentile(each, .5)), note: "p90 " + ms(percentile(each, .9)) + ", p99 " + ms(percentile(each, .99))},
		{what: "commit answered -> the last of 100: p50", ours: ms(percentile(slowest, .5)), note: "p90 " + ms(percentile(slowest, .9)) + ", max " + ms(percentile(slowest, 1))},
	}, nil
}

// watchSize reads a feed and gives the size of the first revision on it.
func watchSize(ctx context.Context, s *service, size chan<- int) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url()+"/follow/v1/feed", nil)
	if err != nil {
		return
	}
	req.Header.Set("Authorization", "Bearer "+s.key)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return
	}
	defer res.Body.Close()
	var seen []byte
	buffer := make([]byte, 4096)
	for {
		n, err := res.Body.Read(buffer)
		seen = append(seen, buffer[:n]...)
		if at := bytes.Index(seen, []byte("event: revision")); at >= 0 {
			if end := bytes.Index(seen[at:], []byte("\n\n")); end >= 0 {
				size <- end + 2
				return
			}
		}
		if err != nil {
			return
		}
	}
}
