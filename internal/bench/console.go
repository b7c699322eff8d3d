package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/browse"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/web"
)

// benchConsole measures the console's first view, the board, in a browser that has nothing of
// it yet: how many bytes of script come over the wire, and how long it takes until a flag is
// seen, against a bare page that loads the same bytes and runs none of them.
func benchConsole(ctx context.Context, rounds int) ([]row, error) {
	// each window signs in
	s, err := newService(ctx, func(c *server.Config) { c.Limits = web.DefaultLimits(); c.Limits.SignIns = 10_000 })
	if err != nil {
		return nil, err
	}
	defer s.end()
	if err := s.addFlags(0, 20); err != nil {
		return nil, err
	}
	b, err := browse.Start()
	if err != nil {
		return nil, err
	}
	defer b.Close()
	view, err := s.againstBare(b, rounds, "flag-7")
	if err != nil {
		return nil, err
	}
	return []row{
		{what: "console's first view: script, compressed", ours: fmt.Sprintf("%.0f KB", float64(view.packed)/1000),
			floor: "250 KB", ratio: float64(view.packed) / 250_000, atMost: 1, note: fmt.Sprintf("%d files", view.files)},
		view.row("console's first view: until it can be used"),
	}, nil
}

// firstSeen is how long the board takes until something on it is seen, and a bare page with the same bytes.
type firstSeen struct {
	ours, floor, ratio float64
	files, packed      int // the scripts, as they are sent
}

func (f *firstSeen) row(what string) row {
	return row{what: what, ours: short(f.ours), floor: short(f.floor), ratio: f.ratio, atMost: 3,
		note: "floor: a bare page with the same bytes"}
}

// againstBare opens the board in windows that have nothing of it yet, in turn with the bare page.
func (s *service) againstBare(b *browse.Browser, rounds int, see string) (*firstSeen, error) {
	scripts, packed, err := s.firstView(b, see)
	if err != nil {
		return nil, err
	}
	page := inert(scripts, see)
	defer page.Close()
	var failed error
	open := func(prepare func(*browse.Window), address string) func() float64 {
		return func() float64 {
			w, err := b.Window(1280, 800)
			if err != nil {
				failed = errors.Join(failed, err)
				return 1
			}
			defer w.Close()
			prepare(w)
			begun := time.Now()
			w.Go(address).See(see)
			took := time.Since(begun)
			failed = errors.Join(failed, w.Err())
			return float64(took)
		}
	}
	f := &firstSeen{files: len(scripts), packed: packed}
	f.ours, f.floor, f.ratio = inTurn(rounds, open(s.enter, s.url()+"/p/pinecrest"),
		open(func(w *browse.Window) { w.Go(page.URL + "/nothing") }, page.URL))
	return f, failed
}

// enter signs a window in without loading anything of the console.
func (s *service) enter(w *browse.Window) {
	body, err := json.Marshal(object{"email": keeper, "password": password})
	if err != nil {
		panic(err) // plain values
	}
	w.Go(s.url() + "/readyz").Eval(fmt.Sprintf(`(() => {
		const ask = new XMLHttpRequest()
		ask.open("POST", "/api/v1/sign-in", false)
		ask.setRequestHeader("Content-Type", "application/json")
		ask.send(%q)
		return String(ask.status)
	})()`, body))
}

// firstView gives the scripts that the board loads, and their size as they are sent.
func (s *service) firstView(b *browse.Browser, see string) (scripts [][]byte, packed int, err error) {
	w, err := b.Window(1280, 800)
	if err != nil {
		return nil, 0, err
	}
	defer w.Close()
	s.enter(w)
	w.Go(s.url() + "/p/pinecrest").See(see)
	var loaded []struct {
		Name string
		Size int
	}
	said := w.Eval(
		`JSON.stringify(performance.getEntriesByType("resource").filter(e => e.name.endsWith(".js")).map(e => ({Name: e.name, Size: e.encodedBodySize})))`)
	if w.Err() != nil {
		return nil, 0, w.Err()
	}
	if err := json.Unmarshal([]byte(said), &loaded); err != nil {
		return nil, 0, err
	}
	for _, l := range loaded {
		res, err := http.Get(s.url() + "/assets/" + path.Base(l.Name))
		if err != nil {
			return nil, 0, err
		}
		raw, err := io.ReadAll(res.Body)
		res.Body.Close()
		if err != nil {
			return nil, 0, err
		}
		scripts, packed = append(scripts, raw), packed+l.Size
	}
	if packed == 0 {
		return nil, 0, errors.New("the board loaded no script")
	}
	return scripts, packed, nil
}

// inert serves a page with the scripts in comments, and a text once they are there.
func inert(scripts [][]byte, text string) *httptest.Server {
	files := map[string][]byte{}
	tags := ""
	pack := func(name string, raw []byte) {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, _ = z.Write(raw) // to memory
		_ = z.Close()
		files[name] = b.Bytes()
	}
	for i, raw := range scripts {
		name := fmt.Sprintf("/%d.js", i)
		pack(name, []byte("/*"+strings.ReplaceAll(string(raw), "*/", "* ")+"*/"))
		tags += fmt.Sprintf(`<script defer src="%s"></script>`, name)
	}
	pack("/last.js", []byte(fmt.Sprintf("document.body.textContent = %q", text)))
	pack("/", []byte(`<!doctype html><title>bare</title><body>`+tags+`<script defer src="/last.js"></script>`))
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, ok := files[r.URL.Path]
		if !ok {
			http.NotFound(w, r)
			return
		}
		kind := "text/html; charset=utf-8"
		if strings.HasSuffix(r.URL.Path, ".js") {
			kind = "text/javascript"
		}
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Content-Encoding", "gzip")
		_, _ = w.Write(body)
	}))
}
