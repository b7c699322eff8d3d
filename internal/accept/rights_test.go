package accept

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/gltest"
	"greenlever.example/greenlever/internal/server"
)

// Somebody leaves: the account is disabled, and sessions, tokens and streams end on every node.
func TestOffBoarding(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	second := s.Serve(t)
	const email = "per.lund@pinecrest.example"
	per := s.Person(t, "per.lund", "keeper")
	there := gltest.Caller{URL: second.URL(), Header: per.Header}
	session := s.Session(t, email)
	account := s.Account(t, email)
	ctx, cancel := context.WithTimeout(t.Context(), gltest.Patience)
	defer cancel()
	req, _ := http.NewRequestWithContext(ctx, "GET", second.URL()+"/api/v1/projects/pinecrest/live", nil)
	req.Header = session.Header.Clone()
	stream, err := http.DefaultClient.Do(req)
	if err != nil || stream.StatusCode != 200 {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	var has struct {
		Items []struct{ ID, Name, Address string }
	}
	s.Keeper.Do(t, "GET", "/accounts/"+account+"/tokens", nil, 200, &has)
	if len(has.Items) != 1 || has.Items[0].Name != "test" {
		t.Errorf("tokens: %+v", has)
	}
	s.Keeper.Do(t, "GET", "/accounts/"+account+"/sessions", nil, 200, &has)
	if len(has.Items) != 2 || has.Items[0].Address != "127.0.0.1" {
		t.Errorf("sessions: %+v", has)
	}
	per.Do(t, "PATCH", "/accounts/"+account, object{"keeper": true}, 403, nil)
	s.Keeper.Do(t, "PATCH", "/accounts/"+account, object{"keeper": true}, 200, nil)
	per.Do(t, "GET", "/accounts", nil, 200, nil)
	s.Keeper.Do(t, "PATCH", "/accounts/"+account, object{"keeper": false}, 200, nil)
	per.Do(t, "GET", "/accounts", nil, 403, nil)
	started := time.Now()
	s.Keeper.Do(t, "PATCH", "/accounts/"+account, object{"disabled": true}, 200, nil)
	there.Do(t, "GET", "/me", nil, 401, nil)
	session.Do(t, "GET", "/me", nil, 401, nil)
	if _, err := io.Copy(io.Discard, stream.Body); err != nil || time.Since(started) > 6*time.Second {
		t.Errorf("the stream ended after %v, %v", time.Since(started), err)
	}
	guest := gltest.Caller{URL: s.URL()}
	guest.Do(t, "POST", "/sign-in", object{"email": email, "password": gltest.Password}, 401, nil)
	s.Keeper.Do(t, "PATCH", "/accounts/"+account, object{"disabled": false}, 200, nil)
	there.Do(t, "GET", "/me", nil, 401, nil) // it does not come back
	guest.Do(t, "POST", "/sign-in", object{"email": email, "password": gltest.Password}, 200, nil)
	// Somebody must stay who keeps the installation.
	me := s.Account(t, gltest.KeeperEmail)
	s.Keeper.Do(t, "PATCH", "/accounts/"+me, object{"keeper": false}, 409, nil)
	s.Keeper.Do(t, "PATCH", "/accounts/"+me, object{"disabled": true}, 409, nil)
}

// A new password ends the tokens that are not named, and other sessions; a token makes no
// token and no password.
func TestPasswordsEndTokens(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	const email = "noor.berg@pinecrest.example"
	s.Person(t, "noor.berg", "developer")
	session, other := s.Session(t, email), s.Session(t, email)
	made := map[string]gltest.Caller{}
	for _, name := range []string{"script", "laptop"} {
		var token struct{ Secret string }
		session.Do(t, "POST", "/me/tokens", object{"name": name, "days": 3}, 201, &token)
		made[name] = bearer(s.URL(), token.Secret)
	}
	made["script"].Do(t, "POST", "/me/tokens", object{"name": "more", "days": 3}, 403, nil)
	made["script"].Do(t, "POST", "/me/password", object{"old": gltest.Password, "password": "another of hers 7"}, 403,
		nil)
	session.Do(t, "POST", "/me/password", object{"old": gltest.Password, "password": "another of hers 7",
		"keepTokens": []string{"laptop"}}, 200, nil)
	session.Do(t, "GET", "/me", nil, 200, nil)
	other.Do(t, "GET", "/me", nil, 401, nil)
	made["script"].Do(t, "GET", "/me", nil, 401, nil)
	made["laptop"].Do(t, "GET", "/me", nil, 200, nil)
	s.Keeper.Do(t, "POST", "/accounts/"+s.Account(t, email)+"/password", object{"password": "given by a keeper 8"},
		200, nil)
	made["laptop"].Do(t, "GET", "/me", nil, 401, nil)
	for _, common := range []string{"password123", "1234567890", "qwertyuiop", "noor.berg1", "pinecrest1"} {
		s.Keeper.Do(t, "POST", "/accounts/"+s.Account(t, email)+"/password", object{"password": common}, 400, nil)
	}
}

// Guessing is slowed by address and account, and does not lock the owner out, who was right
// before from where they are; addresses of proxies are believed of trusted ones alone.
func TestGuessing(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t, func(c *server.Config) { c.Proxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")} })
	from := func(address string) gltest.Caller {
		return gltest.Caller{URL: s.URL()}.With("X-Forwarded-For", "6.6.6.6, "+address)
	}
	const email = "noor.berg@pinecrest.example"
	s.Person(t, "noor.berg", "developer")
	right, wrong := object{"email": "  Noor.Berg@pinecrest.example ", "password": gltest.Password},
		object{"email": email, "password": "wrong"}
	from("10.0.0.1").Do(t, "POST", "/sign-in", right, 200, nil)
	limited := 0
	for i := range 120 { // from ever new addresses
		status, _, _, err := from(fmt.Sprint("10.1.0.", i)).Send("POST", "/sign-in", mustJSON(t, wrong))
		if err != nil {
			t.Fatal(err)
		}
		if status == 429 {
			limited++
		}
	}
	if limited < 40 {
		t.Errorf("only %d of 120 guesses were held up", limited)
	}
	from("10.0.0.1").Do(t, "POST", "/sign-in", right, 200, nil)
	// A session's old-password guesses are limited too.
	session := s.Session(t, gltest.KeeperEmail)
	limited = 0
	for range 15 {
		status, _, _, _ := session.Send("POST", "/me/password",
			[]byte(`{"old":"wrong","password":"long enough it is"}`))
		if status == 429 {
			limited++
		}
	}
	if limited == 0 {
		t.Error("old passwords can be guessed without end")
	}
	session.Do(t, "POST", "/sign-out", nil, 200, nil)
	gltest.Caller{URL: s.URL()}.Do(t, "POST", "/sign-in", object{"email": "nobody@pinecrest.example",
		"password": "wrong"}, 401, nil)
	var history struct {
		Items []struct {
			Action     string
			Difference []words.Said
		}
	}
	s.Keeper.Do(t, "GET", "/history?limit=200", nil, 200, &history)
	said := map[string]bool{}
	for _, e := range history.Items {
		text := e.Action + " " + strings.Join(words.Texts(e.Difference), " ")
		for _, want := range []string{`sign-in.refused wrong password, from "10.1.0.`,
			`sign-in.refused no account "nobody@pinecrest.example", from "127.0.0.1"`,
			`signed-out signed out, from "127.0.0.1"`, `signed-in signed in from "10.0.0.1"`, "password.refused"} {
			said[want] = said[want] || strings.Contains(text, want)
		}
	}
	for what, is := range said {
		if !is {
			t.Errorf("the access chain does not say: %s", what)
		}
	}
}

// A request that is not one of its route is refused by name: parameters that are not
// declared, bodies of another kind, and keys where nothing is kept.
func TestUndeclaredIsRefused(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	for call, says := range map[string]string{"GET " + inProd + "/stops?limit=3": "limit",
		"POST " + inProd + "/stops?dryrun=true": "dryrun", "GET /me?x=1": "x",
		"POST /accounts?dryRun=true": "dryRun", "DELETE /me/tokens/x?dryRun=true": "dryRun"} {
		method, path, _ := strings.Cut(call, " ")
		status, answer, _, _ := s.Keeper.Send(method, path, []byte(`{}`))
		if status != 400 || !strings.Contains(string(answer), `"place":"`+says+`"`) {
			t.Errorf("%s: %d %s", call, status, answer)
		}
	}
	status, answer, _, _ := s.Keeper.With("Idempotency-Key", "k").Send("POST", "/accounts",
		[]byte(`{"email":"x@pinecrest.example","name":"x","password":"long enough it is"}`))
	if status != 400 || !strings.Contains(string(answer), "Idempotency-Key") {
		t.Errorf("a key where nothing is kept: %d %s", status, answer)
	}
	for _, kind := range []string{"text/plain", "application/x-www-form-urlencoded", "multipart/form-data"} {
		s.Keeper.With("Content-Type", kind).Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}}, 415, nil)
	}
	s.Keeper.With("Sec-Fetch-Site", "cross-site").Do(t, "POST", inProd+"/stops", object{"flags": []string{"a"}}, 403,
		nil)
	if v := s.Get(t, "production", "a"); strings.HasPrefix(v.Sentence.String(), "Stopped") {
		t.Error("one of them stopped the flag")
	}
	// A dry run gives no secret away and leaves nothing behind.
	for path, body := range map[string]object{inProd + "/see-as": {"variants": object{"a": "on"}},
		inProd + "/keys": {"kind": "service", "purpose": "dry"}, "/projects/pinecrest/environments": {"key": "dry"},
		"/projects": {"key": "dry"}} {
		status, answer, _, _ := s.Keeper.Send("POST", path+"?dryRun=true", mustJSON(t, body))
		if status != 201 || strings.Contains(string(answer), `"token":"`) && !strings.Contains(string(answer),
			`"token":""`) || strings.Contains(string(answer), `"secret"`) {
			t.Errorf("%s: %d %s", path, status, answer)
		}
	}
	_, raw, _, _ := s.Keeper.Send("GET", "/history?limit=200", nil)
	_, more, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/history?limit=200", nil)
	if strings.Contains(string(raw)+string(more), "dry") || strings.Contains(string(more), "see-as") {
		t.Error("a dry run is in the audit")
	}
}

