package manage

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/segments"
)

var _ = listed(
	raw("PUT", atEnvironment+"/segments/:segment/lists/:list", (*call).putList).needs(app.Define).change().takes(
		"mode"),
	raw("GET", atEnvironment+"/segments/:segment/lists/:list", (*call).getList).needs(app.Read),
)

// maxUnits is how many units a list of a segment takes.
const maxUnits = 5_000_000

// putList takes a list of a segment as a file: one unit a line, which replaces the list, or
// is added to it or removed from it.
func (c *call) putList() error {
	ec, a := c.Context, c.api
	rc := http.NewResponseController(ec.Response())
	_ = rc.SetReadDeadline(time.Now().Add(10 * time.Minute)) // long lists come over slow lines
	_ = rc.SetWriteDeadline(time.Now().Add(12 * time.Minute))
	var cancel context.CancelFunc
	c.ctx, cancel = context.WithTimeout(ec.Request().Context(), 12*time.Minute)
	defer cancel()
	sum := sha256.New()
	units, err := readUnits(io.TeeReader(http.MaxBytesReader(ec.Response(), ec.Request().Body, a.Limits.ListBody),
		sum))
	if err != nil {
		return err
	}
	c.body = sum.Sum(nil) // stands for the body where a repeated request is told apart
	out, err := c.saveList(units)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// readUnits reads one unit a line. Empty lines count for nothing.
func readUnits(r io.Reader) ([]string, error) {
	var units []string
	in := bufio.NewReaderSize(r, 64<<10)
	for line := 1; ; line++ {
		text, err := in.ReadString('\n')
		if unit := strings.TrimRight(text, "\r\n"); unit != "" {
			if !utf8.ValidString(unit) || len(unit) > condition.MaxText {
				return nil, app.InvalidField(fmt.Sprintf("line %d", line), "must be valid UTF-8 of at most %d bytes",
					condition.MaxText)
			}
			if units = append(units, unit); len(units) > maxUnits {
				return nil, app.InvalidField(fmt.Sprintf("line %d", line), "a list takes at most %d units", maxUnits)
			}
		}
		var tooLarge *http.MaxBytesError
		switch {
		case errors.Is(err, io.EOF):
			return units, nil
		case errors.As(err, &tooLarge):
			return nil, echo.NewHTTPError(http.StatusRequestEntityTooLarge,
				fmt.Sprintf("the list is too large: at most %d bytes are taken", tooLarge.Limit))
		case err != nil:
			return nil, app.InvalidField("body", "could not be read to its end")
		}
	}
}

func (c *call) saveList(units []string) (any, error) {
	e := c.e
	r, versions, err := c.request(c.headerText("Greenlever-Reason"))
	if err != nil {
		return nil, err
	}
	rec, err := c.api.Records.Segment(c.ctx, e.ID, c.Param("segment"))
	if err != nil {
		return nil, err
	}
	if rec == nil {
		return nil, app.Faultf(app.NotFound, "there is no segment %s in this project", c.Param("segment"))
	}
	doc := *rec.Document
	var list **flag.List
	switch c.Param("list") {
	case "in":
		list = &doc.In
	case "out":
		list = &doc.Out
	default:
		return nil, app.Faultf(app.NotFound, "a segment has the lists in and out")
	}
	if len(versions) == 0 { // a file is no edit of what was seen
		versions = []int64{rec.Version}
	}
	before := *list
	if units, err = c.mixed(before, units); err != nil {
		return nil, err
	}
	slices.Sort(units)
	units = slices.Compact(units)
	body, err := makeList(list, units)
	if err != nil {
		return nil, err
	}
	var lists []*app.ListBody
	hashes := map[string]flag.Hashes{}
	if body != nil {
		lists, hashes[body.Digest] = append(lists, body), body.Hashes
	}
	base, err := c.standingList(before)
	if err != nil {
		return nil, err
	}
	put := &segments.Put{Document: segments.Document{When: doc.When, Lists: doc.Lists, In: doc.In, Out: doc.Out},
		Base: base, NewLists: lists}
	raw, err := c.make(r, commit.Change{In: commit.In{Project: c.p, Environment: e}, Of: doc.Key,
		Versions: versions, Do: put})
	if err != nil {
		return nil, err
	}
	return withPreview(c, raw, e, func(s *segments.Saved) preview.Edit {
		return preview.Edit{Segments: []*flag.Segment{s.Document}, Lists: hashes}
	})
}

// standingList is the long list that stands, to which the new one is kept as the difference.
func (c *call) standingList(l *flag.List) (*app.ListBody, error) {
	if l == nil || l.Digest == "" {
		return nil, nil
	}
	hashes, err := c.api.Records.List(c.ctx, c.e.ID, l.Digest)
	if err != nil {
		return nil, err
	}
	units, err := c.api.Records.ListUnits(c.ctx, c.e.ID, l.Digest)
	return &app.ListBody{Digest: l.Digest, Hashes: hashes, Units: units}, err
}

// headerText is a text that comes in a header, since the body is a file: percent-encoded
// UTF-8. It has no place in the address, which proxies write down.
func (c *call) headerText(name string) string {
	raw := c.Request().Header.Get(name)
	if text, err := url.PathUnescape(raw); err == nil {
		return text
	}
	return raw
}

// mixed is what the list becomes: the units alone, or those that stand with them added or
// removed.
func (c *call) mixed(old *flag.List, units []string) ([]string, error) {
	mode := c.QueryParam("mode")
	if mode == "" || mode == "replace" {
		return units, nil
	}
	had, err := c.exactUnits(old)
	if err != nil {
		return nil, err
	}
	switch mode {
	case "add":
		return append(had, units...), nil
	case "remove":
		gone := make(map[string]struct{}, len(units))
		for _, u := range units {
			gone[u] = struct{}{}
		}
		return slices.DeleteFunc(had, func(u string) bool { _, is := gone[u]; return is }), nil
	}
	return nil, app.InvalidField("mode", "must be replace, add or remove")
}

// makeList puts units, sorted and each once, into the document where they are few, and
// makes a list to keep outside of it where they are many.
func makeList(list **flag.List, units []string) (*app.ListBody, error) {
	if len(units) <= flag.MaxInline {
		*list = nil
		if len(units) > 0 {
			*list = &flag.List{Units: units}
		}
		return nil, nil
	}
	var secret [16]byte
	if old := *list; old != nil && old.Secret != "" {
		raw, err := base64.StdEncoding.DecodeString(old.Secret)
		if err != nil {
			return nil, err
		}
		copy(secret[:], raw) // the same secret, so that followers fetch the difference only
	} else {
		rand.Read(secret[:]) // never fails
	}
	hashes := flag.HashUnits(secret, units)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	for _, u := range units {
		if _, err := io.WriteString(z, u+"\n"); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	body := &app.ListBody{Digest: hashes.Digest(), Hashes: hashes, Units: packed.Bytes()}
	*list = &flag.List{Digest: body.Digest, Count: len(hashes), Secret: base64.StdEncoding.EncodeToString(secret[:])}
	return body, nil
}

// exactUnits gives the units of a list as they were saved.
func (c *call) exactUnits(l *flag.List) ([]string, error) {
	if l == nil || l.Digest == "" {
		if l == nil {
			return nil, nil
		}
		return slices.Clone(l.Units), nil
	}
	packed, err := c.api.Records.ListUnits(c.ctx, c.e.ID, l.Digest)
	if err != nil {
		return nil, err
	}
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	return readUnits(z)
}

// getList answers the exact units of a list, one a line.
func (c *call) getList() error {
	e, a, ctx := c.e, c.api, c.ctx
	rec, err := a.Records.Segment(ctx, e.ID, c.Param("segment"))
	if err != nil {
		return err
	}
	if rec == nil {
		return app.Faultf(app.NotFound, "there is no segment %s in this project", c.Param("segment"))
	}
	list := rec.Document.In
	if c.Param("list") == "out" {
		list = rec.Document.Out
	}
	units, err := c.exactUnits(list)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", rec.Key+"-"+c.Param("list")+".txt"))
	var body bytes.Buffer
	for _, u := range units {
		body.WriteString(u + "\n")
	}
	return c.Blob(http.StatusOK, "text/plain; charset=utf-8", body.Bytes())
}
