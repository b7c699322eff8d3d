package httpapi

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/decide"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/feed"
)

// streamPath is where browsers are told that they should ask again.
const streamPath = "/ofrep/v1/stream"

// tokenLife is for how long a stream can be opened with a token. An EventSource sends no
// header, so the token stands in the address; it opens this stream and nothing else.
const tokenLife = 10 * time.Minute

// streamToken lets a key's holder open a stream of changes from the ruleset on that it got
// its answers by. Any node knows the digest of the key's secret, so any node can check it.
func streamToken(key *feed.Live, rules *decide.Ruleset, now int64) string {
	text := fmt.Sprintf("%s.%d.%d.%d", key.ID, now+tokenLife.Milliseconds(), rules.Source.Epoch, rules.Source.Revision)
	return text + "." + base64.RawURLEncoding.EncodeToString(streamMAC(key, text))
}

func streamMAC(key *feed.Live, text string) []byte {
	mac := hmac.New(sha256.New, key.Digest)
	mac.Write([]byte("stream " + text))
	return mac.Sum(nil)
}

// holder is who opens a stream: its key, and the ruleset and the time that it has answers by.
type holder struct {
	key                    *feed.Live
	epoch, revision, since int64
}

// openedBy reads a token.
func (a *Edge) openedBy(token string) (h holder, err error) {
	at := strings.LastIndexByte(token, '.')
	part := strings.Split(token, ".")
	if at < 0 || len(part) != 5 {
		return h, app.Faultf(app.Unauthorized, "the stream's token is malformed: take the address from the bulk answer as it is")
	}
	sum, err := base64.RawURLEncoding.DecodeString(part[4])
	if h.key = a.Keys.ByID(part[0]); err != nil || h.key == nil || !hmac.Equal(sum, streamMAC(h.key, token[:at])) {
		return h, app.Faultf(app.Unauthorized, "the stream's token is not known: ask for all answers again, they bring a new one")
	}
	until, _ := strconv.ParseInt(part[1], 10, 64)
	if a.Now().UnixMilli() >= until {
		return h, app.Faultf(app.Unauthorized, "the stream's token has expired: ask for all answers again, they bring a new one")
	}
	h.epoch, _ = strconv.ParseInt(part[2], 10, 64)
	h.revision, _ = strconv.ParseInt(part[3], 10, 64)
	h.since = until - tokenLife.Milliseconds()
	return h, nil
}

// changes tells a browser when it should ask again: when a flag that it may see can have
// another answer, by a revision or by the clock. It names no flag.
func (a *Edge) changes(c *echo.Context) error {
	cors(c)
	h, err := a.openedBy(c.QueryParam("token"))
	if err != nil {
		return err
	}
	key := h.key
	if err := fromPage(c, key); err != nil {
		return err
	}
	if id := c.Request().Header.Get("Last-Event-ID"); id != "" {
		if h.epoch, h.revision, err = parseEventID(id); err != nil {
			return err
		}
	}
	place, err := a.Hub.Place(c.Request().Context(), key.EnvironmentID)
	if err != nil {
		return err
	}
	s, err := a.openStream(c)
	if err != nil {
		return err
	}
	defer s.close()
	go s.endWith(key.Done)
	a.browsers.stream(key.EnvironmentID, 1)
	defer a.browsers.stream(key.EnvironmentID, -1)
	pick := func(f *decide.Flag) bool { return f.Visible || key.Kind == app.ServiceKey }
	if err := s.write([]byte(": open\n\n")); err != nil {
		return nil
	}
	return a.tellChanges(s, place, pick, h)
}

func (a *Edge) tellChanges(s *stream, place *feed.Place, pick func(*decide.Flag) bool, h holder) error {
	beat := time.NewTicker(a.Beat)
	defer beat.Stop()
	for {
		changed := place.Changed()
		src := place.Rules().Source
		if moved := place.Moved(h.key.Kind == app.BrowserKey); h.epoch != src.Epoch || h.revision < moved {
			if !s.pause(rand.N(a.spread() + 1)) { // they ask again a little apart
				return nil
			}
			src, h.since = place.Rules().Source, a.Now().UnixMilli()
			if err := s.tellRefetch(src.Epoch, src.Revision); err != nil {
				return nil
			}
		}
		h.epoch, h.revision = src.Epoch, src.Revision
		var clock <-chan time.Time
		if at, ok := place.Rules().NextChange(h.since, pick); ok { // it may be past already
			clock = time.After(time.UnixMilli(at).Sub(a.Now()))
		}
		select {
		case <-s.ctx.Done():
			return nil
		case <-changed:
		case <-clock:
			h.since = a.Now().UnixMilli()
			if s.tellRefetch(h.epoch, h.revision) != nil {
				return nil
			}
		case <-beat.C:
			if s.write([]byte(": still here\n\n")) != nil {
				return nil
			}
		}
	}
}

// tellRefetch writes the event of the protocol that has a client ask again.
func (s *stream) tellRefetch(epoch, revision int64) error {
	return s.write(fmt.Appendf(nil, "id: %d.%d\ndata: {\"type\":\"refetchEvaluation\",\"etag\":\"%d.%d\"}\n\n", epoch, revision, epoch, revision))
}

// pause waits, and tells whether the stream is still open after it.
func (s *stream) pause(d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-s.ctx.Done():
		return false
	}
}

// endWith ends the stream when a channel is closed.
func (s *stream) endWith(done <-chan struct{}) {
	select {
	case <-done:
		s.cancel()
	case <-s.ctx.Done():
	}
}
