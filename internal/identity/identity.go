// Package identity signs people in with the provider of their company, by OpenID Connect: the authorization code flow
// with PKCE (RFC 6749, RFC 7636, OpenID Connect Core 1.0).
//
// Its noun is a [Provider]. The smallest use:
//
//	begin, err := p.Begin(ctx, back)              // where the browser goes, and what it keeps meanwhile
//	who, err := p.End(ctx, back, begin.Kept, code, state)
//
// Who comes back is a subject of an issuer, and nothing more: which account that is, package people decides.
package identity

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Config says how people sign in.
type Config struct {
	Providers []Settings `yaml:"providers"`
	// LocalOff has nobody but keepers of the installation sign in with a password.
	LocalOff bool `yaml:"no-passwords"`
}

// Settings are those of one provider.
type Settings struct {
	Key    string `yaml:"key"`   // in addresses
	Title  string `yaml:"title"` // on the button
	Issuer string `yaml:"issuer"`
	Client string `yaml:"client"`
	Secret string `yaml:"secret"` // empty: a public client
	// Groups is the claim that lists groups, and Teams which team each means here. Without teams it is not read.
	Groups string            `yaml:"groups"`
	Teams  map[string]string `yaml:"teams"`
}

// Skew is how far the clocks of the provider and of this machine may be apart.
const Skew = 60 * time.Second

// Why is why a sign-in is refused.
type Why string

// The reasons. What a person is told of each stands in the console.
const (
	Away     Why = "away"     // the provider cannot be reached
	State    Why = "state"    // the browser came back with what it did not set out with
	Denied   Why = "denied"   // the provider says no
	Replayed Why = "replayed" // the code was used, or is too old
	Issuer   Why = "issuer"
	Audience Why = "audience"
	Key      Why = "key" // signed with a key that the provider does not name
	Expired  Why = "expired"
	Clock    Why = "clock" // issued in the future
	Nonce    Why = "nonce"
	Groups   Why = "groups"  // it does not say in which groups the person is
	Address  Why = "address" // it says no address that it has checked
	Unbound  Why = "unbound" // there is an account with this address, whose person has not confirmed
	Disabled Why = "disabled"
)

// Refused is a sign-in that is refused. The error says no more than the reason: what was sent is in no log.
type Refused struct{ Why Why }

func (r *Refused) Error() string { return "the sign-in is refused: " + string(r.Why) }

func refused(w Why) error { return &Refused{w} }

// Who is who came back.
type Who struct {
	Issuer  string
	Subject string
	Email   string // that the provider has checked
	Name    string
	Teams   []string // keys, by the groups of now
	Says    bool     // it says teams at all
}

// Kept is what the browser keeps until it comes back.
type Kept struct {
	State    string `json:"state"`
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
	To       string `json:"to"` // the page that was wanted
}

// Provider is one provider. What it says of itself is read when it is first needed.
type Provider struct {
	Settings
	Client *http.Client
	Now    func() time.Time

	mu    sync.Mutex
	found *oidc.Provider
}

func (p *Provider) context(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, p.Client)
}

// provider reads what the provider says of itself. What could not be read is tried again the next time.
func (p *Provider) provider(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found != nil {
		return p.found, nil
	}
	// Its keys are read again with this context, long after this request.
	found, err := oidc.NewProvider(p.context(context.WithoutCancel(ctx)), p.Settings.Issuer)
	if err != nil {
		if strings.Contains(err.Error(), "did not match the issuer") {
			return nil, refused(Issuer)
		}
		return nil, refused(Away)
	}
	p.found = found
	return found, nil
}

func (p *Provider) flow(found *oidc.Provider, back string) *oauth2.Config {
	return &oauth2.Config{ClientID: p.Settings.Client, ClientSecret: p.Secret, Endpoint: found.Endpoint(),
		RedirectURL: back, Scopes: []string{oidc.ScopeOpenID, "email", "profile"}}
}

// Begin gives the address that the browser goes to, and what it keeps meanwhile. back is where it comes back to.
func (p *Provider) Begin(ctx context.Context, back, to string) (address string, kept *Kept, err error) {
	found, err := p.provider(ctx)
	if err != nil {
		return "", nil, err
	}
	kept = &Kept{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), To: to}
	return p.flow(found, back).AuthCodeURL(kept.State, oidc.Nonce(kept.Nonce),
		oauth2.S256ChallengeOption(kept.Verifier)), kept, nil
}

