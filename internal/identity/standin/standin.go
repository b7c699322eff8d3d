// Package standin is a small identity provider for the demo and for tests: it asks who one is, and believes it.
//
// Its noun is a [Provider], an http.Handler that speaks as much of OpenID Connect as a sign-in takes.
package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Person is somebody whom the provider knows.
type Person struct {
	Subject, Email, Name string
	Groups               []string
}

// Provider is the stand-in. Twist lets a test change what it says in a token, and with which key.
type Provider struct {
	Issuer string
	Client string
	People []Person
	Now    func() time.Time
	Twist  func(claims map[string]any) (foreign bool) // foreign: signed with a key that nobody is told of

	once  sync.Once
	key   *ecdsa.PrivateKey
	other *ecdsa.PrivateKey
	mu    sync.Mutex
	codes map[string]*grant
}

type grant struct {
	who              Person
	nonce, challenge string
	back             string
}

func (p *Provider) begin() {
	p.once.Do(func() {
		p.codes = map[string]*grant{}
		p.key, _ = ecdsa.GenerateKey(elliptic.P256(), rand.Reader) // never fails
		p.other, _ = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	})
}

// ServeHTTP answers as a provider does.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.begin()
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answer(w, 200, map[string]any{"issuer": p.Issuer, "authorization_endpoint": p.Issuer + "/authorize",
			"token_endpoint": p.Issuer + "/token", "jwks_uri": p.Issuer + "/keys",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"ES256"}})
	case "/keys":
		answer(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &p.key.PublicKey, KeyID: "first",
			Algorithm: "ES256", Use: "sig"}}})
	case "/authorize":
		p.authorize(w, r)
	case "/token":
		p.token(w, r)
	default:
		http.NotFound(w, r)
	}
}

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<meta name="viewport" content="width=device-width"><title>Pinecrest sign-in</title>
<style>body{font:16px system-ui;margin:12vh auto;width:min(22rem,
	92vw)}a{display:block;padding:.7rem 1rem;margin:.4rem 0;
border:1px solid #999;border-radius:.4rem;color:inherit}</style>
<h1>Who are you?</h1><p>This stands in for a company's identity provider: it believes what it is told.</p>
{{range .}}<a href="{{.To}}">{{.Name}}</a>{{end}}</html>`))

// authorize asks who it is, and sends them back with a code.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != p.Client || q.Get("code_challenge_method") != "S256" {
		http.Error(w, "this client is not known, or does not speak PKCE", 400)
		return
	}
	for _, who := range p.People {
		if who.Subject != q.Get("as") {
			continue
		}
		code := rand.Text()
		p.mu.Lock()
		p.codes[code] = &grant{who, q.Get("nonce"), q.Get("code_challenge"), q.Get("redirect_uri")}
		p.mu.Unlock()
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code},
			"state": {q.Get("state")}}.Encode(), http.StatusFound)
		return
	}
	var all []struct{ Name, To string }
	for _, who := range p.People {
		q.Set("as", who.Subject)
		all = append(all, struct{ Name, To string }{who.Name, "/authorize?" + q.Encode()})
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, all) // the browser may be gone
}

// token gives a token for a code, once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	code := r.FormValue("code")
	p.mu.Lock()
	g := p.codes[code]
	delete(p.codes, code)
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	if g == nil || base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge ||
		g.back != r.FormValue("redirect_uri") {
		answer(w, 400, map[string]any{"error": "invalid_grant"})
		return
	}
	now := p.Now()
	claims := map[string]any{"iss": p.Issuer, "sub": g.who.Subject, "aud": p.Client, "iat": now.Unix(),
		"exp": now.Add(5 * time.Minute).Unix(), "nonce": g.nonce, "email": g.who.Email, "email_verified": true,
		"name": g.who.Name, "groups": g.who.Groups}
	key := p.key
	if p.Twist != nil && p.Twist(claims) {
		key = p.other
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key,
		KeyID: "first"}},
		nil)
	if err == nil {
		var raw string
		if raw, err = jwt.Signed(signer).Claims(claims).Serialize(); err == nil {
			answer(w, 200, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "id_token": raw})
			return
		}
	}
	http.Error(w, err.Error(), 500)
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // whoever asked may be gone
}
