package web

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"greenlever.example/greenlever/internal/app"
)

// RFC 9110: a HEAD is answered as a GET without its body, and entity tags come in lists, and
// weak where a proxy has packed an answer.

// asHead marks a request that asks for headers alone.
const asHead = "greenlever.head"

// heads has every route that takes GET take HEAD. The server itself leaves the body out, by the
// request that it knows; the handlers see a copy.
func heads(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if r := c.Request(); r.Method == http.MethodHead {
			get := *r
			get.Method = http.MethodGet
			c.SetRequest(&get)
			c.Set(asHead, true)
		}
		return next(c)
	}
}

// errHead ends a handler that has answered a HEAD already.
var errHead = errors.New("only the head was asked for")

// HeadAlone answers a HEAD to a stream, which would not end by itself.
func HeadAlone(c *echo.Context) error {
	if c.Get(asHead) == nil {
		return nil
	}
	c.Response().Header().Set("Content-Type", "text/event-stream")
	return errors.Join(errHead, c.NoContent(http.StatusOK))
}

// tags reads a list of entity tags, such as "3", W/"4", without quotes and weakness. What is no
// list of them is given as it is, so that it matches nothing and can be named.
func tags(list string) (all []string) {
	for rest := strings.TrimSpace(list); rest != ""; {
		rest = strings.TrimPrefix(rest, "W/")
		if quoted, ok := strings.CutPrefix(rest, `"`); ok {
			tag, behind, closed := strings.Cut(quoted, `"`)
			if !closed {
				return append(all, rest)
			}
			all, rest = append(all, tag), strings.TrimSpace(behind)
		} else {
			tag, behind, _ := strings.Cut(rest, ",")
			all, rest = append(all, strings.TrimSpace(tag)), ","+behind
		}
		rest = strings.TrimSpace(strings.TrimLeft(rest, ", \t"))
	}
	return all
}

// Unchanged tells whether the caller has the answer with a tag already. Tags are compared
// weakly, as If-None-Match asks.
func Unchanged(c *echo.Context, etag string) bool {
	want := tags(etag)[0]
	for _, tag := range tags(strings.Join(c.Request().Header.Values("If-None-Match"), ",")) {
		if tag == want || tag == "*" {
			return true
		}
	}
	return false
}

// Tagged gives the answer a tag that is the same for the same bytes, and tells whether the caller has
// it already.
func Tagged(c *echo.Context, said []byte) (already bool) {
	sum := sha256.Sum256(said)
	etag := `"` + hex.EncodeToString(sum[:16]) + `"`
	c.Response().Header().Set("ETag", etag)
	return Unchanged(c, etag)
}

// Versions reads the versions that a caller says to have seen, from If-Match.
func Versions(c *echo.Context) (seen []int64, err error) {
	for _, tag := range tags(strings.Join(c.Request().Header.Values("If-Match"), ",")) {
		v, err := strconv.ParseInt(tag, 10, 64)
		if err != nil {
			return nil, app.InvalidField("If-Match", `must be the version that you have seen, such as "3", and not %q`,
				tag)
		}
		seen = append(seen, v)
	}
	return seen, nil
}
