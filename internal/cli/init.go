package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/keys"
	"greenlever.example/greenlever/internal/app/snippet"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("first", (*session).initCommand)

// begun is what `init` has come to.
type begun struct {
	URL         string `json:"url"`
	Project     string `json:"project"`
	Environment string `json:"environment"`
	File        string `json:"file,omitempty"` // that was written
	Heard       string `json:"heard,omitempty"`
}

func (s *session) initCommand() *cobra.Command {
	var application, file string
	var wait time.Duration
	c := &cobra.Command{Use: "init", Short: "From nothing to a first decision, in an application's folder",
		Long: "From nothing to a first decision, in an application's folder: signs in, finds " +
			"or makes project and environment,\n" +
			"writes the lines that the application needs into .env, shows the code that asks for " +
			"a flag, and waits until\n" +
			"the application has asked. What is not said with options is asked.",
		Example: "  greenlever init --url http://127.0.0.1:8090\n" +
			"  greenlever init --project pinecrest --env development --application door --wait 0",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			a, err := s.signedIn(ctx)
			if err != nil {
				return err
			}
			out := begun{URL: a.URL}
			if err := s.chooseProject(ctx, a); err != nil {
				return err
			}
			if err := s.chooseEnvironment(ctx, a); err != nil {
				return err
			}
			out.Project, out.Environment = s.project, s.env
			if _, err := writeProfile(s.profile, profile{URL: a.URL, Token: a.Token, Project: s.project,
				Env: s.env}); err != nil {
				return err
			}
			dir, err := os.Getwd()
			if err != nil {
				return err
			}
			application = cmp.Or(application, filepath.Base(dir))
			if out.File, err = s.writeEnv(ctx, a, application, file); err != nil {
				return err
			}
			if err := s.showCode(ctx, a, dir); err != nil {
				return err
			}
			if wait > 0 {
				if out.Heard, err = s.hear(ctx, a, application, wait); err != nil {
					return err
				}
			}
			return s.show(out, func() {})
		}}
	c.Flags().StringVar(&application, "application", "", "what the application is called; the folder's name if "+
		"left out")
	c.Flags().StringVar(&file, "file", ".env", "where the lines go; - for standard output")
	c.Flags().DurationVar(&wait, "wait", 5*time.Minute, "for how long the application's first question is waited "+
		"for; 0: not")
	return c
}

// path is that of an environment of the API.
func (s *session) path() string {
	return "/projects/" + url.PathEscape(s.project) + "/environments/" + url.PathEscape(s.env)
}

// signedIn finds who is signed in at the address, or signs in.
func (s *session) signedIn(ctx context.Context) (*api, error) {
	all, err := readProfiles()
	if err != nil {
		return nil, err
	}
	p := all[s.profile]
	address := strings.TrimRight(cmp.Or(s.url, os.Getenv("GREENLEVER_URL"), p.URL), "/")
	if address == "" {
		if address, err = s.ask("Address of the service [http://127.0.0.1:8090]: "); err != nil {
			return nil, coded(exitUsage, "say where the service is: --url")
		}
		address = strings.TrimRight(cmp.Or(strings.TrimSpace(address), "http://127.0.0.1:8090"), "/")
	}
	s.url = address
	token := os.Getenv("GREENLEVER_TOKEN")
	if token == "" && p.URL == address {
		token = p.Token
	}
	for range 2 {
		if token == "" {
			if token, err = s.byCode(ctx, address); err != nil {
				return nil, err
			}
		}
		if err := os.Setenv("GREENLEVER_TOKEN", token); err != nil {
			return nil, err
		}
		a, err := s.connect()
		if err != nil {
			return nil, err
		}
		var me manage.Me
		if err = a.do(ctx, request{method: "GET", path: "/me"}, &me); err == nil {
			s.note("signed in to %s as %s", address, me.Account.Name)
			return a, nil
		}
		if ExitCode(err) != exitRefused {
			return nil, err
		}
		token = "" // it has expired
	}
	return nil, coded(exitRefused, "the token that was just made is not taken")
}

// choose takes what was said, the only one that there is, or what is answered.
func (s *session) choose(what, said string, have []string, otherwise string) (string, error) {
	switch {
	case said != "":
		return said, nil
	case len(have) == 1 && otherwise == "":
		return have[0], nil
	}
	question := fmt.Sprintf("Which %s (%s)? ", what, strings.Join(have, ", "))
	if len(have) == 0 {
		question = fmt.Sprintf("There is no %s yet. Its key: ", what)
	}
	if otherwise != "" {
		question = strings.TrimSpace(question) + " [" + otherwise + "] "
	}
	answer, err := s.ask(question)
	if err != nil {
		if otherwise != "" {
			return otherwise, nil
		}
		return "", coded(exitUsage, "say which %s: %s", what, strings.Join(have, ", "))
	}
	answer = cmp.Or(strings.TrimSpace(answer), otherwise)
	if answer == "" {
		return "", coded(exitUsage, "say which %s: %s", what, strings.Join(have, ", "))
	}
	return answer, nil
}

func (s *session) chooseProject(ctx context.Context, a *api) error {
	var all struct{ Items []app.Project }
	if err := a.do(ctx, request{method: "GET", path: "/projects"}, &all); err != nil {
		return err
	}
	var have []string
	for _, p := range all.Items {
		have = append(have, p.Key)
	}
	key, err := s.choose("project", s.project, have, "")
	if err != nil {
		return err
	}
	if s.project = key; slices.Contains(have, key) {
		return nil
	}
	s.note("making project %s", key)
	return a.do(ctx, request{method: "POST", path: "/projects", body: map[string]any{"key": key}}, nil)
}

