package outpost

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/client/relay"
	"greenlever.example/core/flag"
	"greenlever.example/core/sample"
	"greenlever.example/core/wire"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/work"
	"greenlever.example/greenlever/internal/edge"
	"greenlever.example/greenlever/internal/wholefile"
)

// Bounds of what waits here to be reported, so that a service that is dead for days does no
// harm to the outpost.
const (
	keptEvents   = 1_000
	maxLines     = 50_000
	maxUnits     = 10_000
	maxUnknown   = 5_000
	maxApplied   = 1_000
	maxFollowers = 20_000
	forgetAfter  = 10 * time.Minute // of followers; the service remembers them by name
	needsEvery   = 2 * time.Second
)

// link is one environment that is followed, and what those behind it say.
type link struct {
	id     int64 // stands for the environment here
	secret string
	url    string
	path   string // of the needs on disk
	http   *http.Client
	now    func() time.Time
	client atomic.Pointer[greenlever.Client] // nil until it is open
	relay  *relay.Relay
	asked  chan struct{} // closed once the service was asked what is needed, whatever came back

	mu      sync.Mutex
	rules   *flag.Ruleset // nil before there is one
	events  []*flag.Event // the newest, without gaps up to rules
	needs   *edge.OutpostNeeds
	tag     string // of the needs, by which the service says that they are the same
	refused string // why the needs cannot be had

	followers map[string]*follower
	counts    map[wire.CountLine]uint64
	unknown   map[unknownKey]wire.UnknownLine
	units     map[unitKey]wire.UnitLine
	seen      sample.Attributes
	evidence  passing
	up        chan struct{}        // wakes what hands orders up
	handed    map[string]bool      // ids of orders; that job's own
	kept      map[string]flag.Stop // by id, that processes behind the outpost hold
	let       map[string]bool      // ids of those that are to be let go
}

type follower struct {
	wire.Status
	at   time.Time // when it was last heard of
	news bool      // since the last report to the service
	key  string    // id of the access key that introduced it
}

type unknownKey struct{ flag, kind, application string }

type unitKey struct{ of, unit string }

func newLink(id int64, url, secret, dir string, h *http.Client, now func() time.Time) *link {
	sum := sha256.Sum256([]byte(url + "\x00" + secret))
	l := &link{id: id, secret: secret, url: url, path: filepath.Join(dir, "needs-"+hex.EncodeToString(sum[:8])),
		http: h, now: now, asked: make(chan struct{}),
		up: make(chan struct{}, 1), handed: map[string]bool{}, kept: map[string]flag.Stop{}, let: map[string]bool{},
		followers: map[string]*follower{}, counts: map[wire.CountLine]uint64{},
		unknown: map[unknownKey]wire.UnknownLine{}, units: map[unitKey]wire.UnitLine{}}
	raw, err := os.ReadFile(l.path)
	var needs edge.OutpostNeeds
	if err == nil && json.Unmarshal(raw, &needs) == nil {
		l.needs = &needs
	}
	return l
}

// apply is told of each ruleset that the client decides by, in order.
func (l *link) apply(rs *flag.Ruleset, e *flag.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.rules = rs
	if e == nil {
		l.events = nil
	} else if l.events = append(l.events, e); len(l.events) > keptEvents {
		l.events = l.events[1:]
	}
}

// state is what the link's client decides from.
func (l *link) state() greenlever.State {
	if c := l.client.Load(); c != nil {
		return c.State()
	}
	return greenlever.State{Source: greenlever.FromNowhere, Contact: time.Now()}
}

// head is where the environment stands; false before anything is known.
func (l *link) head() (rules *flag.Ruleset, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.rules, l.rules != nil
}

// after lists what came after a revision.
func (l *link) after(revision int64, limit int) ([]*flag.Event, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.events) == 0 || l.events[0].Revision > revision+1 || l.rules.Revision <= revision {
		return nil, flag.ErrGap
	}
	some := l.events[revision+1-l.events[0].Revision:]
	return slices.Clone(some[:min(limit, len(some))]), nil
}

// job keeps what is needed beside the ruleset up to date. Where it cannot, the outpost's page and
// those whom it refuses are told why.
func (l *link) job(learned func()) work.Job {
	once := sync.OnceFunc(func() { close(l.asked) })
	return work.Job{Name: fmt.Sprintf("needs-%d", l.id), Says: "learn what is needed beside the ruleset",
		Every: needsEvery, First: true, Quiet: true,
		Do: func(ctx context.Context, _ *work.Turn) error {
			changed, err := l.fetchNeeds(ctx)
			once()
			l.mu.Lock()
			l.refused = ""
			if err != nil {
				l.refused = err.Error()
			}
			l.mu.Unlock()
			if changed {
				learned()
			}
			return err
		}}
}