// End finds out who came back.
func (p *Provider) End(ctx context.Context, back string, kept *Kept, code, state string) (*Who, error) {
	if kept == nil || subtle.ConstantTimeCompare([]byte(kept.State), []byte(state)) != 1 || state == "" {
		return nil, refused(State)
	}
	if code == "" {
		return nil, refused(Denied)
	}
	found, err := p.provider(ctx)
	if err != nil {
		return nil, err
	}
	token, err := p.flow(found, back).Exchange(p.context(ctx), code, oauth2.VerifierOption(kept.Verifier))
	if err != nil {
		if e := new(oauth2.RetrieveError); errors.As(err, &e) && e.ErrorCode == "invalid_grant" {
			return nil, refused(Replayed)
		}
		return nil, refused(Away)
	}
	raw, is := token.Extra("id_token").(string)
	if !is {
		return nil, refused(Denied)
	}
	id, err := p.verify(ctx, found, raw)
	if err != nil {
		return nil, err
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(kept.Nonce)) != 1 {
		return nil, refused(Nonce)
	}
	return p.who(id)
}

// verify holds a token against who signed it, for whom, and when.
func (p *Provider) verify(ctx context.Context, found *oidc.Provider, raw string) (*oidc.IDToken, error) {
	now := p.Now()
	id, err := found.VerifierContext(p.context(ctx), &oidc.Config{ClientID: p.Settings.Client, SkipExpiryCheck: true,
		SkipIssuerCheck: true, SkipClientIDCheck: true}).Verify(p.context(ctx), raw)
	if err != nil {
		return nil, refused(Key)
	}
	var more struct {
		Party   string `json:"azp"`
		NotYet  int64  `json:"nbf"`
		Subject string `json:"sub"`
	}
	if err := id.Claims(&more); err != nil || more.Subject == "" {
		return nil, refused(Denied)
	}
	switch {
	case id.Issuer != p.Settings.Issuer:
		return nil, refused(Issuer)
	case !slices.Contains(id.Audience, p.Settings.Client),
		len(id.Audience) > 1 && more.Party != p.Settings.Client,
		more.Party != "" && more.Party != p.Settings.Client:
		return nil, refused(Audience)
	case now.After(id.Expiry.Add(Skew)):
		return nil, refused(Expired)
	case id.IssuedAt.After(now.Add(Skew)), time.Unix(more.NotYet, 0).After(now.Add(Skew)):
		return nil, refused(Clock)
	}
	return id, nil
}

// who reads who it is.
func (p *Provider) who(id *oidc.IDToken) (*Who, error) {
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return nil, refused(Denied)
	}
	w := &Who{Issuer: id.Issuer, Subject: id.Subject}
	w.Email, _ = claims["email"].(string)
	w.Name, _ = claims["name"].(string)
	if checked, _ := claims["email_verified"].(bool); !checked || w.Email == "" {
		return nil, refused(Address)
	}
	if len(p.Teams) == 0 {
		return w, nil
	}
	groups, is := claims[p.Groups].([]any)
	if !is {
		return nil, refused(Groups)
	}
	w.Says, w.Teams = true, []string{}
	for _, g := range groups {
		if name, is := g.(string); is && p.Teams[name] != "" && !slices.Contains(w.Teams, p.Teams[name]) {
			w.Teams = append(w.Teams, p.Teams[name])
		}
	}
	return w, nil
}

// Check tells what is wrong with a configuration.
func (c *Config) Check() error {
	seen := map[string]bool{}
	for i := range c.Providers {
		p := &c.Providers[i]
		at := fmt.Sprintf("providers[%d]", i)
		switch {
		case p.Key == "" || strings.Trim(p.Key, "abcdefghijklmnopqrstuvwxyz0123456789-") != "":
			return fmt.Errorf("%s.key: takes small letters, digits and hyphens, not %q", at, p.Key)
		case seen[p.Key]:
			return fmt.Errorf("%s.key: %s is there twice", at, p.Key)
		case !strings.HasPrefix(p.Issuer, "https://") && !strings.HasPrefix(p.Issuer, "http://127.0.0.1"):
			return fmt.Errorf("%s.issuer: must begin with https://", at)
		case p.Client == "":
			return fmt.Errorf("%s.client: name this service as the provider knows it", at)
		case len(p.Teams) > 0 && p.Groups == "":
			return fmt.Errorf("%s.groups: name the claim that lists groups", at)
		}
		if p.Title == "" {
			p.Title = p.Key
		}
		seen[p.Key] = true
	}
	if c.LocalOff && len(c.Providers) == 0 {
		return errors.New("no-passwords: without a provider nobody but keepers could sign in")
	}
	return nil
}
