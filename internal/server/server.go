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
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"time"

	"go.opentelemetry.io/otel/trace"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/clock"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/drills"
	"greenlever.example/greenlever/internal/app/emergency"
	"greenlever.example/greenlever/internal/app/environments"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/app/intake"
	"greenlever.example/greenlever/internal/app/ledger"
	"greenlever.example/greenlever/internal/app/proposals"
	"greenlever.example/greenlever/internal/app/releases"
	"greenlever.example/greenlever/internal/app/reminders"
	"greenlever.example/greenlever/internal/app/tripwires"
	"greenlever.example/greenlever/internal/app/webhooks"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/edge"
	"greenlever.example/greenlever/internal/identity"
	"greenlever.example/greenlever/internal/localdb"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/store"
	"greenlever.example/greenlever/internal/web"
)

// Config says how the service runs.
type Config struct {
	Listen string // address; port 0 picks a free one
	Admin  string // address of what operators watch: metrics; empty: none
	// AdminElsewhere takes another port where that of Admin is taken.
	AdminElsewhere bool
	DSN            string // of an existing MariaDB server; empty: a private one in Dir
	Dir            string // configuration, the copy to decide from without records, and without a DSN, data
	Secure         bool   // everything is reached over TLS: cookies and browsers are told so
	Restored       bool   // the records were restored from a backup: begin with a new epoch
	Proxies        []netip.Prefix
	Keep           map[string]int // days for which things are kept, by option: see store.Retention
	Heads          string         // address or file to which signed heads are copied; empty: none
	Log            *slog.Logger
	LogOneOf       int           // of how many requests that went well one is logged; 0: none
	Drain          time.Duration // from when /readyz says that it ends until it takes no more requests
	Limits         web.Limits
	Tracer         trace.TracerProvider // of requests; nil: none
	// for how long /readyz says yes where the log cannot be read and the records can be reached
	ReadyStale time.Duration
	// Settles and Idle are for how long one variant must have been given to all, and for how long no process may have
	// asked, before a flag is retired; 0: settled.Usual.
	Settles, Idle time.Duration
	Connections   map[string]int // to the records, by what they are for; what is not named is as usual
	Beat          time.Duration  // of feeds; default 15 s
	// WebhookNetworks are private networks that webhooks may be in; WebhookTries is for how long a notice is
	// tried, a day where it is zero; WebhookTimeout is that of one attempt, ten seconds where it is zero.
	WebhookNetworks []netip.Prefix
	WebhookTries    time.Duration
	WebhookTimeout  time.Duration
	Identity        identity.Config // how people sign in besides a password
	Now             func() time.Time
}

// Server is a running service.
type Server struct {
	Address   string // where it listens, such as 127.0.0.1:8090
	Admin     string // where it listens for operators; empty: nowhere
	SetUpCode string // for the first account; empty where there is one

	node    string // names this process
	started int64

	config  Config
	clock   *clock.Clock
	db      *localdb.Server
	store   *store.Store
	ledger  *ledger.Service
	intake  *intake.Intake
	commit  *commit.Service
	running *releases.Service
	sender  *webhooks.Sender
	jobs    *work.Worker
	web     *web.Surface

	tripwires *tripwires.Service
	emergency *emergency.Desk
	drills    *drills.Service
	proposals *proposals.Service
	lives     *environments.Lives
	reminders *reminders.Service
	edge      *edge.Edge
	api       *manage.API
	http      []*http.Server
	key       ed25519.PrivateKey
	heads     *headFile
	copy      *diskCopy
	cancel    context.CancelFunc
	done      sync.WaitGroup
	failed    chan error

	ready   chan struct{} // closed once the records were reached
	stop    sync.Once
	stopped error
}