// Of many requests with one key at a time, all get the first one's answer.
func TestTwinRequests(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	second := s.Serve(t)
	s.Flag(t, "a")
	v := s.Get(t, "production", "a")
	v.Document.Lever = flag.On
	body := mustJSON(t, object{"document": v.Document})
	var all sync.WaitGroup
	answers := make([]string, 30)
	for i := range answers {
		all.Go(func() {
			c := s.Keeper.With("If-Match", fmt.Sprint(v.Version)).With("Idempotency-Key", "twin")
			c.URL = []string{s.URL(), second.URL()}[i%2]
			status, answer, _, err := c.Send("PUT", inProd+"/flags/a", body)
			answers[i] = fmt.Sprint(status, string(answer), err)
		})
	}
	all.Wait()
	for i, a := range answers {
		var one, first struct{ Version, Revision int64 }
		_ = json.Unmarshal([]byte(strings.TrimSuffix(strings.TrimPrefix(a, "200"), "<nil>")), &one)
		_ = json.Unmarshal([]byte(strings.TrimSuffix(strings.TrimPrefix(answers[0], "200"), "<nil>")), &first)
		if one != first || one.Version == 0 {
			t.Fatalf("request %d: %s; the first: %s", i, a, answers[0])
		}
	}
	if now := s.Get(t, "production", "a"); now.Version != v.Version+1 {
		t.Errorf("version %d", now.Version)
	}
}

