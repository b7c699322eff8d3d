package webhooks

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"testing"
)

// What goes wrong is said without the address, and by what it is at heart, however it is wrapped.
func TestSaid(t *testing.T) {
	dial := func(err error) error {
		return &url.Error{Op: "Post", URL: "https://h.example/secret", Err: &net.OpError{Op: "dial", Err: err}}
	}
	for want, err := range map[string]error{
		"its name is not found":    dial(&net.DNSError{Err: "no such host", Name: "h.example"}),
		"dial: connection refused": dial(errors.New("connection refused")),
		"no answer in time":        fmt.Errorf("it took long: %w", context.DeadlineExceeded),
		"it could not be reached":  &url.Error{Op: "Post", URL: "https://h.example/secret", Err: errors.New("EOF")},
		"127.0.0.1 is in a private network, which the operator has not allowed: see --webhook-networks": dial(
			&RefusedAddress{"127.0.0.1"}),
	} {
		if got := said(err); got != want {
			t.Errorf("%v: said %q, want %q", err, got, want)
		}
	}
}