// Start starts the service and returns once it listens. Where the records cannot be reached
// it decides by the copy on its disk, if there is one, and takes changes once they can.
func Start(ctx context.Context, c Config) (*Server, error) {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	if c.Limits == (web.Limits{}) {
		c.Limits = web.DefaultLimits()
	}
	if c.Beat == 0 {
		c.Beat = 15 * time.Second
	}
	s := &Server{config: c, failed: make(chan error, 2), ready: make(chan struct{}), node: "node-" + rand.Text()[:12]}
	// The ports first: that one is taken should not be found out after a database was started.
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("the service cannot listen on %s: %w (choose another address with --listen)", c.Listen,
			err)
	}
	s.Address = listener.Addr().String()
	var admin net.Listener
	if c.Admin != "" {
		if admin, err = web.ListenAdmin(c.Admin, c.AdminElsewhere); err != nil {
			listener.Close()
			return nil, fmt.Errorf("the service cannot listen for operators on %s: %w (choose another address with "+
				"--admin)", c.Admin, err)
		}
		s.Admin = admin.Addr().String()
	}
	if err := s.start(ctx, listener, admin); err != nil {
		listener.Close()
		if admin != nil {
			admin.Close()
		}
		s.Stop()
		return nil, err
	}
	return s, nil
}

func (s *Server) start(ctx context.Context, listener, admin net.Listener) (err error) {
	c := &s.config
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
	if s.store, err = store.New(dsn, c.Log, store.Connections(c.Connections)); err != nil {
		return err
	}
	s.clock = clock.New(s.store.Now)
	if c.Now == nil {
		c.Now = s.clock.Now
	}
	if s.key, err = auditKey(filepath.Join(c.Dir, "audit.key")); err != nil {
		return err
	}
	s.heads = &headFile{path: filepath.Join(c.Dir, "audit.heads")}
	s.copy = &diskCopy{path: filepath.Join(c.Dir, "decide.json")}
	s.wire()
	if err := s.emergency.Open(); err != nil {
		return err
	}
	run, cancel := context.WithCancel(context.Background())
	s.cancel = cancel
	if err := s.reach(ctx); err != nil {
		if !errors.Is(err, errAway) {
			return err
		}
		copied, e := s.copy.read()
		if e != nil {
			return fmt.Errorf("%w, and there is no copy to decide from: %w", err, e)
		}
		c.Log.Error(
			"the records cannot be reached; deciding by the copy on disk, and taking no changes until they can",
			"error", err, "copy of", time.UnixMilli(copied.At).UTC())
		s.useCopy(copied)
		s.keep(run, "reach the records", s.reachLater)
	} else {
		s.reached(run)
	}
	s.serve(listener, s.handler())
	if admin != nil {
		s.serve(admin, s.web.AdminHandler(nil))
	}
	return nil
}

func (s *Server) serve(l net.Listener, handler http.Handler) {
	h := web.Serving(handler, s.config.Limits, s.config.Log)
	s.http = append(s.http, h)
	done := guard.Go(s.config.Log, "serve", func() {
		if err := h.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	})
	s.until(done)
}

// until has the stop wait for a goroutine.
func (s *Server) until(done <-chan struct{}) {
	s.done.Add(1)
	guard.Go(s.config.Log, "wait for a part to end", func() {
		defer s.done.Done()
		<-done
	})
}

func (s *Server) keep(ctx context.Context, what string, loop func(context.Context)) {
	s.until(guard.Keep(ctx, s.config.Log, what, loop))
}

// errAway is returned where the records cannot be reached.
var errAway = errors.New("the records cannot be reached")

// reachTime bounds the first try to reach the records, before the copy on disk is used; the
// schema may take as long as it needs.
const reachTime = 5 * time.Second

// reach brings the records' schema up to date, and reads what is decided by.
func (s *Server) reach(ctx context.Context) error {
	ping, cancel := context.WithTimeout(ctx, reachTime)
	defer cancel()
	if err := s.store.Ping(ping); err != nil {
		return fmt.Errorf("%w: %w", errAway, err)
	}
	if err := s.store.Migrate(ctx); err != nil {
		return err
	}
	if err := s.clock.Sync(ctx); err != nil {
		return err
	}
	s.started = s.config.Now().UnixMilli()
	if err := s.announceKey(ctx); err != nil {
		return err
	}
	if err := s.store.AdoptRecords(ctx, s.adoption); err != nil {
		return err
	}
	if s.config.Restored {
		if err := s.newEpoch(ctx, "serve --restored"); err != nil {
			return err
		}
		s.config.Restored = false
	}
	var err error
	if s.SetUpCode, err = s.api.People.SetUpCode(ctx); err != nil {
		return err
	}
	// from here on it can decide by itself
	if err := errors.Join(s.edge.Hub.Gather(ctx), s.edge.Hub.Look(ctx), s.edge.Keys.Refresh(ctx)); err != nil {
		return err
	}
	if err := s.learn(ctx); err != nil {
		return err
	}
	return s.announce(ctx)
}

