package manage

import (
	"errors"
	"net/http"
	"net/url"

	"github.com/labstack/echo/v5"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/people"
	"greenlever.example/greenlever/internal/web"
)

var _ = listed(
	op[none, app.DeviceAsk]("GET", "/me/devices/:device", "The program that waits to be let in under a code",
		(*call).device),
	op[deviceBody, none]("POST", "/me/devices/:device", "Let a program in that waits under a code, or refuse it",
		(*call).answerDevice),
)

// The addresses of RFC 8628. They take forms, as it says.
const (
	devicePath = "/oauth/device_authorization"
	tokenPath  = "/oauth/token"
	deviceType = "urn:ietf:params:oauth:grant-type:device_code"
)

type deviceBody struct {
	Allow bool `json:"allow"`
}

// inDevice bounds how fast somebody may try codes.
func (c *call) inDevice() error {
	if !c.api.rates.Allow("device "+c.actor.ID, .5, 20) {
		return app.Faultf(app.TooMany, "too many codes: wait a moment")
	}
	return c.inPerson()
}

func (c *call) device(*none) (any, error) {
	if err := c.inDevice(); err != nil {
		return nil, err
	}
	return c.api.People.Device(c.ctx, c.Param("device"))
}

func (c *call) answerDevice(in *deviceBody) (any, error) {
	if err := c.inDevice(); err != nil {
		return nil, err
	}
	return none{}, c.api.People.AnswerDevice(c.ctx, c.actor, c.Param("device"), in.Allow)
}

func (a *API) addDevices(e *echo.Echo) {
	e.POST(devicePath, a.askForDevice)
	e.POST(tokenPath, a.deviceToken)
}

// deviceAnswer is the answer of RFC 8628, section 3.2.
type deviceAnswer struct {
	DeviceCode string `json:"device_code"`
	UserCode   string `json:"user_code"`
	URI        string `json:"verification_uri"`
	Complete   string `json:"verification_uri_complete"`
	Expires    int    `json:"expires_in"` // seconds
	Interval   int    `json:"interval"`   // seconds
}

// askForDevice begins to wait for somebody to let a program in. It says what it is by client_name, which the standard
// leaves to whoever registers clients: there are none to register here.
func (a *API) askForDevice(c *echo.Context) error {
	c.Response().Header().Set("Cache-Control", "no-store")
	if !a.rates.Allow("devices of "+c.RealIP(), .5, 20) {
		return app.Faultf(app.TooMany, "too many programs ask from this address: wait a moment")
	}
	ctx, cancel := a.RequestContext(c)
	defer cancel()
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, 16<<10)
	ask, secret, err := a.People.AskForDevice(ctx, c.FormValue("client_name"), c.RealIP())
	if err != nil {
		return err
	}
	scheme := "http"
	if a.Secure || c.Request().TLS != nil {
		scheme = "https"
	}
	shown := ask.Code[:4] + "-" + ask.Code[4:]
	at := scheme + "://" + c.Request().Host + "/device"
	return c.JSON(http.StatusOK, deviceAnswer{DeviceCode: secret, UserCode: shown, URI: at,
		Complete: at + "?code=" + url.QueryEscape(shown), Expires: int(people.DeviceLife.Seconds()),
		Interval: int(people.DeviceInterval.Seconds())})
}

// deviceToken answers a program that asks whether it was let in (RFC 8628, sections 3.4 and 3.5).
func (a *API) deviceToken(c *echo.Context) error {
	c.Response().Header().Set("Cache-Control", "no-store")
	if !a.rates.Allow("tokens for "+c.RealIP(), 10, 50) {
		return c.JSON(http.StatusBadRequest, oauthError{Error: people.ErrDeviceSlow.Error()})
	}
	ctx, cancel := a.RequestContext(c)
	defer cancel()
	c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, 16<<10)
	if c.FormValue("grant_type") != deviceType {
		return c.JSON(http.StatusBadRequest, oauthError{Error: "unsupported_grant_type"})
	}
	token, secret, err := a.People.DeviceToken(ctx, c.FormValue("device_code"))
	switch {
	case errors.Is(err, people.ErrDevicePending), errors.Is(err, people.ErrDeviceSlow),
		errors.Is(err, people.ErrDeviceExpired), errors.Is(err, people.ErrDeviceRefused):
		return c.JSON(http.StatusBadRequest, oauthError{Error: err.Error()})
	case err != nil:
		status, said := web.Said(err)
		return c.JSON(status, oauthError{Error: "temporarily_unavailable", Says: said})
	}
	return c.JSON(http.StatusOK, oauthToken{Token: secret, Type: "Bearer",
		Expires: (token.Expires - token.Created) / 1000})
}

// oauthError and oauthToken are of RFC 6749, sections 5.1 and 5.2.
type oauthError struct {
	Error string `json:"error"`
	Says  string `json:"error_description,omitempty"`
}

type oauthToken struct {
	Token   string `json:"access_token"`
	Type    string `json:"token_type"`
	Expires int64  `json:"expires_in"` // seconds
}
