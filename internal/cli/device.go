package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/user"
	"strings"
	"time"
)

// byCode gets a personal token as RFC 8628 has it: a code is shown here and in the browser of whoever is signed in
// there, and who lets this program in is asked nothing here.
func (s *session) byCode(ctx context.Context, address string) (string, error) {
	host, _ := os.Hostname()
	who := ""
	if u, err := user.Current(); err == nil {
		who = u.Username + " at "
	}
	var asked struct {
		Device   string `json:"device_code"`
		Code     string `json:"user_code"`
		URI      string `json:"verification_uri"`
		Complete string `json:"verification_uri_complete"`
		Expires  int    `json:"expires_in"`
		Interval int    `json:"interval"`
	}
	if err := postForm(ctx, address+"/oauth/device_authorization", url.Values{"client_id": {"greenlever"},
		"client_name": {"greenlever of " + who + cmp.Or(host, "a machine")}}, &asked); err != nil {
		return "", err
	}
	s.note("Open %s\nand let this program in if it shows the code  %s", asked.Complete, asked.Code)
	every := time.Duration(max(1, asked.Interval)) * time.Second
	for until := time.Now().Add(time.Duration(asked.Expires) * time.Second); time.Now().Before(until); {
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(every):
		}
		var token struct {
			Token string `json:"access_token"`
		}
		err := postForm(ctx, address+"/oauth/token", url.Values{"client_id": {"greenlever"},
			"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}, "device_code": {asked.Device}}, &token)
		var said *oauthSaid
		switch {
		case err == nil:
			return token.Token, nil
		case !asOAuth(err, &said):
			return "", err
		case said.code == "slow_down":
			every += 5 * time.Second // RFC 8628, section 3.5
		case said.code == "access_denied":
			return "", coded(exitRefused, "this program was not let in")
		case said.code != "authorization_pending":
			return "", coded(exitFailed, "nobody let this program in: %s", strings.ReplaceAll(said.code, "_", " "))
		}
	}
	return "", coded(exitFailed, "nobody let this program in while the code was good: try again")
}

// oauthSaid is an error as RFC 6749 has it.
type oauthSaid struct{ code, says string }

func (e *oauthSaid) Error() string { return cmp.Or(e.says, e.code) }

func asOAuth(err error, into **oauthSaid) bool {
	said, ok := err.(*oauthSaid)
	*into = said
	return ok
}

// postForm sends a form and reads the answer, or the error that it is.
func postForm(ctx context.Context, address string, form url.Values, into any) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(form.Encode()))
	if err != nil {
		return coded(exitUsage, "%w", err)
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := (&http.Client{Timeout: time.Minute}).Do(req)
	if err != nil {
		return coded(exitNoConnection, "%s cannot be reached: %w", address, err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return coded(exitNoConnection, "the answer of %s breaks off: %w", address, err)
	}
	if res.StatusCode == http.StatusOK {
		return json.Unmarshal(raw, into)
	}
	var said struct {
		Error  string `json:"error"`
		Says   string `json:"error_description"`
		Detail string `json:"detail"`
	}
	if json.Unmarshal(raw, &said) == nil && said.Error != "" {
		return &oauthSaid{said.Error, said.Says}
	}
	return coded(exitFailed, "%s answers %s", address, cmp.Or(said.Detail, res.Status))
}
