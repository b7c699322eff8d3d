package webhooks

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/app/work"
)

// Records are what a sender reads, and where it notes how it went.
type Records interface {
	AllWebhooks(ctx context.Context) ([]app.Webhook, error)
	Due(ctx context.Context, now int64) ([]app.Notice, error)
	NoticesAfter(ctx context.Context, webhook string, lane app.Lane, after int64, most int) ([]app.Notice, error)
	Tried(ctx context.Context, n *app.Notice) error
	DropNotice(ctx context.Context, number int64) error
	Around(ctx context.Context, n *app.Notice) (*app.Around, error)
}

// Sender takes notices to their webhooks.
type Sender struct {
	Records Records
	Now     func() time.Time
	Log     *slog.Logger
	// Allowed are private networks that webhooks may be in. All others are refused, by the address that is dialled.
	Allowed []netip.Prefix
	Wake    chan struct{}
	// Timeout of one attempt, and for how long a notice is tried; zero: ten seconds, a day.
	Timeout, Tries time.Duration

	once   sync.Once
	client *http.Client
	mu     sync.Mutex
	busy   map[lane]bool
	going  sync.WaitGroup
}

// lane is one order in which a webhook is told.
type lane struct {
	webhook string
	lane    app.Lane
}

const (
	lookEvery = 400 * time.Millisecond
	lookPause = 40 * time.Millisecond
	timeout   = 10 * time.Second
	tries     = 24 * time.Hour
	runs      = 50 // notices that a lane takes before it is looked at anew
)

// pauses between the attempts of a notice; the last one is kept to.
var pauses = []time.Duration{time.Second, 3 * time.Second, 10 * time.Second, 30 * time.Second, 2 * time.Minute,
	5 * time.Minute, 15 * time.Minute, time.Hour}

// Job sends for as long as this process has the lease. A process that lost it while it was sending sends
// what it was at, and what it did not note in time is sent again by the next.
func (s *Sender) Job() work.Job {
	return work.Job{Name: "webhooks", Says: "tell webhooks", Every: time.Second, Lease: 5 * time.Second, First: true,
		Do: func(ctx context.Context, _ *work.Turn) error { return s.Run(ctx) }}
}

// Run sends until the context ends.
func (s *Sender) Run(ctx context.Context) error {
	s.once.Do(s.open)
	defer s.going.Wait()
	for {
		if err := s.look(ctx); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.Wake:
		case <-time.After(lookEvery):
		}
		select { // many changes are one reason to look
		case <-ctx.Done():
			return nil
		case <-time.After(lookPause):
		}
	}
}

// look begins with the lanes in which something is due.
func (s *Sender) look(ctx context.Context) error {
	heads, err := s.Records.Due(ctx, s.Now().UnixMilli())
	if err != nil || len(heads) == 0 {
		return err
	}
	all, err := s.Records.AllWebhooks(ctx)
	if err != nil {
		return err
	}
	for i := range heads {
		n := heads[i]
		at := slices.IndexFunc(all, func(w app.Webhook) bool { return w.ID == n.Webhook })
		if at < 0 {
			continue
		}
		l := lane{n.Webhook, n.Lane}
		s.mu.Lock()
		taken := s.busy[l]
		s.busy[l] = true
		s.mu.Unlock()
		if taken {
			continue
		}
		s.going.Add(1)
		guard.Go(s.Log, "tell a webhook", func() {
			defer s.going.Done()
			defer func() {
				s.mu.Lock()
				delete(s.busy, l)
				s.mu.Unlock()
			}()
			if err := s.run(ctx, &all[at], n); err != nil && ctx.Err() == nil {
				s.Log.Warn("could not note what a webhook was told", "webhook", l.webhook, "error", err)
			}
		})
	}
	return nil
}

// run sends what waits in a lane, until something fails or there is nothing left.
func (s *Sender) run(ctx context.Context, w *app.Webhook, n app.Notice) error {
	for some := []app.Notice{n}; len(some) > 0 && ctx.Err() == nil; {
		for i := range some {
			went, err := s.tell(ctx, w, &some[i])
			if err != nil || !went {
				return err
			}
		}
		next, err := s.Records.NoticesAfter(ctx, w.ID, n.Lane, some[len(some)-1].Number, runs)
		if err != nil {
			return err
		}
		some = next
	}
	return nil
}

// tell makes one attempt, and notes how it went. went tells that the next may follow.
func (s *Sender) tell(ctx context.Context, w *app.Webhook, n *app.Notice) (went bool, err error) {
	around, err := s.Records.Around(ctx, n)
	if err != nil {
		return false, err
	}
	if w.Gone || w.Off || !w.Wants(n.Action, around.Environment, n.Subject, around.Tags) {
		return true, s.Records.DropNotice(ctx, n.Number)
	}
	body, err := Event(n, around)
	if err != nil {
		return false, err
	}
	answer, again, after := s.attempt(ctx, w, n.Event, body)
	if ctx.Err() != nil && again {
		return false, nil // it was cut off: whoever comes next tries it
	}
	now := s.Now().UnixMilli()
	n.Attempts, n.Answer = n.Attempts+1, answer[:min(200, len(answer))]
	switch {
	case !again:
		n.State, n.Sent = app.NoticeArrived, now
	case time.Duration(now-n.Since)*time.Millisecond > s.Tries && n.Attempts > 1:
		n.State = app.NoticeParked
	default:
		wait := max(pauses[min(n.Attempts, len(pauses))-1], after)
		n.Due = now + (wait - time.Duration(rand.Int64N(int64(wait/5)+1))).Milliseconds()
	}
	// What was told is noted although the lease is lost meanwhile.
	noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), s.Timeout)
	defer cancel()
	return n.State != app.NoticeWaits, s.Records.Tried(noting, n)
}

