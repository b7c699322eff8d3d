package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
)

const evaluate = "/ofrep/v1/evaluate/flags"

// asking is a load of remote evaluations.
type asking struct {
	path   func(worker, i int) string
	each   int    // requests of each worker
	known  string // ETag; the answer is then that there is nothing new
	bodies [4096][]byte
	key    string
}

func newAsking(key string, each int, path func(worker, i int) string) *asking {
	a := &asking{path: path, each: each, key: key}
	for i := range a.bodies {
		n := i * 211
		a.bodies[i] = fmt.Appendf(nil,
			`{"context":{"targetingKey":"recipient-%d","site":{"id":"site-%d","region":"north"},"crew_size":%d}}`, n,
			n%600, n%7)
	}
	return a
}

// one sends one request and gives the answer and its ETag.
func (a *asking) one(client *http.Client, url string, worker, i int) (answer []byte, etag string, err error) {
	req, err := http.NewRequest(http.MethodPost, url+a.path(worker, i),
		bytes.NewReader(a.bodies[(i*17+worker)%len(a.bodies)]))
	if err != nil {
		return nil, "", err
	}
	req.Header.Set("Authorization", "Bearer "+a.key)
	req.Header.Set("Content-Type", "application/json")
	want := http.StatusOK
	if a.known != "" {
		req.Header.Set("If-None-Match", a.known)
		want = http.StatusNotModified
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, "", err
	}
	defer res.Body.Close()
	answer, err = io.ReadAll(res.Body)
	if err == nil && res.StatusCode != want {
		err = fmt.Errorf("%s %s", res.Status, answer)
	}
	return answer, res.Header.Get("ETag"), err
}

// load gives a measurement of requests a second.
func (a *asking) load(url string) func() float64 {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	return func() float64 {
		const workers = 4
		var failed atomic.Int64
		var all sync.WaitGroup
		started := time.Now()
		for w := range workers {
			all.Go(func() {
				for i := range a.each {
					if _, _, err := a.one(client, url, w, i); err != nil {
						failed.Add(1)
					}
				}
			})
		}
		all.Wait()
		if failed.Load() > 0 {
			return 1 // a request a second: nobody will take it for a result
		}
		return float64(workers*a.each) / time.Since(started).Seconds()
	}
}

// bare is a handler of Echo that reads the body and returns constant bytes.
func bare(answer []byte, etag string) (url string, end func(), err error) {
	e := echo.New()
	e.POST(evaluate+"*", func(c *echo.Context) error {
		if _, err := io.ReadAll(c.Request().Body); err != nil {
			return err
		}
		if etag != "" {
			c.Response().Header().Set("ETag", etag)
			if c.Request().Header.Get("If-None-Match") == etag {
				return c.NoContent(http.StatusNotModified)
			}
		}
		return c.JSONBlob(http.StatusOK, answer)
	})
	return serving(e)
}

// serving serves a handler on a free port until it is ended.
func serving(e http.Handler) (url string, end func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	s := &http.Server{Handler: e}
	go func() { _ = s.Serve(l) }()
	return "http://" + l.Addr().String(), func() { _ = s.Close() }, nil
}

// against measures a load on the service against the same one on a bare handler.
func (s *service) against(what string, a *asking, answer []byte, etag string, rounds int,
	atLeast float64) (row, error) {
	floor, end, err := bare(answer, etag)
	if err != nil {
		return row{}, err
	}
	defer end()
	o, f, ratio := inTurn(max(5, rounds/3), a.load(s.url()), a.load(floor))
	return row{what: what, ours: fmt.Sprintf("%.0f/s", o), floor: fmt.Sprintf("%.0f/s", f), ratio: ratio,
		atLeast: atLeast, note: "load from this machine's own processors"}, nil
}

// benchRemote measures remote evaluation of one flag among 1,000.
func benchRemote(ctx context.Context, rounds int) ([]row, error) {
	s, err := newService(ctx)
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, 1000); err != nil {
		return nil, err
	}
	a := newAsking(s.key, 1_500, func(worker, i int) string {
		return fmt.Sprintf("%s/flag-%d", evaluate, (i*31+worker*7)%1000)
	})
	answer, _, err := a.one(http.DefaultClient, s.url(), 0, 0)
	if err != nil {
		return nil, err
	}
	r, err := s.against("remote evaluation, one flag", a, answer, "", rounds, .75)
	return []row{r}, err
}

// benchBulk measures remote evaluation of 100 flags at once, and of nothing new.
func benchBulk(ctx context.Context, rounds int) (rows []row, err error) {
	s, err := newService(ctx)
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, 100); err != nil {
		return nil, err
	}
	a := newAsking(s.key, 500, func(int, int) string { return evaluate })
	answer, etag, err := a.one(http.DefaultClient, s.url(), 0, 0)
	if err != nil {
		return nil, err
	}
	for _, kind := range []struct{ what, known string }{{"remote evaluation, 100 flags at once", ""},
		{"remote evaluation, 100 flags, nothing new (304)", etag}} {
		a.known = kind.known
		r, err := s.against(kind.what, a, answer, etag, rounds, .5)
		if err != nil {
			return nil, err
		}
		rows = append(rows, r)
	}
	return rows, nil
}
