// Package server puts the parts of the service together: records, use cases, feed and the
// HTTP surface. It reads from top to bottom in the order in which things start.
//
//	s, err := server.Start(ctx, server.Config{Listen: "127.0.0.1:8090", Dir: dir})
//	defer s.Stop()
package server

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"sync"
	"time"

	"greenlever.example/core/decide"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/change"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/feed"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/population"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/httpapi"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/store"
)

// Config says how the service runs.
type Config struct {
	Listen string // address; port 0 picks a free one
	DSN    string // of an existing MariaDB server; empty: a private one in Dir
	Dir    string // configuration and, without a DSN, data
	Secure bool   // the console is reached over TLS, so cookies are sent over TLS only
	Log    *slog.Logger
	Limits httpapi.Limits
	Beat   time.Duration // of feeds; default 15 s
	Now    func() time.Time
}

// Server is a running service.
type Server struct {
	Address   string // where it listens, such as 127.0.0.1:8090
	SetUpCode string // for the first account; empty where there is one

	node    string // names this process
	started int64
	said    int64 // how often it was announced

	config Config
	db     *localdb.Server
	store  *store.Store
	api    *httpapi.API
	http   *http.Server
	key    ed25519.PrivateKey
	cancel context.CancelFunc
	done   sync.WaitGroup
	failed chan error

	stop    sync.Once
	stopped error
}

// Times of the work that goes on behind.
const (
	signEvery   = time.Minute
	usageEvery  = 10 * time.Second
	forgetEvery = time.Hour

	deliverEvery = time.Second
	forgetAfter  = 24 * time.Hour
	graceful     = 10 * time.Second
	catchUpTime  = 2 * time.Second
)

// Start starts the service and returns once it listens.
func Start(ctx context.Context, c Config) (*Server, error) {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	if c.Limits == (httpapi.Limits{}) {
		c.Limits = httpapi.DefaultLimits()
	}
	if c.Beat == 0 {
		c.Beat = 15 * time.Second
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	s := &Server{config: c, failed: make(chan error, 1), node: "node-" + rand.Text()[:12], started: c.Now().UnixMilli()}
	// The port first: that it is taken should not be found out after a database was started.
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("the service cannot listen on %s: %w (choose another address with --listen)", c.Listen, err)
	}
	s.Address = listener.Addr().String()
	if err := s.start(ctx, listener); err != nil {
		listener.Close()
		s.Stop()
		return nil, err
	}
	return s, nil
}

func (s *Server) start(ctx context.Context, listener net.Listener) (err error) {
	c := s.config
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return fmt.Errorf("the directory of configuration: %w", err)
	}
	dsn := c.DSN
	if dsn == "" {
		if s.db, err = localdb.Start(ctx, filepath.Join(c.Dir, "mariadb")); err != nil {
			return err
		}
		if dsn, err = s.db.DSN("greenlever"); err != nil {
			return err
		}
	}
	if s.store, err = store.Open(ctx, dsn, c.Log); err != nil {
		return err
	}
	if s.key, err = auditKey(filepath.Join(c.Dir, "audit.key")); err != nil {
		return err
	}
	if err := s.announceKey(ctx); err != nil {
		return err
	}
	s.wire()
	if s.SetUpCode, err = s.api.People.NewSetUpCode(ctx); err != nil {
		return err
	}
	if err := errors.Join(s.api.Hub.Look(ctx), s.api.Keys.Refresh(ctx)); err != nil { // from here on it can decide by itself
		return err
	}
	if err := s.learn(ctx); err != nil {
		return err
	}
	if err := s.announce(ctx, false); err != nil {
		return err
	}
	run, cancel := context.WithCancel(context.Background())
	s.cancel = cancel
	s.done.Go(func() { s.api.Hub.Run(run) })
	s.done.Go(func() { s.api.Keys.Run(run) })
	s.every(run, signEvery, "sign the audit's heads", s.signHeads)
	s.every(run, usageEvery, "write counts", s.api.WriteUsage)
	s.every(run, usageEvery, "keep the sample of units", s.api.Population.Flush)
	s.every(run, deliverEvery, "record deliveries", s.api.Delivery.Record)
	s.every(run, usageEvery, "say that this node lives", func(ctx context.Context) error { return s.announce(ctx, false) })
	s.every(run, forgetEvery, "forget what has expired", func(ctx context.Context) error {
		return errors.Join(s.store.Forget(ctx, c.Now().Add(-forgetAfter).UnixMilli()), s.thin(ctx))
	})
	s.http = httpapi.Serving(s.api.Handler(), c.Limits, c.Log)
	s.done.Go(func() {
		if err := s.http.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	})
	return nil
}