// Event is a notice as a CloudEvent in JSON.
func Event(n *app.Notice, around *app.Around) ([]byte, error) {
	e := cloudevents.NewEvent()
	e.SetID(n.Event)
	e.SetType("example.greenlever." + n.Action)
	e.SetSource("/projects/" + around.Project)
	if around.Environment != "" {
		e.SetSource(e.Source() + "/environments/" + around.Environment)
	}
	e.SetSubject(n.Subject)
	e.SetTime(time.UnixMilli(n.At).UTC())
	e.SetExtension("sequence", fmt.Sprintf("%019d", n.Sequence)) // in its source
	data := map[string]any{}
	var kept map[string]json.RawMessage
	if err := json.Unmarshal(n.Body, &kept); err != nil {
		return nil, err
	}
	for name, v := range kept {
		data[name] = v
	}
	data["project"], data["environment"], data["by"] = around.Project, around.Environment, around.By
	if err := e.SetData(cloudevents.ApplicationJSON, data); err != nil {
		return nil, err
	}
	return json.Marshal(e)
}

// Sign gives the headers of Standard Webhooks for a message: one signature for each secret that lives.
func Sign(secrets []app.Secret, id string, at time.Time, body []byte) (http.Header, error) {
	stamp := strconv.FormatInt(at.Unix(), 10)
	var all []string
	for _, secret := range secrets {
		if secret.Until != 0 && secret.Until < at.UnixMilli() {
			continue
		}
		key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret.Text, "whsec_"))
		if err != nil {
			return nil, errors.New("a secret of the webhook cannot be read: rotate it")
		}
		mac := hmac.New(sha256.New, key)
		fmt.Fprintf(mac, "%s.%s.%s", id, stamp, body)
		all = append(all, "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	}
	h := http.Header{}
	h.Set("webhook-id", id)
	h.Set("webhook-timestamp", stamp)
	h.Set("webhook-signature", strings.Join(all, " "))
	return h, nil
}

// attempt sends a message once. again tells that it did not arrive, and after how long at least it may be
// tried again.
func (s *Sender) attempt(ctx context.Context, w *app.Webhook, id string, body []byte) (answer string, again bool,
	after time.Duration) {
	ctx, cancel := context.WithTimeout(ctx, s.Timeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, bytes.NewReader(body))
	if err != nil {
		return "its address is none", true, 0
	}
	if req.Header, err = Sign(w.Secrets, id, s.Now(), body); err != nil {
		return err.Error(), true, 0
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	req.Header.Set("User-Agent", "greenlever")
	res, err := s.client.Do(req)
	if err != nil {
		return said(err), true, 0
	}
	defer res.Body.Close()
	_, _ = io.CopyN(io.Discard, res.Body, 64<<10) // so that the connection can be used again
	switch {
	case res.StatusCode >= 200 && res.StatusCode < 300:
		return res.Status, false, 0
	case res.StatusCode >= 300 && res.StatusCode < 400:
		return res.Status + ": it points elsewhere, which is not followed; give the webhook that address", true, 0
	}
	if seconds, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && seconds > 0 {
		after = min(time.Duration(seconds)*time.Second, time.Hour)
	}
	return res.Status, true, after
}

// said says what went wrong without the address, which may hold a secret.
func said(err error) string {
	var refused *RefusedAddress
	if errors.As(err, &refused) {
		return refused.Error()
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return "no answer in time"
	}
	var dns *net.DNSError
	if errors.As(err, &dns) {
		return "its name is not found"
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Op + ": " + op.Err.Error()
	}
	return "it could not be reached"
}

// RefusedAddress is the error of an address that webhooks may not be at.
type RefusedAddress struct{ Address string }

func (r *RefusedAddress) Error() string {
	return r.Address + " is in a private network, which the operator has not allowed: see --webhook-networks"
}

// open makes the client: what it dials is looked at once its name is resolved, so that no name leads into a
// private network; no proxy is asked, and no redirect followed.
func (s *Sender) open() {
	if s.Timeout == 0 {
		s.Timeout = timeout
	}
	if s.Tries == 0 {
		s.Tries = tries
	}
	s.busy = map[lane]bool{}
	dialer := &net.Dialer{Timeout: s.Timeout, Control: func(_, address string, _ syscall.RawConn) error {
		return s.reachable(address)
	}}
	s.client = &http.Client{
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: s.Timeout,
			MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// kept apart are addresses that are no place of the public Internet (IANA's special-purpose registries).
var keptApart = prefixes("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12",
	"192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "192.168.0.0/16", "198.18.0.0/15", "198.51.100.0/24",
	"203.0.113.0/24", "224.0.0.0/3", "::/8", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23",
	"2001:db8::/32",
	"2002::/16", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8")

func prefixes(all ...string) (out []netip.Prefix) {
	for _, p := range all {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

func (s *Sender) reachable(address string) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return &RefusedAddress{address}
	}
	ip := at.Addr().WithZone("").Unmap()
	in := func(all []netip.Prefix) bool {
		return slices.ContainsFunc(all, func(p netip.Prefix) bool { return p.Contains(ip) })
	}
	if in(keptApart) && !in(s.Allowed) {
		return &RefusedAddress{ip.String()}
	}
	return nil
}