// reachLater tries to reach the records until it can, and goes on as if they had been there.
func (s *Server) reachLater(ctx context.Context) {
	said := ""
	for {
		err := s.reach(ctx)
		if err == nil {
			s.config.Log.Info("the records were reached: changes are taken")
			s.reached(ctx)
			return
		}
		if err.Error() != said {
			said = err.Error()
			s.config.Log.Warn("the records cannot be reached yet", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
	}
}

// Failed gives the error that ended the service by itself, if one does.
func (s *Server) Failed() <-chan error { return s.failed }

// URL is the service's address for a browser on this machine.
func (s *Server) URL() string { return web.LocalURL(s.Address) }

// AdminURL is the address for operators on this machine; empty where there is none.
func (s *Server) AdminURL() string {
	if s.Admin == "" {
		return ""
	}
	return web.LocalURL(s.Admin)
}

// Database is the private MariaDB server; nil where another one is used.
func (s *Server) Database() *localdb.Server { return s.db }

// Stop ends the service in order: streams end, requests under way are answered, counts are
// written, heads are signed, and a private database stops. Each of these has its own time,
// so that one that hangs does not take it from the others. Stopping twice is stopping once.
func (s *Server) Stop() error {
	s.stop.Do(func() { s.stopped = s.end() })
	return s.stopped
}

// Times of the steps of a stop.
const (
	forRequests = 8 * time.Second
	forWork     = 10 * time.Second
	forRecords  = 3 * time.Second
)

func (s *Server) end() error {
	var err error
	within := func(d time.Duration, do func(context.Context) error) {
		ctx, cancel := context.WithTimeout(context.Background(), d)
		defer cancel()
		err = errors.Join(err, do(ctx))
	}
	if len(s.http) > 0 {
		s.web.Leave()
		time.Sleep(s.config.Drain) // for whoever sends requests here to look
		s.web.EndStreams()
		for _, h := range s.http {
			within(forRequests, h.Shutdown)
		}
	}
	if s.cancel != nil {
		s.cancel()
		within(forWork, func(ctx context.Context) error {
			ended := make(chan struct{})
			guard.Go(s.config.Log, "wait for all parts to end", func() { s.done.Wait(); close(ended) })
			select {
			case <-ended:
				return nil
			case <-ctx.Done():
				return errors.New("some of the work behind did not end in time")
			}
		})
		select {
		case <-s.ready:
			within(forRecords, func(ctx context.Context) error {
				return s.store.NodeLives(ctx, &app.Node{ID: s.node}, 0, true)
			})
			within(forRecords, s.edge.WriteUsage)
			within(forRecords, s.edge.Population.Flush)
			within(forRecords, s.ledger.Flush)
			within(forRecords, s.signHeads)
			within(forRecords, func(ctx context.Context) error { return s.store.EndLeases(ctx, s.node) })
		default: // the records were never reached
		}
	}
	if s.store != nil {
		err = errors.Join(err, s.store.Close())
	}
	if s.db != nil {
		err = errors.Join(err, s.db.Stop())
	}
	return err
}

// Flush writes what was seen of units here to the records now, which else is done now and then.
func (s *Server) Flush(ctx context.Context) error { return s.edge.Population.Flush(ctx) }

// WriteUsage writes what was counted here to the records now, which else is done now and then.
func (s *Server) WriteUsage(ctx context.Context) error { return s.edge.WriteUsage(ctx) }

// Clean takes what was declared personal out of stored units now, which else is done every minute.
func (s *Server) Clean(ctx context.Context) error { return s.clean(ctx) }

// Remind tells webhooks now of stops that were not practised, which else is looked for every hour.
func (s *Server) Remind(ctx context.Context) error { return s.drills.Remind(ctx) }