func (s *Server) wire() {
	c, st := s.config, s.store
	hub := feed.NewHub(st, c.Log)
	keys := feed.NewKeyring(st, c.Log)
	units := &population.Service{Records: st, Now: c.Now}
	rules := func(ctx context.Context, environment int64) (*decide.Ruleset, error) {
		place, err := hub.Place(ctx, environment)
		if err != nil {
			return nil, err
		}
		return place.Rules(), nil
	}
	tries := &preview.Service{Rules: rules, Population: units, TestUnits: st.TestUnits, List: st.List, Now: c.Now}
	s.api = &httpapi.API{
		Edge:    httpapi.Edge{Hub: hub, Keys: keys, Population: units, Followers: st, Now: c.Now, Log: c.Log, Limits: c.Limits, Beat: c.Beat},
		Records: st, Secure: c.Secure, Sign: s.signHeads, Preview: tries,
		Delivery: &delivery.Service{Records: st, Now: c.Now, Node: s.node,
			Write: func(ctx context.Context, fn func(delivery.Tx) error) error {
				return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
			}},
		Change: &change.Service{
			Write: func(ctx context.Context, fn func(change.Tx) error) error {
				return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
			},
			Now:       c.Now,
			Committed: s.committed,
			Judge: func(ctx context.Context, environment int64) (map[string]lint.Attribute, error) {
				known, _, _, err := units.Judge(ctx, environment)
				return known, err
			},
			Sweep: tries.Sweep,
		},
		People: &people.Service{
			Write: func(ctx context.Context, fn func(people.Tx) error) error {
				return st.Write(ctx, func(tx *store.Tx) error { return fn(tx) })
			},
			Records: st,
			Now:     c.Now,
		},
	}
}

// announce tells the records that this node lives, by which revisions it decides, and how
// many browsers it has.
func (s *Server) announce(ctx context.Context, leaving bool) error {
	envs, _, err := s.store.AllEnvironments(ctx)
	if err != nil {
		return err
	}
	s.said++
	for _, e := range envs {
		place, err := s.api.Hub.Place(ctx, e.ID)
		if err != nil {
			return err
		}
		src := place.Rules().Source
		status := app.Status{Instance: s.node, Sequence: s.said, Kind: app.ANode, Application: "greenlever", Version: Version(), Epoch: src.Epoch, Revision: src.Revision,
			Source: "service", Started: s.started, Leaving: leaving}
		status.Streams, status.Pollers = s.api.Audience(e.ID)
		if _, err := s.store.TakeReport(ctx, e.ID, &app.Report{Status: status}, s.config.Now().UnixMilli()); err != nil {
			return err
		}
	}
	return nil
}

// Version names the build; empty where nothing is known of it.
func Version() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				return s.Value[:min(12, len(s.Value))]
			}
		}
	}
	return ""
}

// thin gathers old counts; one node does it at a time.
func (s *Server) thin(ctx context.Context) error {
	fence, err := s.store.Lease(ctx, "thin", s.node, forgetEvery/2)
	if err != nil || fence == 0 {
		return err
	}
	return s.store.ThinUses(ctx, s.config.Now().UnixMilli())
}

