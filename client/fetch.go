package greenlever

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"
)

// fetch sends a request and reads the answer whole. It takes as long as it must, over however slow a
// line, and ends where nothing moves for as long as still.
func (c *Client) fetch(ctx context.Context, still time.Duration, method, path string, body []byte,
	most int64) (status int, answer []byte, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	end := func() { cancel(errStill) }
	watchdog := time.AfterFunc(still, end)
	defer watchdog.Stop()
	moves := func() { watchdog.Reset(still) }
	req, err := c.request(ctx, method, path, nil)
	if err != nil {
		return 0, nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
		req.ContentLength = int64(len(body))
		req.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(&moving{bytes.NewReader(body), moves}), nil }
		req.Body, _ = req.GetBody()
	}
	res, err := c.options.HTTP.Do(req)
	if err != nil {
		return 0, nil, because(ctx, err)
	}
	defer res.Body.Close()
	answer, err = io.ReadAll(io.LimitReader(&moving{res.Body, moves}, most))
	return res.StatusCode, answer, because(ctx, err)
}

// errStill ends what does not move any more.
var errStill = errors.New("nothing has come for too long")

// because is an error, or what ended the context that it comes of.
func because(ctx context.Context, err error) error {
	if err != nil && errors.Is(context.Cause(ctx), errStill) {
		return errStill
	}
	return err
}

// moving tells that a reader gets on.
type moving struct {
	io.Reader
	moves func()
}

func (m *moving) Read(into []byte) (int, error) {
	m.moves()
	return m.Reader.Read(into)
}

func statusError(res *http.Response) error {
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
	return answered(res.StatusCode, raw)
}

func answered(status int, raw []byte) error {
	var problem struct{ Title, Detail string }
	_ = json.Unmarshal(raw, &problem)
	return &answerError{status, fmt.Sprintf("the service answers %d: %s %s", status, problem.Title, problem.Detail)}
}

// answerError is an answer of the service's that is none of what was asked for.
type answerError struct {
	status int
	said   string
}

func (e *answerError) Error() string { return e.said }
