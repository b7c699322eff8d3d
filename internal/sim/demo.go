// Package sim is the demo: Pinecrest Lockers, a company that runs parcel lockers, with its
// flags, its people, and a service whose traffic decides them.
//
// It uses the service as everybody does: through HTTP and the Go client.
package sim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"sync"

	greenlever "greenlever.example/client"
	"greenlever.example/greenlever/internal/server"
)

// Config says how the demo runs.
type Config struct {
	Dir    string // of its data, keys and log
	Listen string
	Quiet  bool // no traffic, and no releases
	// RealTime has the stages of releases take a day each, in place of half a minute.
	RealTime bool
	// Seed makes the people and what befalls them; 0: the usual one. Habits are how doors behave; nil: the usual ones.
	Seed   uint64
	Habits *Habits
	Out    io.Writer
	Ready  func(*Demo) // called once everything runs
}

// Demo is what a running demo tells.
type Demo struct {
	URL      string            `json:"url"`
	Password string            `json:"password"` // of everybody
	Keys     map[string]string `json:"keys"`     // of kind service, by environment
	Browser  map[string]string `json:"browser"`
	Tokens   map[string]string `json:"tokens"`  // by role
	Outpost  string            `json:"outpost"` // address
	Page     string            `json:"page"`    // the outpost's own
	Desk     string            `json:"desk"`
	Tickets  string            `json:"tickets"` // the ticket tracker's page
	Monitor  string            `json:"monitor"` // the monitoring system's
	Hooks    map[string]Hook   `json:"hooks"`   // webhooks of these two
	Wire     Wire              `json:"wire"`    // at which that one stops weather-holds
	Server   *server.Server    `json:"-"`
	// first is what leaves with the first account.
	first     struct{ EmergencyKey string }
	instances []*greenlever.Client
	hooks     sync.Mutex
	tracker   *outsider
	monitor   *monitor
	weather   weather
}

// seed makes the same people at every start.
const seed = 20261123

const people = 20_000

func (c *Config) seed() uint64 {
	if c.Seed == 0 {
		return seed
	}
	return c.Seed
}