// learn reads what must be known of every environment while the records cannot be reached.
func (s *Server) learn(ctx context.Context) error {
	heads, err := s.store.Heads(ctx)
	for environment := range heads {
		_, e := s.api.Population.Known(ctx, environment)
		err = errors.Join(err, e)
	}
	return err
}

// committed brings this process up to what was just committed. Where that takes too long
// the change is answered all the same: the feed finds it by itself.
func (s *Server) committed(ctx context.Context, keys bool) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), catchUpTime)
	defer cancel()
	s.api.Population.Forget()
	if s.api.Hub.Look(ctx) != nil {
		s.api.Hub.Nudge()
	}
	if keys {
		s.api.Keys.Nudge()
	}
}

// every does something again and again, until the service stops.
func (s *Server) every(ctx context.Context, pause time.Duration, what string, do func(context.Context) error) {
	s.done.Go(func() {
		tick := time.NewTicker(pause)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			if err := do(ctx); err != nil && ctx.Err() == nil {
				s.config.Log.Error("could not "+what, "error", err)
			}
		}
	})
}

// auditKey reads this node's key for signing heads, and makes it the first time.
func auditKey(path string) (ed25519.PrivateKey, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block := pem.EncodeToMemory(&pem.Block{Type: "GREENLEVER AUDIT SEED", Bytes: key.Seed()})
		return key, os.WriteFile(path, block, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("the audit's key: %w", err)
	}
	block, _ := pem.Decode(raw)
	if block == nil || len(block.Bytes) != ed25519.SeedSize {
		return nil, fmt.Errorf("the audit's key %s cannot be read: put the right file back, or move it away for a new one", path)
	}
	return ed25519.NewKeyFromSeed(block.Bytes), nil
}

// announceKey puts the public half into the access chain, once.
func (s *Server) announceKey(ctx context.Context) error {
	public := hex.EncodeToString(s.key.Public().(ed25519.PublicKey))
	known, err := s.store.SigningKeys(ctx)
	if err != nil || known[public] {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Append(audit.Access, audit.Entry{At: s.config.Now().UnixMilli(), Actor: app.Actor{Kind: "service", Through: "start"},
			Action: "audit.key-added", Subject: public, Difference: []string{"heads signed with Ed25519 key " + public}}, nil)
	})
}

// signHeads signs the heads of the chains that moved.
func (s *Server) signHeads(ctx context.Context) error {
	heads, err := s.store.UnsignedHeads(ctx)
	for _, h := range heads {
		err = errors.Join(err, s.store.AddSignedHead(ctx, audit.Sign(h, s.config.Now().UnixMilli(), s.key)))
	}
	return err
}

// Failed gives the error that ended the service by itself, if one does.
func (s *Server) Failed() <-chan error { return s.failed }

// URL is the service's address for a browser on this machine.
func (s *Server) URL() string { return httpapi.LocalURL(s.Address) }

// Database is the private MariaDB server; nil where another one is used.
func (s *Server) Database() *localdb.Server { return s.db }

// Stop ends the service in order: streams end, requests under way are answered, counts are
// written, heads are signed, and a private database stops. Stopping twice is stopping once.
func (s *Server) Stop() error {
	s.stop.Do(func() { s.stopped = s.end() })
	return s.stopped
}

func (s *Server) end() error {
	ctx, cancel := context.WithTimeout(context.Background(), graceful)
	defer cancel()
	var err error
	if s.http != nil {
		s.api.EndStreams()
		err = s.http.Shutdown(ctx)
	}
	if s.cancel != nil {
		s.cancel()
		s.done.Wait()
		err = errors.Join(err, s.api.WriteUsage(ctx), s.api.Population.Flush(ctx), s.announce(ctx, true), s.signHeads(ctx), s.store.Release(ctx, s.node))
	}
	if s.store != nil {
		err = errors.Join(err, s.store.Close())
	}
	if s.db != nil {
		err = errors.Join(err, s.db.Stop())
	}
	return err
}
