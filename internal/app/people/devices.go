package people

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"greenlever.example/greenlever/internal/app"
)

// What is waited for, as RFC 8628 has it: how long, how often may be asked, and how long the token lasts.
const (
	DeviceLife     = 10 * time.Minute
	DeviceInterval = 2 * time.Second
	deviceDays     = 90
	mostDevices    = 10_000
)

// The errors of RFC 8628, section 3.5.
var (
	ErrDevicePending = errors.New("authorization_pending")
	ErrDeviceSlow    = errors.New("slow_down")
	ErrDeviceExpired = errors.New("expired_token")
	ErrDeviceRefused = errors.New("access_denied")
)

// Devices are the records of programs that wait.
type Devices interface {
	AskForDevice(ctx context.Context, d *app.DeviceAsk, most int) (bool, error)
	DeviceAsk(ctx context.Context, code string, now int64) (*app.DeviceAsk, error)
	AnswerDevice(ctx context.Context, code, account string, state app.DeviceState, now int64) (bool, error)
	// PollDevice gives how it stood, and notes that it asked; one that was answered is there once.
	PollDevice(ctx context.Context, digest []byte, now int64) (*app.DeviceAsk, error)
}

// letters of codes: none of them makes words, or looks like another (RFC 8628, section 6.1).
const letters = "BCDFGHJKLMNPQRSTVWXZ"

// AskForDevice begins to wait for somebody to let a program in; secret is the program's own code.
func (s *Service) AskForDevice(ctx context.Context, name, address string) (ask *app.DeviceAsk, secret string,
	err error) {
	name = strings.TrimSpace(name)
	if mend := app.CheckText(name, 1, 200); mend != "" {
		return nil, "", app.InvalidField("client_name", "%s, such as what asks, and on which machine", mend)
	}
	secret, now := NewSecret(), s.Now()
	code := make([]byte, 8)
	for i := range code {
		code[i] = letters[pick(len(letters))]
	}
	ask = &app.DeviceAsk{Digest: Digest(secret), Code: string(code), Name: name, Address: address,
		Created: now.UnixMilli(), Expires: now.Add(DeviceLife).UnixMilli()}
	ok, err := s.Devices.AskForDevice(ctx, ask, mostDevices)
	if err == nil && !ok {
		err = app.Faultf(app.TooMany, "too many programs wait to be let in: try again in some minutes")
	}
	return ask, secret, err
}

// pick draws one of n evenly.
func pick(n int) int {
	var b [1]byte
	for {
		rand.Read(b[:]) // never fails
		if int(b[0]) < 256/n*n {
			return int(b[0]) % n
		}
	}
}

// DeviceCode reads a code as people type it: with a hyphen or without, in either case.
func DeviceCode(typed string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(letters, r) {
			return r
		}
		return -1
	}, strings.ToUpper(typed))
}

// Device is the program that waits under a code.
func (s *Service) Device(ctx context.Context, code string) (*app.DeviceAsk, error) {
	return s.Devices.DeviceAsk(ctx, DeviceCode(code), s.Now().UnixMilli())
}

// AnswerDevice lets the program in, in the actor's name, or refuses it.
func (s *Service) AnswerDevice(ctx context.Context, actor app.Actor, code string, allow bool) error {
	state := app.DeviceRefused
	if allow {
		state = app.DeviceAllowed
	}
	ok, err := s.Devices.AnswerDevice(ctx, DeviceCode(code), actor.ID, state, s.Now().UnixMilli())
	if err == nil && !ok {
		err = app.Faultf(app.NotFound, "no program waits under this code: it was used, or has expired")
	}
	return err
}

// DeviceToken gives the program its token once somebody let it in; before that one of the errors of RFC 8628. It is
// made as it is fetched, so that nothing waits in the records that could be used.
func (s *Service) DeviceToken(ctx context.Context, secret string) (*app.Token, string, error) {
	now := s.Now()
	ask, err := s.Devices.PollDevice(ctx, Digest(secret), now.UnixMilli())
	switch {
	case err != nil:
		return nil, "", err
	case ask == nil || now.UnixMilli() >= ask.Expires:
		return nil, "", ErrDeviceExpired
	case ask.State == app.DeviceRefused:
		return nil, "", ErrDeviceRefused
	case ask.State == app.DeviceAsked && now.UnixMilli()-ask.Polled < DeviceInterval.Milliseconds()/2:
		return nil, "", ErrDeviceSlow
	case ask.State == app.DeviceAsked:
		return nil, "", ErrDevicePending
	}
	account, err := s.Records.Account(ctx, ask.Account)
	if err != nil {
		return nil, "", err
	}
	if account.Disabled > 0 { // since it let the program in
		return nil, "", ErrDeviceRefused
	}
	token := "glt_" + NewSecret()
	k := &app.Token{ID: newID(), AccountID: ask.Account, Name: ask.Name, Digest: Digest(token),
		Created: now.UnixMilli(), Expires: now.AddDate(0, 0, deviceDays).UnixMilli()}
	by := app.Actor{Kind: "person", ID: ask.Account, Credential: "session", Through: "device"}
	e := s.entry(by, "token.made", k.ID, fmt.Sprintf("personal token %q for %d days, for a program at %s "+
		"that was let in", ask.Name, deviceDays, ask.Address))
	return k, token, s.Write(ctx, func(tx Tx) error { return add(tx, k, e) })
}
