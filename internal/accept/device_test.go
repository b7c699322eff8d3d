package accept

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	greenlever "greenlever.example/client"
	"greenlever.example/greenlever/internal/cli"
	"greenlever.example/greenlever/internal/gltest"
)

// formed posts a form, as RFC 8628 has it.
func formed(t *testing.T, address string, form url.Values) (status int, answer map[string]any) {
	t.Helper()
	res, err := http.PostForm(address, form)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	if err := json.NewDecoder(res.Body).Decode(&answer); err != nil || res.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("%s: %v, %v", address, err, res.Header)
	}
	return res.StatusCode, answer
}

// A program is let in by somebody who is signed in elsewhere and sees the same code (RFC 8628); its token is theirs,
// is given once, and nobody else's word counts.
func TestDevices(t *testing.T) {
	t.Parallel()
	s := gltest.Start(t)
	her := s.Session(t, gltest.KeeperEmail)
	ask := func() (device, code string) {
		t.Helper()
		status, a := formed(t, s.URL()+"/oauth/device_authorization", url.Values{"client_id": {"greenlever"},
			"client_name": {"greenlever at a laptop"}})
		code, _ = a["user_code"].(string)
		device, _ = a["device_code"].(string)
		if complete, _ := a["verification_uri_complete"].(string); status != 200 || len(device) < 32 ||
			!regexp.MustCompile(`^[B-Z]{4}-[B-Z]{4}$`).MatchString(code) || a["expires_in"] != 600. || a["interval"] != 2. ||
			complete != s.URL()+"/device?code="+code || a["verification_uri"] != s.URL()+"/device" {
			t.Fatalf("%d %v", status, a)
		}
		return device, code
	}
	poll := func(device, want string) map[string]any {
		t.Helper()
		status, a := formed(t, s.URL()+"/oauth/token", url.Values{"device_code": {device}, "client_id": {"greenlever"},
			"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}})
		if (want == "") != (status == 200) || want != "" && a["error"] != want {
			t.Errorf("%d %v, want %q", status, a, want)
		}
		return a
	}
	device, code := ask()
	poll(device, "authorization_pending")
	poll(device, "slow_down")
	poll("nobody", "expired_token")
	var waits struct{ Name, Address, Code string }
	her.Do(t, "GET", "/me/devices/"+strings.ToLower(code), nil, 200, &waits)
	if waits.Name != "greenlever at a laptop" || waits.Address != "127.0.0.1" || waits.Code != strings.Replace(code, "-", "",
		1) {
		t.Errorf("it waits as %+v", waits)
	}
	s.Keeper.Do(t, "POST", "/me/devices/"+code, object{"allow": true}, 403, nil) // a token is no person
	her.Do(t, "POST", "/me/devices/ZZZZ-ZZZZ", object{"allow": true}, 404, nil)
	her.Do(t, "POST", "/me/devices/"+code, object{"allow": true}, 200, nil)
	her.Do(t, "POST", "/me/devices/"+code, object{"allow": false}, 404, nil) // it was answered
	token := poll(device, "")
	if token["token_type"] != "Bearer" || token["expires_in"] != 90*24*3600. {
		t.Errorf("%v", token)
	}
	poll(device, "expired_token") // it is given once
	var me struct{ Account struct{ Email string } }
	secret, _ := token["access_token"].(string)
	bearer(s.URL(), secret).Do(t, "GET", "/me", nil, 200, &me)
	if me.Account.Email != gltest.KeeperEmail {
		t.Errorf("the token is of %s", me.Account.Email)
	}
	s.Person(t, "noor.berg", "developer")
	device, code = ask()
	s.Session(t, "noor.berg@pinecrest.example").Do(t, "POST", "/me/devices/"+code, object{"allow": true}, 200, nil)
	s.Keeper.Do(t, "PATCH", "/accounts/"+s.Account(t, "noor.berg@pinecrest.example"), object{"disabled": true}, 200, nil)
	poll(device, "access_denied") // who let it in may nothing any more
	device, code = ask()
	her.Do(t, "POST", "/me/devices/"+code, object{"allow": false}, 200, nil)
	poll(device, "access_denied")
	for _, form := range []url.Values{{}, {"client_name": {strings.Repeat("x", 300)}}} {
		if status, a := formed(t, s.URL()+"/oauth/device_authorization", form); status != 400 {
			t.Errorf("%v: %d %v", form, status, a)
		}
	}
	if status, a := formed(t, s.URL()+"/oauth/token", url.Values{"grant_type": {"password"}}); status != 400 ||
		a["error"] != "unsupported_grant_type" {
		t.Errorf("%d %v", status, a)
	}
	sound(t, s)
}

// slate is what a program writes while it runs.
type slate struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *slate) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *slate) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// From an empty installation to a first decision: one command, a code that is let in by a browser, and an application
// that is heard.
func TestInit(t *testing.T) {
	s := &gltest.Service{DSN: gltest.DSN(t)}
	s.Server = s.Serve(t)
	gltest.Caller{URL: s.URL()}.Do(t, "POST", "/set-up", object{"code": s.SetUpCode, "email": gltest.KeeperEmail,
		"name": "Ida Holm", "password": gltest.Password}, 201, nil)
	for _, name := range []string{"GREENLEVER_TOKEN", "GREENLEVER_URL", "GREENLEVER_PROJECT", "GREENLEVER_ENV"} {
		t.Setenv(name, "")
	}
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	dir := filepath.Join(t.TempDir(), "door")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	t.Chdir(dir)
	if err := os.WriteFile("go.mod", []byte("module door\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	run := func(line string, said *slate) <-chan int {
		ended := make(chan int, 1)
		go func() {
			ended <- cli.Run(t.Context(), strings.Fields(line), strings.NewReader(""), io.Discard, said)
		}()
		return ended
	}
	var said slate
	ended := run("init --url "+s.URL()+" --project pinecrest --env development", &said)
	code := regexp.MustCompile(`[B-Z]{4}-[B-Z]{4}`)
	gltest.Eventually(t, "a code is shown", func() bool { return code.MatchString(said.String()) })
	b, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	w, err := b.Window(360, 780)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	w.Go(s.URL()+"/device?code="+code.FindString(said.String())).See("Password").Fill("E-mail", gltest.KeeperEmail).
		Fill("Password", gltest.Password).Click("Sign in").See("asks from 127.0.0.1").Click("Let it in").See("It is let in")
	good(t, w)
	var url, key string
	defer func() { t.Logf("it said:\n%s", said.String()) }()
	gltest.Eventually(t, "the lines are written", func() bool {
		raw, _ := os.ReadFile(".env")
		for line := range strings.Lines(string(raw)) {
			if after, is := strings.CutPrefix(strings.TrimSpace(line), "GREENLEVER_URL="); is {
				url = after
			}
			if after, is := strings.CutPrefix(strings.TrimSpace(line), "GREENLEVER_KEY="); is {
				key = after
			}
		}
		return url == s.URL() && strings.HasPrefix(key, "gls_")
	})
	if info, err := os.Stat(".env"); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	c, err := greenlever.Open(t.Context(), greenlever.Options{URL: url, Key: key, Application: "door", Version: "2.4.0",
		Logger: quiet, Dir: t.TempDir(), Wait: gltest.Patience})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	select {
	case got := <-ended:
		if got != 0 {
			t.Errorf("exit code %d:\n%s", got, said.String())
		}
	case <-time.After(gltest.Patience):
		t.Fatalf("it does not end:\n%s", said.String())
	}
	for _, want := range []string{"signed in to " + s.URL() + " as Ida Holm", "making project pinecrest",
		"making environment development", "heard from door 2.4.0", "There is no flag yet", "keep it out of version control"} {
		if !strings.Contains(said.String(), want) {
			t.Errorf("it does not say %q:\n%s", want, said.String())
		}
	}
	// What it prints next runs, in another folder too, and a second time it makes nothing twice.
	next := regexp.MustCompile(`(?m)^  greenlever (flag make .*)$`).FindStringSubmatch(said.String())
	if next == nil {
		t.Fatalf("it says no next command:\n%s", said.String())
	}
	t.Setenv("GREENLEVER_TOKEN", "")
	for _, line := range []string{next[1], "flag snippet first-flag", "init --wait 0"} {
		var out slate
		if got := <-run(line, &out); got != 0 {
			t.Errorf("greenlever %s: exit code %d:\n%s", line, got, out.String())
		}
		if line == "init --wait 0" && (!strings.Contains(out.String(), "has the lines already") ||
			!strings.Contains(out.String(), `flags.Bool(ctx, "first-flag"`)) {
			t.Errorf("the second time it says:\n%s", out.String())
		}
	}
}