func (s *session) chooseEnvironment(ctx context.Context, a *api) error {
	path := "/projects/" + url.PathEscape(s.project) + "/environments"
	var all struct{ Items []app.Environment }
	if err := a.do(ctx, request{method: "GET", path: path}, &all); err != nil {
		return err
	}
	var have []string
	for _, e := range all.Items {
		have = append(have, e.Key)
	}
	otherwise := ""
	if len(have) == 0 || slices.Contains(have, "development") {
		otherwise = "development"
	}
	key, err := s.choose("environment", s.env, have, otherwise)
	if err != nil {
		return err
	}
	if s.env = key; slices.Contains(have, key) {
		return nil
	}
	s.note("making environment %s", key)
	return a.do(ctx, request{method: "POST", path: path, body: map[string]any{"key": key, "reason": s.because}}, nil)
}

// writeEnv writes the lines that the application needs, unless they are there.
func (s *session) writeEnv(ctx context.Context, a *api, application, file string) (string, error) {
	have := map[string]string{}
	raw, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, os.ErrNotExist) && file != "-" {
		return "", err
	}
	for line := range strings.Lines(string(raw)) {
		name, value, ok := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "export "), "=")
		if ok {
			have[name] = value
		}
	}
	if have["GREENLEVER_URL"] == a.URL && have["GREENLEVER_KEY"] != "" {
		s.note("%s has the lines already", file)
		return "", nil
	}
	if have["GREENLEVER_URL"]+have["GREENLEVER_KEY"] != "" {
		return "", coded(exitConflict, "%s has GREENLEVER_URL or GREENLEVER_KEY of another "+
			"service: take them out, or "+
			"name another file with --file", file)
	}
	var made keys.Made
	if err := a.do(ctx, request{method: "POST", path: s.path() + "/keys", body: map[string]any{"kind": "service",
		"purpose": application}}, &made); err != nil {
		return "", err
	}
	lines := fmt.Sprintf("GREENLEVER_URL=%s\nGREENLEVER_KEY=%s\n", a.URL, made.Secret)
	if file == "-" {
		fmt.Fprint(s.out, lines)
		return "", nil
	}
	if len(raw) > 0 && !strings.HasSuffix(string(raw), "\n") {
		lines = "\n" + lines
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	if _, err = f.WriteString(lines); err != nil {
		_ = f.Close()
		return "", err
	}
	s.note("wrote GREENLEVER_URL and GREENLEVER_KEY into %s: it is a secret, keep it out of version control", file)
	return file, f.Close()
}

// spoken finds the language of a folder, as snippets name it.
func spoken(dir string) string {
	for _, l := range []struct{ file, name string }{{"go.mod", "Go"}, {"package.json", "OpenFeature"},
		{"index.html", "Browser"}} {
		if _, err := os.Stat(filepath.Join(dir, l.file)); err == nil {
			return l.name
		}
	}
	return "HTTP"
}

// showCode shows the code that asks for the first flag that there is.
func (s *session) showCode(ctx context.Context, a *api, dir string) error {
	var all manage.FlagIndex
	if err := a.do(ctx, request{method: "GET", path: "/projects/" + url.PathEscape(s.project) + "/flags"},
		&all); err != nil {
		return err
	}
	if len(all.Flags) == 0 {
		s.note("\nThere is no flag yet. Make the first one:\n  %s\nand see the code that asks for it:\n  %s",
			s.next("flag", "make", "first-flag", "--gone-by", "stays"), s.next("flag", "snippet", "first-flag"))
		return nil
	}
	key := all.Flags[0].Key
	var code struct{ Items []snippet.Snippet }
	if err := a.do(ctx, request{method: "GET", path: s.path() + "/flags/" + url.PathEscape(key) + "/snippets"},
		&code); err != nil {
		return err
	}
	for _, one := range code.Items {
		if one.Name == spoken(dir) {
			s.note("\nAsk for %s (%s):\n", key, one.Name)
			for sc := bufio.NewScanner(strings.NewReader(one.Code)); sc.Scan(); {
				s.note("  %s", sc.Text())
			}
		}
	}
	return nil
}

// hear waits until a process of the application has asked.
func (s *session) hear(ctx context.Context, a *api, application string, wait time.Duration) (string, error) {
	s.note("\nwaiting for %s to ask; Ctrl-C when you have seen enough", application)
	begun, until := time.Now(), time.Now().Add(wait)
	for time.Now().Before(until) {
		var d struct{ Instances []app.Instance }
		if err := a.do(ctx, request{method: "GET", path: s.path() + "/instances"}, &d); err != nil {
			return "", err
		}
		for _, i := range d.Instances {
			if i.Application != application && application != "" || i.Seen < begun.Add(-time.Minute).UnixMilli() ||
				i.Left {
				continue
			}
			heard := strings.TrimSpace(i.Application + " " + i.Version)
			s.note("heard from %s, %s ago: it decides by revision %d of %s", heard,
				time.Since(time.UnixMilli(i.Seen)).Round(time.Second), i.Revision, s.env)
			return heard, nil
		}
		select {
		case <-ctx.Done():
			return "", nil // seen enough
		case <-time.After(time.Second):
		}
	}
	return "", coded(exitFailed, "%s has not asked within %s: look for it with %s", application, wait,
		s.next("instances"))
}
