// Package greenlever decides feature flags inside a Go service.
//
// Its nouns are a [Client], which follows one environment of a Green Lever service, a
// [Context], which is what the application knows about a unit, and an [Answer]. The
// smallest use, with GREENLEVER_URL and GREENLEVER_KEY set:
//
//	flags, err := greenlever.Open(ctx, greenlever.Options{Application: "door"})
//	if err != nil {
//		return err // the configuration is wrong; the message names what
//	}
//	defer flags.Close()
//	unit := greenlever.Unit("recipient-17", greenlever.String("site.id", "site-12"))
//	if flags.Bool(ctx, "one-touch-open", unit, false) {
//		...
//	}
//
// Decisions are made in process: no request, no waiting for a lock, no allocation (but that a unit
// which is sampled for previews is noted once between two reports). Where the service
// cannot be reached the client decides from the last ruleset that it had, from the one on
// its disk, from a file shipped with the application, and last from the caller's fallbacks,
// in this order; [Client.State] says from which, and the client recovers by itself.
package greenlever

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/client/internal/tap"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/wire"
)

// Options configure a [Client]. Every field has a default.
type Options struct {
	// URL is the service's address, or an outpost's; several, with commas between, are tried in
	// turn, the first before the others. Default: GREENLEVER_URL.
	URL  string
	Key  string // an access key of kind service; default: GREENLEVER_KEY
	File string // a ruleset to start from; alone, without URL and key, it is followed; default: GREENLEVER_FILE
	Dir  string // where the last ruleset is kept; default: GREENLEVER_DIR, or the user's cache directory

	Application string // named in the service's list of instances; default: the program's name
	Version     string // of the application

	Wait   time.Duration // how long Open waits for the first ruleset; default 2 s, negative: not at all
	Report time.Duration // between reports of counts; default 10 s

	// Resolvers find out attributes that are costly to know; see [Resolver].
	Resolvers []Resolver
	// Decided is called after each decision that was asked for by name, where it is set: for
	// monitors. It must be quick, and safe for many goroutines.
	Decided func(ctx context.Context, unit Context, a Answer)

	HTTP   *http.Client
	Logger *slog.Logger

	tap      *tap.Tap      // set by package relay
	silence  time.Duration // a line on which nothing comes for so long is dead; default 40 s
	homeward time.Duration // how often it is looked whether the first address is there again; default 1 min
}

func init() {
	tap.Put = func(options any, t *tap.Tap) { options.(*Options).tap = t }
}

// Source is where the ruleset in use came from.
type Source string

// The sources, from best to worst.
const (
	FromService Source = "service"
	FromDisk    Source = "disk"
	FromFile    Source = "file"
	FromNowhere Source = "fallback" // there is no ruleset: callers get their fallbacks
)

// State says what a client decides from.
type State struct {
	Source    Source
	Epoch     int64
	Revision  int64
	Connected bool // the feed is being read now
	Instance  string
	Skew      time.Duration // how far this machine's clock is behind the service's
	Contact   time.Time     // when the service was last heard of, through an outpost or not
	Silent    int           // for how many minutes it was not, where flags rest because of it
	LastError string        // of the connection, kept until it works again
	// Refused tells that the service does not take the access key.
	Refused bool
	// Stranded tells that the service's records were restored from a backup and do not know the
	// revision in use: it stays in use until somebody starts a new epoch there.
	Stranded bool
}

// state is a ruleset with its counters; it is replaced as a whole.
type state struct {
	rules   *decide.Ruleset
	blocks  []*block
	source  Source
	handles []*decide.Flag // by the index of a handle; nil: the ruleset has no such flag
	base    *decide.Ruleset
	watches []condition.Name // that units of watched rules are told by
}

func (s *state) ready() bool { return s.source != FromNowhere }

