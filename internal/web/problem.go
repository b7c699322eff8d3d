package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"greenlever.example/greenlever/internal/app"
)

// statuses maps kinds of faults to HTTP; it is the only such mapping.
var statuses = map[app.FaultKind]int{
	app.Invalid:      http.StatusBadRequest,
	app.Unauthorized: http.StatusUnauthorized,
	app.Forbidden:    http.StatusForbidden,
	app.NotFound:     http.StatusNotFound,
	app.Conflict:     http.StatusConflict,
	app.Stale:        http.StatusPreconditionFailed,
	app.NeedsVersion: http.StatusPreconditionRequired,
	app.TooMany:      http.StatusTooManyRequests,
	app.Unavailable:  http.StatusServiceUnavailable,
}

// Problem is an error as RFC 9457 writes it.
func Problem(err error) (status int, body map[string]any) {
	var f *app.Fault
	var coded echo.HTTPStatusCoder
	body = map[string]any{}
	switch {
	case errors.As(err, &f):
		status = statuses[f.Kind]
		body["detail"] = f.Detail
		if n := len(f.Fields); n > maxFields {
			body["fields"], body["detail"] = f.Fields[:maxFields], fmt.Sprintf("%s; the first %d of %d are named",
				f.Detail, maxFields, n)
		} else if n > 0 {
			body["fields"] = f.Fields
		}
		for k, v := range f.More {
			if k != "cause" {
				body[k] = v
			}
		}
	case errors.Is(err, context.DeadlineExceeded):
		status = http.StatusServiceUnavailable
		body["detail"] = "the request took too long: try again with the same Idempotency-Key"
	case errors.As(err, &coded):
		status = coded.StatusCode()
		var he *echo.HTTPError
		if errors.As(err, &he) {
			body["detail"] = he.Message
		}
	default:
		status = http.StatusInternalServerError
		body["detail"] = "something went wrong here; it is logged"
	}
	if said, _ := body["detail"].(string); said == "" || said == http.StatusText(status) {
		body["detail"] = inDetail(status)
	}
	body["type"], body["title"], body["status"] = "about:blank", http.StatusText(status), status
	return status, body
}

// Said is an error as a page says it: its status, and what is wrong with which field.
func Said(err error) (status int, text string) {
	status, body := Problem(err)
	var f *app.Fault
	if errors.As(err, &f) {
		return status, f.Error()
	}
	text, _ = body["detail"].(string)
	return status, text
}

// inDetail says what a status means here, where nothing more is known (RFC 9457, 3.1.4).
func inDetail(status int) string {
	switch status {
	case http.StatusNotFound:
		return "there is nothing at this address: /api/v1/openapi.json lists what there is"
	case http.StatusMethodNotAllowed:
		return "this address does not take this method: Allow names those that it takes"
	}
	return "the request was refused: " + strings.ToLower(http.StatusText(status))
}

// maxFields is how many fields at fault one answer names.
const maxFields = 20

// fail answers with a problem document. Who hung up gets none, and is no error of ours.
func (a *Surface) fail(c *echo.Context, err error) {
	if r, e := echo.UnwrapResponse(c.Response()); e == nil && r.Committed {
		return
	}
	if errors.Is(err, context.Canceled) && c.Request().Context().Err() != nil {
		return
	}
	status, body := Problem(err)
	if status >= 500 {
		cause := err
		var f *app.Fault
		if errors.As(err, &f) && f.More["cause"] != nil {
			cause = errors.New(f.More["cause"].(string))
		}
		a.Log.Error("request failed", "method", c.Request().Method, "path", sayable(c.Request()), "status", status,
			"id", requestID(c), "error", cause)
	}
	if status == http.StatusTooManyRequests || status == http.StatusServiceUnavailable {
		c.Response().Header().Set("Retry-After", strconv.Itoa(1))
	}
	if status == http.StatusUnauthorized {
		c.Response().Header().Set("WWW-Authenticate", `Bearer realm="greenlever"`)
	}
	raw, err := json.Marshal(body)
	if err == nil && c.Request().Method != http.MethodHead {
		err = c.Blob(status, "application/problem+json", raw)
	} else if err == nil {
		err = c.NoContent(status)
	}
	if err != nil && !errors.Is(err, context.Canceled) {
		a.Log.Debug("an answer could not be sent", "error", err)
	}
}
