package tripwires

import (
	"cmp"
	"context"
	"crypto/hmac"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/app/webhooks"
)

// Records are what a service reads, and where it counts calls.
type Records interface {
	AllTripwires(ctx context.Context) ([]app.Tripwire, error)
	PlaceOf(ctx context.Context, environment int64) (*app.Project, *app.Environment, error)
	// CountCall notes a call of an alert, and tells how many came since a time.
	CountCall(ctx context.Context, tripwire, identity string, at, since int64) (int, error)
}

// Service takes calls of tripwires. Who does not know a secret costs it a look into a map, and no message to the
// records.
type Service struct {
	Records Records
	Commit  *commit.Service
	Now     func() time.Time
	Log     *slog.Logger

	mu      sync.Mutex
	known   map[string]*wire // by digest of a secret
	read    time.Time
	changes uint64 // told by Forget: what was begun to be read before the last one is old when it arrives
	reading bool
	refused map[string]int64 // the minute of the last entry, by tripwire
	unknown atomic.Int64
}

// wire is a tripwire as this node holds it.
type wire struct {
	app.Tripwire
	until  int64 // of the secret
	reader *Reader
	wrong  error // what is wrong with its expressions
}

// Call is a call of an address.
type Call struct {
	Secret  string
	Address string // of who calls
	Header  http.Header
	Body    []byte
}

const (
	// fresh is how long tripwires are held before they are read again: for so long one that was taken away on another
	// node may still be known. soon is for how long a secret that is not known is believed not to be.
	fresh = 2 * time.Second
	soon  = 250 * time.Millisecond
	// tolerance is how far the time of a signature may be off, as Standard Webhooks 1.0 has it.
	tolerance = 5 * time.Minute
)

// Unknown is how many calls came with secrets that there are not.
func (s *Service) Unknown() int64 { return s.unknown.Load() }

// Take is Call, for who knows nothing of tripwires.
func (s *Service) Take(ctx context.Context, secret, from string, header http.Header, body []byte) (any, error) {
	return s.Call(ctx, &Call{Secret: secret, Address: from, Header: header, Body: body})
}

// Call takes a call. Only what is of a known tripwire reaches the records.
func (s *Service) Call(ctx context.Context, in *Call) (*Told, error) {
	w, err := s.find(ctx, in.Secret)
	if err != nil {
		return nil, err
	}
	if w == nil {
		s.unknown.Add(1)
		return nil, app.Faultf(app.NotFound, "there is nothing at this address")
	}
	alert, err := s.admit(w, in)
	if err != nil {
		s.refuse(ctx, w, err)
		return nil, err
	}
	if w.Off || !alert.Meant {
		return &Told{Outcome: Ignored}, nil
	}
	now := s.Now().UnixMilli()
	if !alert.Over && w.Least > 1 {
		n, err := s.Records.CountCall(ctx, w.ID, alert.Digest(), now, now-int64(w.Within))
		if err != nil {
			return nil, err
		}
		if n < w.Least {
			return &Told{Outcome: Counted, Count: n}, nil
		}
	}
	project, environment, err := s.Records.PlaceOf(ctx, w.Environment)
	if err != nil {
		return nil, err
	}
	raw, err := stops.Arrive(ctx, s.Commit, commit.Request{Actor: actor(w, alert.Link), Reason: reason(w, alert)},
		commit.Change{In: commit.In{Project: project, Environment: environment}, Of: w.ID, Do: &Heard{Alert: *alert}})
	if err != nil {
		return nil, err
	}
	told := &Told{}
	return told, json.Unmarshal(raw, told)
}

func actor(w *wire, cause string) app.Actor {
	return app.Actor{Kind: "tripwire", ID: w.ID, Through: "tripwire", Cause: cause}
}

// reason says what the alert says of itself.
func reason(w *wire, a *Alert) string {
	said := cmp.Or(a.Title, "an alert of "+w.Title)
	if a.Link != "" {
		said += " (" + a.Link + ")"
	}
	return said
}

// admit says what a call is, or why it is refused.
func (s *Service) admit(w *wire, in *Call) (*Alert, error) {
	if !from(w.Sources, in.Address) {
		return nil, app.Faultf(app.Forbidden, "this tripwire takes no calls from this address")
	}
	if w.Signed {
		if err := s.signed(w, in); err != nil {
			return nil, err
		}
	}
	if w.wrong != nil {
		return nil, w.wrong
	}
	return w.reader.Read(in.Body)
}