// Client decides flags. Its methods may be called from any goroutine.
type Client struct {
	state     atomic.Pointer[state]
	decided   func(ctx context.Context, unit Context, a Answer)
	options   Options
	log       *slog.Logger
	addresses []string
	address   atomic.Int32 // the place among them of the one in use
	instance  string
	started   time.Time
	counts    counts
	people    population
	evidence  evidenceLog
	skew      atomic.Int64 // milliseconds by which this machine's clock is behind
	disk      *disk
	fileSeen  stamp // of the file that is followed; its goroutine's own

	mu      sync.Mutex // guards what follows, and the order of changes of state
	link    State
	applied []wire.Applied // since the last report
	spread  time.Duration  // over which to come back after the connection ended
	fleet   time.Duration  // the spread that was last asked for; 0: none yet
	changed chan struct{}  // closed and replaced when the state changes

	nudge  chan struct{} // asks for a report soon
	cancel context.CancelFunc
	done   sync.WaitGroup
	panics sync.Map // those that were logged
}

// Open starts a client. The error is one of configuration and names it: an access key that the
// service refuses is one, where there is no ruleset of before to decide by; a service that cannot
// be reached is none. The context bounds the wait for the first ruleset only.
func Open(ctx context.Context, o Options) (*Client, error) {
	c, err := newClient(o)
	if err != nil {
		return nil, err
	}
	if o.tap != nil {
		o.tap.Soon, o.tap.Order = c.reportSoon, c.takeOrder
	}
	c.set(emptyRuleset, FromNowhere)
	run, cancel := context.WithCancel(context.Background())
	c.cancel = cancel
	if c.options.URL == "" {
		if err := c.loadFile(); err != nil {
			cancel()
			return nil, fmt.Errorf("greenlever: %w", err)
		}
		c.keep(run, "watch the file", c.watchFile)
		return c, nil
	}
	c.startFromDiskOrFile()
	c.keep(run, "follow", c.follow)
	c.keep(run, "report", c.reportForEver)
	c.keep(run, "keep the ruleset on disk", func(ctx context.Context) { c.disk.keep(ctx, c) })
	c.keep(run, "watch for silence", c.watchSilence)
	c.waitReady(ctx)
	if s := c.State(); s.Refused && s.Source == FromNowhere && c.options.Wait > 0 {
		_ = c.Close() // nothing was decided
		return nil, refused(s)
	}
	return c, nil
}

// refused is the error for an access key that the service does not take.
func refused(s State) error {
	return fmt.Errorf("greenlever: the service does not take the access key in GREENLEVER_KEY, which must be a live "+
		"one of kind service for this installation: %s", s.LastError)
}

var emptyRuleset = &flag.Ruleset{Flags: map[string]json.RawMessage{}, Segments: map[string]json.RawMessage{}}

func newClient(o Options) (*Client, error) {
	o.URL = strings.TrimRight(firstOf(o.URL, os.Getenv("GREENLEVER_URL")), "/")
	o.Key = firstOf(o.Key, os.Getenv("GREENLEVER_KEY"))
	o.File = firstOf(o.File, os.Getenv("GREENLEVER_FILE"))
	o.Application = firstOf(o.Application, filepath.Base(os.Args[0]))
	switch {
	case o.URL == "" && o.File == "":
		return nil, errors.New("greenlever: set GREENLEVER_URL to the service's address (and GREENLEVER_KEY), or " +
			"GREENLEVER_FILE to a ruleset's path")
	case o.URL != "" && o.Key == "":
		return nil, errors.New("greenlever: set GREENLEVER_KEY to an access key of kind service")
	}
	var addresses []string
	for address := range strings.SplitSeq(o.URL, ",") {
		address = strings.TrimRight(strings.TrimSpace(address), "/")
		if u, err := url.Parse(address); o.URL != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" ||
			u.Host == "" || strings.ContainsAny(u.Host, "; ")) {
			return nil, fmt.Errorf("greenlever: GREENLEVER_URL holds %q, which is no address such as "+
				"https://flags.pinecrest.example", address)
		}
		addresses = append(addresses, address)
	}
	if o.Wait == 0 {
		o.Wait = 2 * time.Second
	}
	if o.Report <= 0 {
		o.Report = 10 * time.Second
	}
	if o.silence <= 0 {
		o.silence = silence
	}
	if o.homeward <= 0 {
		o.homeward = time.Minute
	}
	if o.HTTP == nil {
		o.HTTP = &http.Client{}
	}
	if o.Logger == nil {
		o.Logger = slog.Default()
	}
	c := &Client{options: o, decided: o.Decided, log: o.Logger, addresses: addresses, instance: newInstance(),
		started: time.Now(), changed: make(chan struct{}), nudge: make(chan struct{}, 1)}
	for i := range o.Resolvers {
		c.people.finds = append(c.people.finds, o.Resolvers[i].Name.text)
	}
	c.link.Source, c.link.Contact = FromNowhere, c.started
	dir := firstOf(o.Dir, os.Getenv("GREENLEVER_DIR"))
	if dir == "" {
		if cache, err := os.UserCacheDir(); err == nil {
			dir = filepath.Join(cache, "greenlever")
		}
	}
	c.disk = newDisk(dir, o.URL, o.Key)
	return c, nil
}