// Run starts everything and ends it when the context ends.
func Run(ctx context.Context, c Config) (err error) {
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return err
	}
	logFile, err := os.OpenFile(filepath.Join(c.Dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	log := slog.New(slog.NewTextHandler(logFile, nil))
	say := func(format string, args ...any) { fmt.Fprintf(c.Out, format+"\n", args...) }

	say("starting MariaDB and the service ...")
	var traffic, signing sync.WaitGroup
	defer signing.Wait()
	signs, who, err := company(beside(c.Listen, 5), &signing)
	if err != nil {
		return err
	}
	defer signs.Close()
	srv, err := server.Start(ctx, server.Config{Listen: c.Listen, Admin: "127.0.0.1:0", Dir: c.Dir, Log: log,
		Identity: who, Settles: settles, Idle: settles,
		WebhookNetworks: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, srv.Stop()) }()
	d, err := prepare(ctx, c, srv, say)
	if err != nil {
		return err
	}
	d.Server = srv
	var besides *besides
	run, stop := context.WithCancel(ctx)
	defer func() {
		stop()
		for _, door := range d.instances {
			_ = door.Close()
		}
		if besides != nil {
			besides.stop()
		}
		_ = d.stopOutside()
		traffic.Wait()
	}()
	if besides, err = d.startBesides(run, c, log, &traffic); err != nil {
		return err
	}
	d.Outpost, d.Page, d.Desk = besides.outpost.URL(), besides.outpost.AdminURL(), besides.deskURL
	if err := d.startOutside(run, c, log, &traffic); err != nil {
		return err
	}
	if !c.Quiet {
		if err := d.start(run, c, log, &traffic); err != nil {
			return err
		}
		if err := d.stories(run, c, log, &traffic); err != nil {
			return err
		}
	}
	if err := d.repositories(ctx, c); err != nil {
		return err
	}
	if err := d.keep(c); err != nil {
		return err
	}
	say("")
	say("  console    %s", d.URL)
	say("  operators  %s/metrics", srv.AdminURL())
	say("  help desk  %s   a web page that asks for its flags in the browser", d.Desk)
	say("  outpost    %s   follows production and staging; two displays, in Node, ask it; its own page: %s", d.Outpost,
		d.Page)
	say("  outside    tickets %s and monitoring %s, stand-ins that are told of changes", d.Tickets, d.Monitor)
	if !c.Quiet {
		say("  releases   one-touch-open is watched: it hurts at old lockers, is taken back and comes again " +
			"without them")
		say("             night-batching goes out by itself, telemetry-interval waits for you to sign")
		say("  a night    in a few minutes the weather service gets slow: the monitoring system stops weather-holds")
	}
	say("  sign in    ida.holm@pinecrest.example   password %s", d.Password)
	say("  keys       %s, for a script: . %s", filepath.Join(c.Dir, "keys.env"), filepath.Join(c.Dir, "keys.env"))
	say("  files      %s, the flags as files under version control; %s, the services", filepath.Join(c.Dir,
		"pinecrest-flags"), filepath.Join(c.Dir, "locker-services"))
	say("  log        %s", filepath.Join(c.Dir, "log"))
	say("")
	say("Everybody has the same password: ask.vik (auditor), noor.berg (developer), juno.lind (releaser), tove.ek " +
		"(on-call), all @pinecrest.example.")
	say("Ctrl-C stops it all; the data is kept. `make demo-reset` starts over.")
	if c.Ready != nil {
		c.Ready(d)
	}
	select {
	case <-ctx.Done():
		say("\nstopping ...")
		return nil
	case err := <-srv.Failed():
		return err
	}
}

// prepare makes the demo's data the first time, and finds its keys again after that.
func prepare(ctx context.Context, c Config, srv *server.Server, say func(string, ...any)) (*Demo, error) {
	kept := filepath.Join(c.Dir, "demo.json")
	d := &Demo{}
	raw, err := os.ReadFile(kept)
	switch {
	case err == nil:
		if err := json.Unmarshal(raw, d); err != nil {
			return nil, fmt.Errorf("%s cannot be read: run `make demo-reset`: %w", kept, err)
		}
		say("going on with the data of %s", c.Dir)
	case errors.Is(err, os.ErrNotExist) && srv.SetUpCode != "":
		say("making the demo's data ...")
		if d, err = furnish(ctx, srv.URL(), srv.SetUpCode); err != nil {
			return nil, fmt.Errorf("the demo's data could not be made: %w (run `make demo-reset` before the next try)",
				err)
		}
		key := []byte(d.first.EmergencyKey)
		if err := os.WriteFile(filepath.Join(c.Dir, "emergency.pem"), key, 0o600); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("the demo's data in %s is incomplete: run `make demo-reset`", c.Dir)
	}
	d.URL = srv.URL()
	if err := d.keep(c); err != nil {
		return nil, err
	}
	env := fmt.Sprintf("export GREENLEVER_URL=%s\nexport GREENLEVER_KEY=%s\nexport "+
		"GREENLEVER_BROWSER_KEY=%s\nexport GREENLEVER_TOKEN=%s\n"+
		"export GREENLEVER_EMERGENCY_KEY=%s\nexport GREENLEVER_EMERGENCY_TO=%s\n",
		d.URL, d.Keys["production"], d.Browser["production"], d.Tokens["keeper"],
		filepath.Join(c.Dir, "emergency.pem"), d.URL)
	return d, os.WriteFile(filepath.Join(c.Dir, "keys.env"), []byte(env), 0o600)
}

// keep writes what the demo tells into its directory.
func (d *Demo) keep(c Config) error {
	raw, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(c.Dir, "demo.json"), raw, 0o600)
}

// start starts the instances of door, four in production and one in each other
// environment, and two of rounds. One door of production follows through the outpost.
func (d *Demo) start(ctx context.Context, c Config, log *slog.Logger, traffic *sync.WaitGroup) error {
	visitors := Recipients(c.seed(), people)
	for i, env := range []string{"production", "production", "production", "production", "staging", "development"} {
		dir := filepath.Join(c.Dir, "door", fmt.Sprint(i+1))
		url := d.URL
		if i == 3 { // in the north yard
			url = d.Outpost
		}
		door, err := openDoor(ctx, url, d.Keys[env], dir, []string{"2.3.1", "2.4.0"}[i%2], log)
		if err != nil {
			return err
		}
		d.instances = append(d.instances, door.flags)
		door.opened = &d.monitor.opened
		if c.Habits != nil {
			door.habits = *c.Habits
		}
		traffic.Go(func() { door.visits(ctx, visitors, c.seed()+uint64(i)) })
	}
	drivers := Couriers(c.seed(), 240)
	for i := range 2 {
		c, err := greenlever.Open(ctx, greenlever.Options{URL: d.URL, Key: d.Keys["production"],
			Dir: filepath.Join(c.Dir, "rounds", fmt.Sprint(i+1)), Application: "rounds", Version: "1.8.0",
			Logger: log})
		if err != nil {
			return err
		}
		d.instances = append(d.instances, c)
		rounds := &Rounds{c}
		traffic.Go(func() { rounds.plans(ctx, drivers, uint64(i)) })
	}
	return nil
}