func (l *link) fetchNeeds(ctx context.Context) (changed bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, l.url+"/follow/v1/outpost", nil)
	if err != nil {
		return false, err
	}
	req.Header.Set("Authorization", "Bearer "+l.secret)
	l.mu.Lock()
	if l.tag != "" {
		req.Header.Set("If-None-Match", l.tag)
	}
	l.mu.Unlock()
	res, err := l.http.Do(req)
	if err != nil {
		return false, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 16<<20))
	if err != nil {
		return false, err
	}
	if res.StatusCode == http.StatusUnauthorized {
		changed, err := l.disown()
		return changed, errors.Join(errors.New("the service does not take this outpost's access key any more: "+
			"nobody else can use it here either"), err)
	}
	if res.StatusCode == http.StatusNotModified {
		return false, nil
	}
	if res.StatusCode != http.StatusOK {
		return false, fmt.Errorf("the service answers %d to the question which access keys it takes", res.StatusCode)
	}
	var needs edge.OutpostNeeds
	if err := json.Unmarshal(raw, &needs); err != nil {
		return false, fmt.Errorf("read which access keys the service takes: %w", err)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.tag = res.Header.Get("ETag")
	if l.needs != nil {
		before, _ := json.Marshal(l.needs)
		after, _ := json.Marshal(&needs)
		if bytes.Equal(before, after) {
			return false, nil
		}
	}
	l.needs = &needs
	return true, l.keepNeeds(raw)
}

// disown takes the outpost's own key off those that it takes itself: it was revoked, and the
// outpost is told nothing more.
func (l *link) disown() (changed bool, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	own := sha256.Sum256([]byte(l.secret))
	left := edge.OutpostNeeds{Keys: []edge.OutpostKey{}}
	if l.needs != nil {
		left = *l.needs
		left.Keys = slices.DeleteFunc(slices.Clone(l.needs.Keys), func(k edge.OutpostKey) bool {
			return bytes.Equal(k.Digest, own[:])
		})
		if len(left.Keys) == len(l.needs.Keys) {
			return false, nil
		}
	}
	l.needs, l.tag = &left, ""
	raw, err := json.Marshal(&left)
	return true, errors.Join(err, l.keepNeeds(raw))
}

// keepNeeds keeps what is needed on disk.
func (l *link) keepNeeds(raw []byte) error {
	if err := wholefile.Write(l.path, raw); err != nil {
		return fmt.Errorf("what the outpost needs cannot be kept on disk: %w", err)
	}
	return nil
}

// known is what is needed beside the ruleset; an error while it never was told.
func (l *link) known() (*edge.OutpostNeeds, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.needs == nil {
		return nil, app.Faultf(app.Unavailable, "this outpost has not reached the service yet")
	}
	return l.needs, nil
}

// keys lists who may ask here: before the service was reached, who has the outpost's own key.
func (l *link) keys() []app.AccessKey {
	needs, err := l.known()
	if err != nil {
		sum := sha256.Sum256([]byte(l.secret))
		return []app.AccessKey{{ID: "own", EnvironmentID: l.id, Kind: app.ServiceKey, Digest: sum[:]}}
	}
	var all []app.AccessKey
	for _, k := range needs.Keys {
		if len(k.Digest) == sha256.Size {
			all = append(all, app.AccessKey{ID: k.ID, EnvironmentID: l.id, Kind: k.Kind, Purpose: k.Purpose,
				Digest: k.Digest, Origins: k.Origins})
		}
	}
	return all
}

// take takes a follower's report, once, to be passed on with the next own one.
func (l *link) take(r app.Incoming) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.note(r.Status, r.Key, 0) {
		return false
	}
	for i := range r.Behind {
		l.note(r.Behind[i].Status, r.Key, time.Duration(r.Behind[i].Age)*time.Millisecond)
	}
	for _, line := range r.Counts {
		if line.Application == "" && line.Version == "" {
			line.Application, line.Version = r.Application, r.Version
		}
		l.add(line)
	}
	for _, line := range r.Unknown {
		line.Application = cmp.Or(line.Application, r.Application)
		l.miss(line)
	}
	l.takeEvidence(r.Report)
	if len(r.Applied) > 0 || r.Leaving {
		l.relay.Soon()
	}
	return true
}