// Over TLS cookies and browsers get the strict forms; every answer says that it is what it
// says it is, and exports are kept by nobody.
func TestHeaders(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	secure := s.Serve(t, func(c *server.Config) { c.Secure = true })
	raw, _ := json.Marshal(object{"email": gltest.KeeperEmail, "password": gltest.Password})
	res, err := http.Post(secure.URL()+"/api/v1/sign-in", "application/json", bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if c := res.Header.Get("Set-Cookie"); !strings.HasPrefix(c, "__Host-greenlever=") || !strings.Contains(c,
		"Secure") || !strings.Contains(c, "HttpOnly") {
		t.Errorf("cookie: %s", c)
	}
	if res.Header.Get("Strict-Transport-Security") == "" {
		t.Error("browsers are not told of TLS")
	}
	for _, path := range []string{"/", "/healthz", "/readyz", "/api/v1/me", "/api/v1/projects/pinecrest/export",
		"/ofrep/v1/evaluate/flags", "/follow/v1/snapshot", "/browser/v1/greenlever.js", "/nowhere"} {
		req, _ := http.NewRequest("GET", s.URL()+path, nil)
		if strings.HasPrefix(path, "/api/") {
			req.Header = s.Keeper.Header.Clone()
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if res.Header.Get("X-Content-Type-Options") != "nosniff" || res.Header.Get("Strict-Transport-Security") != "" {
			t.Errorf("%s: %v", path, res.Header)
		}
		if strings.HasSuffix(path, "/export") && res.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("an export may be kept: %v", res.Header)
		}
		if path == "/" && !strings.Contains(res.Header.Get("Content-Security-Policy"), "form-action 'self'") {
			t.Errorf("%s", res.Header.Get("Content-Security-Policy"))
		}
	}
}

// What is compared with an attribute that is declared personal stands in the chain as a
// digest, and leaves units that were stored before it was declared.
func TestPersonalByDeclaration(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	s.Flag(t, "a")
	phone := attributeBody("phone", "string")
	rule := func(number string) {
		s.Edit(t, "production", "a", func(d *flag.Document) {
			raw := fmt.Sprintf(
				`[{"name":"r","when":{"test":"string.equals","attribute":"phone","text":[%q]},"gives":{"variant":"on"}}]`, number)
			if err := json.Unmarshal([]byte(raw), &d.Rules); err != nil {
				t.Fatal(err)
			}
		})
	}
	c := bearer(s.URL(), s.Keys["production"])
	c.Do(t, "POST", "/ofrep/v1/evaluate/flags/a",
		`{"context":{"targetingKey":"recipient-1","phone":"+47 555 01 234"}}`, 200, nil)
	flush(t, s)
	units := func() string {
		_, raw, _, _ := s.Keeper.Send("POST", inProd+"/population/units", []byte(`{}`))
		return string(raw)
	}
	if !strings.Contains(units(), "+47 555 01 234") {
		t.Fatalf("it was not sampled: %s", units())
	}
	phone["personal"] = true
	s.Keeper.Do(t, "PUT", "/projects/pinecrest/attributes/phone", phone, 200, nil)
	rule("+47 555 09 999")
	_, export, _, _ := s.Keeper.Send("GET", "/projects/pinecrest/export", nil)
	for _, line := range strings.Split(string(export), "\n") {
		entry, _, _ := strings.Cut(line, `"personal":[{`)
		if strings.Contains(entry, "555 09 999") {
			t.Errorf("it stands in the chain: %s", entry)
		}
	}
	if err := s.Clean(t.Context()); err != nil {
		t.Fatal(err)
	}
	if now := units(); strings.Contains(now, "555 01 234") || !strings.Contains(now, "recipient-1") {
		t.Errorf("after it was declared personal: %s", now)
	}
}
