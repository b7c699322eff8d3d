package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"sync"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/apiclient"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/server"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// service is a service over a database of its own, with somebody who may do everything.
type service struct {
	*server.Server
	at, dir, key string
	api          *apiclient.Client
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

// account makes the first account, and gives its id.
func (s *service) account(ctx context.Context, code string) (string, error) {
	made, err := apiclient.Answer[app.Account](ctx, &apiclient.Client{URL: s.url()}, apiclient.Call{Method: "POST",
		Path: "/set-up",
		Body: object{"code": code, "email": keeper, "name": "Ida Holm", "password": password}})
	return made.ID, err
}

// signIn signs in and keeps a token.
func (s *service) signIn(ctx context.Context) (err error) {
	s.api, err = apiclient.SignIn(ctx, apiclient.Client{URL: s.url()}, keeper, password, "bench", 1)
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
	if err := s.call("POST", "/projects", 0, object{"key": "pinecrest"}, nil); err != nil {
		return err
	}
	if err := s.call("POST", "/projects/pinecrest/environments", 0, object{"key": "production"}, &made); err != nil {
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

// call calls the management API; who asks too often waits.
func (s *service) call(method, path string, version int64, body, out any) error {
	for {
		err := s.ask(context.Background(), method, path, version, body, out)
		var p *apiclient.Problem
		if !errors.As(err, &p) || p.Status != http.StatusTooManyRequests {
			return err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// ask calls the management API once.
func (s *service) ask(ctx context.Context, method, path string, version int64, body, out any) error {
	err := s.api.Do(ctx, apiclient.Call{Method: method, Path: path, Body: body, Version: version}, out)
	if err != nil {
		return fmt.Errorf("%s %s: %w", method, path, err)
	}
	return nil
}

func (s *service) addFlags(from, to int) error {
	for i := from; i < to; i++ {
		if err := s.call("POST", "/projects/pinecrest/flags", 0, map[string]any{"key": fmt.Sprintf("flag-%d", i),
			"goneBy": "stays"}, nil); err != nil {
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
		c, err := greenlever.Open(ctx, greenlever.Options{URL: s.url(), Key: s.key, Dir: s.dir, Application: "bench",
			Logger: quiet, Wait: time.Minute})
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
	if err := s.call("GET", path, 0, nil, &v); err != nil {
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
		if err := s.call("PUT", path, v.Version, map[string]any{"document": v.Document}, &saved); err != nil {
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
		if err := s.call("PUT", path, v.Version, map[string]any{"document": v.Document}, &saved); err != nil {
			return nil, err
		}
		v.Version = saved.Version
	}
	ms := func(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }
	return []row{
		{what: "one change among 10,000 flags, on the wire", ours: fmt.Sprintf("%d bytes", <-size),
			floor: "1000 bytes"},
		{what: "commit answered -> 100 clients: each p50", ours: ms(percentile(each, .5)),
			note: "p90 " + ms(percentile(each, .9)) + ", p99 " + ms(percentile(each, .99))},
		{what: "commit answered -> the last of 100: p50", ours: ms(percentile(slowest, .5)),
			note: "p90 " + ms(percentile(slowest, .9)) + ", max " + ms(percentile(slowest, 1))},
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