// from tells whether an address lies in one of some networks; without any, everybody's does.
func from(networks []string, address string) bool {
	if len(networks) == 0 {
		return true
	}
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	for _, n := range networks {
		if p, err := netip.ParsePrefix(n); err == nil && p.Contains(ip.Unmap()) {
			return true
		}
	}
	return false
}

// signed holds a call against its signature (Standard Webhooks 1.0).
func (s *Service) signed(w *wire, in *Call) error {
	id, stamp := in.Header.Get("webhook-id"), in.Header.Get("webhook-timestamp")
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil || id == "" {
		return app.Faultf(app.Unauthorized, "the call carries no signature: webhook-id, webhook-timestamp and "+
			"webhook-signature are its headers")
	}
	at := time.Unix(seconds, 0)
	if off := s.Now().Sub(at); off > tolerance || off < -tolerance {
		return app.Faultf(app.Unauthorized, "the signature is of another time: by more than %s", tolerance)
	}
	should, err := webhooks.Sign([]app.Secret{{Text: w.Signing}}, id, at, in.Body)
	if err != nil {
		return err
	}
	for _, one := range strings.Fields(in.Header.Get("webhook-signature")) {
		if hmac.Equal([]byte(one), []byte(should.Get("webhook-signature"))) {
			return nil
		}
	}
	return app.Faultf(app.Unauthorized, "the signature is not of this body")
}

// Forget has tripwires read anew before the next call: one was changed.
func (s *Service) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.read = time.Time{}
	s.changes++
}

// find finds a tripwire by the secret of its address; nil for none.
func (s *Service) find(ctx context.Context, secret string) (*wire, error) {
	digest := people.Digest(secret)
	s.mu.Lock()
	defer s.mu.Unlock()
	w, age := s.known[string(digest)], time.Since(s.read)
	if !s.reading && (age > fresh || w == nil && age > soon) { // one reads, the others go on with what is known
		s.reading = true
		was, begun := s.known, s.changes
		s.mu.Unlock()
		all, err := s.Records.AllTripwires(ctx)
		known := hold(all, was)
		s.mu.Lock()
		s.reading = false
		switch {
		case err == nil:
			s.known, s.read = known, time.Now()
			if begun != s.changes { // it was changed meanwhile: the next call reads again
				s.read = time.Time{}
			}
		case s.known == nil:
			return nil, err
		default: // what was known goes on
			s.Log.Warn("tripwires cannot be read", "err", err)
			s.read = time.Now()
		}
		w = s.known[string(digest)]
	}
	if s.known == nil {
		return nil, app.Faultf(app.Unavailable, "the tripwires are being read: try again")
	}
	if w == nil || w.until != 0 && w.until < s.Now().UnixMilli() {
		return nil, nil
	}
	return w, nil
}

// hold takes what was read; expressions that stand as they stood are not compiled again.
func hold(all []app.Tripwire, was map[string]*wire) map[string]*wire {
	known := map[string]*wire{}
	for i := range all {
		one := wire{Tripwire: all[i]}
		for _, secret := range all[i].Secrets {
			if w := was[string(secret.Digest)]; w != nil && w.When == one.When && w.Identity == one.Identity &&
				w.Over == one.Over {
				one.reader, one.wrong = w.reader, w.wrong
			}
		}
		if one.reader == nil && one.wrong == nil {
			one.reader, one.wrong = NewReader(&all[i])
		}
		for _, secret := range all[i].Secrets {
			w := one
			w.until = secret.Until
			known[string(secret.Digest)] = &w
		}
	}
	return known
}

// refuse has the first refused call of a minute stand in the audit.
func (s *Service) refuse(ctx context.Context, w *wire, why error) {
	minute := s.Now().UnixMilli() / 60_000
	s.mu.Lock()
	if s.refused == nil {
		s.refused = map[string]int64{}
	}
	first := s.refused[w.ID] < minute
	s.refused[w.ID] = minute
	s.mu.Unlock()
	if !first {
		return
	}
	project, environment, err := s.Records.PlaceOf(ctx, w.Environment)
	if err == nil {
		_, err = s.Commit.Apply(ctx, commit.Request{Actor: actor(w, "")}, commit.Change{In: commit.In{Project: project,
			Environment: environment}, Of: w.ID, Do: &Refuse{Minute: minute, Why: why.Error()}})
	}
	if err != nil {
		s.Log.Warn("a refused call of a tripwire is not in the audit", "tripwire", w.ID, "err", err)
	}
}