// note notes what an instance says of itself; false where that is known already.
func (l *link) note(s wire.Status, key string, age time.Duration) bool {
	f := l.followers[s.Instance]
	if f == nil {
		if len(l.followers) >= maxFollowers {
			return false
		}
		f = &follower{key: key}
		l.followers[s.Instance] = f
	}
	if s.Sequence <= f.Sequence || f.key != key { // nobody speaks for another's process
		return false
	}
	if f.news { // not passed on yet
		s.Applied = append(f.Applied, s.Applied...)
		s.Applied = s.Applied[max(0, len(s.Applied)-maxApplied):]
	}
	f.Status, f.at, f.news = s, l.now().Add(-max(0, age)), true
	return true
}

func (l *link) add(line wire.CountLine) {
	n := line.Count
	line.Count = 0
	if _, ok := l.counts[line]; ok || len(l.counts) < maxLines {
		l.counts[line] += n
	}
}

func (l *link) miss(line wire.UnknownLine) {
	key := unknownKey{line.Flag, line.Type, line.Application}
	before, ok := l.unknown[key]
	if !ok && len(l.unknown) >= maxUnknown {
		return
	}
	line.Count += before.Count
	l.unknown[key] = line
}

// count adds what was decided here.
func (l *link) count(lines []wire.CountLine, unknown []wire.UnknownLine) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, line := range lines {
		l.add(line)
	}
	for _, line := range unknown {
		l.miss(line)
	}
}

func (l *link) sampled(of string, rows []app.UnitRow) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, r := range rows {
		key := unitKey{of, r.Unit}
		if _, ok := l.units[key]; ok || len(l.units) < maxUnits {
			l.units[key] = wire.UnitLine{Of: of, Hash: strconv.FormatUint(r.Hash, 16), Unit: r.Unit,
				Attributes: r.Context, Seen: r.Seen}
		}
	}
}

func (l *link) saw(contexts uint64, seen []sample.Seen) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen.Add(contexts, seen)
}

// atOnce is about how many bytes one report holds, half of what the service takes; what is left goes
// with the next one, soon.
const atOnce = 4 << 20

// room is what is left of a report.
type room struct {
	bytes int
	full  bool // something had to wait
}

// takes tells whether a row of about so many bytes goes in; the first one always does.
func (r *room) takes(bytes int) bool {
	if r.bytes+bytes > atOnce && r.bytes > 0 {
		r.full = true
		return false
	}
	r.bytes += bytes
	return true
}

// report gives what the link's client tells the service in place of its own counts: what
// those behind the outpost said since the last time.
func (l *link) report(streams, pollers int64) map[string]any {
	l.mu.Lock()
	defer l.mu.Unlock()
	behind, counts, unknown, units := []wire.Follower{}, []wire.CountLine{}, []wire.UnknownLine{}, []wire.UnitLine{}
	var room room
	for id, f := range l.followers {
		age := l.now().Sub(f.at)
		if f.news && !room.takes(1_000+150*len(f.Applied)) {
			continue
		}
		if f.news {
			behind = append(behind, wire.Follower{Status: f.Status, Age: max(0, age.Milliseconds())})
			f.news, f.Applied = false, nil
		}
		if age > forgetAfter || f.Leaving {
			delete(l.followers, id)
		}
	}
	for line, n := range l.counts {
		if !room.takes(500) {
			break
		}
		delete(l.counts, line)
		line.Count = n
		counts = append(counts, line)
	}
	for key, line := range l.unknown {
		if !room.takes(500 + len(line.Fallback)) {
			break
		}
		delete(l.unknown, key)
		unknown = append(unknown, line)
	}
	for key, line := range l.units {
		if !room.takes(300 + len(line.Unit) + len(line.Attributes)) {
			break
		}
		delete(l.units, key)
		units = append(units, line)
	}
	contexts, seen := l.seen.Take()
	evidence := l.evidence.report(&room)
	if room.full {
		l.relay.Soon()
	}
	return map[string]any{"exposures": evidence.Exposures, "events": evidence.Events, "measures": evidence.Measures,
		"lost": evidence.Lost, "kept": l.keeping(),
		"kind": wire.AnOutpost, "behind": behind, "counts": counts, "unknown": unknown,
		"units": units, "contexts": contexts, "seen": seen, "streams": streams, "pollers": pollers}
}