func firstOf(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

func (c *Client) startFromDiskOrFile() {
	rs, contact, err := c.disk.read()
	if err == nil {
		if c.disk.damaged != nil {
			c.log.Error("greenlever: who is on a list is unknown until the service is reached", "error",
				c.disk.damaged)
			c.link.LastError = c.disk.damaged.Error()
		}
		c.link.Contact = contact
		c.set(rs, FromDisk)
		c.rest(time.Now())
		return
	}
	if !errors.Is(err, os.ErrNotExist) {
		c.log.Warn("greenlever: the ruleset kept on disk is of no use", "error", err)
	}
	if c.options.File != "" {
		if err := c.loadFile(); err != nil {
			c.log.Warn("greenlever: the ruleset's file is of no use", "error", err)
		}
	}
}

// waitReady waits for a ruleset from the service, as long as the options say; one from
// disk or file makes a silent service no reason to wait.
func (c *Client) waitReady(ctx context.Context) {
	if c.options.Wait < 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, c.options.Wait)
	defer cancel()
	for {
		state, changed := c.watch()
		if state.Source == FromService || state.Refused || state.LastError != "" && state.Source != FromNowhere {
			return
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// Ready waits until the client decides by a ruleset from the service, or the context ends;
// the error then says what it decides by instead. A client of a file alone is ready at once; an
// access key that the service refuses ends the wait.
func (c *Client) Ready(ctx context.Context) error {
	for {
		state, changed := c.watch()
		if state.Source == FromService || c.options.URL == "" && state.Source == FromFile {
			return nil
		}
		if state.Refused {
			return refused(state)
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return fmt.Errorf("greenlever: not ready, decisions are by %s: %s: %w", state.Source,
				firstOf(state.LastError, "the service has not answered yet"), ctx.Err())
		}
	}
}

// watch gives the state and a channel that is closed when it changes.
func (c *Client) watch() (State, <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.link, c.changed
}

// State says what the client decides from.
func (c *Client) State() State {
	s, _ := c.watch()
	s.Instance = c.instance
	return s
}

// View is the ruleset that a client decided by at a moment.
type View struct{ rules *decide.Ruleset }

// View gives what the client decides by now, to tell later what has changed.
func (c *Client) View() View { return View{c.state.Load().rules} }

// Since lists the flags whose answers may be others than in an earlier view, by key.
func (v View) Since(earlier View) []string {
	if earlier.rules == nil || v.rules == nil {
		return nil
	}
	return v.rules.MovedKeys(earlier.rules)
}

// FileAlone tells whether the client decides by a local file and follows no service.
func (c *Client) FileAlone() bool { return c.options.URL == "" }

// Logger is where the client logs.
func (c *Client) Logger() *slog.Logger { return c.log }

// Changed gives a channel that is closed at the next change of [Client.State], such as a
// new revision.
func (c *Client) Changed() <-chan struct{} {
	_, changed := c.watch()
	return changed
}

// set puts a ruleset into use.
func (c *Client) set(source *flag.Ruleset, from Source) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var before *decide.Ruleset
	if s := c.state.Load(); s != nil {
		before = s.base
		if from == FromService && (s.source == FromService || s.source == FromDisk) {
			source = source.Succeed(before.Source)
		}
	}
	c.use(decide.After(before, source, findZone), nil, from)
}

// apply carries the ruleset on by one event. The long lists that it names are fetched
// first, so that the revision applies as a whole.
func (c *Client) apply(ctx context.Context, e *flag.Event) error {
	lists, err := c.fetchLists(ctx, e.Digests())
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	rules := c.state.Load().base
	if len(lists) > 0 {
		rules = rules.Holding(lists)
	}
	next, err := rules.Next(e)
	if err != nil {
		return err
	}
	c.use(next, e, FromService)
	return nil
}

// takeOrder decides by an emergency order, and keeps it, until the service's own ruleset has it. It returns
// [flag.ErrOrder] and the like for one that is not genuine.
func (c *Client) takeOrder(text string) error {
	o, err := flag.ReadOrder(text, c.state.Load().base.Source.Emergency)
	if err == nil {
		c.hold(func(rs *flag.Ruleset) *flag.Ruleset { return rs.Take(o) })
	}
	return err
}

// hold puts what is held beside the service's ruleset into use, as it is after a change.
func (c *Client) hold(change func(*flag.Ruleset) *flag.Ruleset) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.state.Load()
	source := change(s.base.Source)
	if source == s.base.Source {
		return
	}
	c.log.Warn("greenlever: what is held of stops beside the service's ruleset has changed", "orders",
		len(source.Orders), "kept", len(source.Kept))
	c.use(s.base.Under(source), nil, s.source)
	c.restLocked(time.Now()) // what rests for silence goes on resting
	c.disk.mark()
	c.reportSoon()
	c.reportAfterStop()
}

// use puts a ruleset into use. What was counted until now was by the one before.
func (c *Client) use(rs *decide.Ruleset, e *flag.Event, from Source) {
	c.counts.drain(c.link.Revision)
	rs, blocks := c.counts.grow(rs, time.Now())
	next := &state{rules: rs, base: rs, blocks: blocks, source: from, handles: lookUpHandles(rs),
		watches: rs.WatchedBy()}
	c.state.Store(next)
	if from == FromService && (c.link.Source != FromService || c.link.Epoch != rs.Source.Epoch ||
		c.link.Revision != rs.Source.Revision) {
		c.note(rs.Source.Epoch, rs.Source.Revision, rs.Source.Digest)
	}
	level := slog.LevelDebug // each revision
	if c.link.Source != from {
		level = slog.LevelInfo // since when it is decided by what
	}
	c.link.Source, c.link.Epoch, c.link.Revision, c.link.Silent = from, rs.Source.Epoch, rs.Source.Revision, 0
	c.tell()
	if t := c.options.tap; t != nil && t.Applied != nil && from != FromNowhere {
		t.Applied(rs.Source, e)
	}
	if from != FromNowhere {
		c.log.Log(context.Background(), level, "greenlever: ruleset in use", "from", from, "epoch", rs.Source.Epoch,
			"revision", rs.Source.Revision)
	}
	if from == FromService {
		c.disk.mark()
		c.reportApplied()
		if e != nil && len(e.Stops) > 0 {
			c.reportAfterStop()
		}
	}
}

func (c *Client) tell() {
	close(c.changed)
	c.changed = make(chan struct{})
}

// Close ends the client: it stops following, reports what is counted, says that it leaves,
// and keeps the ruleset on disk. Decisions go on with the last ruleset.
func (c *Client) Close() error {
	c.cancel()
	c.done.Wait()
	if c.options.URL == "" {
		return nil
	}
	_, err := c.disk.write(c.state.Load())
	return err
}
