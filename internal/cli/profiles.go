package cli

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
	"greenlever.example/greenlever/internal/apiclient"
	"greenlever.example/greenlever/internal/wholefile"
)

// profile is a kept address and token.
type profile struct {
	URL     string `yaml:"url"`
	Token   string `yaml:"token"`
	Project string `yaml:"project,omitempty"`
	Env     string `yaml:"env,omitempty"`
}

func profilesPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "greenlever", "profiles.yaml"), nil
}

func readProfiles() (map[string]profile, error) {
	path, err := profilesPath()
	if err != nil {
		return map[string]profile{}, nil // no home: nothing is kept
	}
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return map[string]profile{}, nil
	}
	if err != nil {
		return nil, err
	}
	all := map[string]profile{}
	if err := yaml.Unmarshal(raw, &all); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	return all, nil
}

func writeProfile(name string, p profile) (string, error) {
	path, err := profilesPath()
	if err != nil {
		return "", err
	}
	all, err := readProfiles()
	if err != nil {
		return "", err
	}
	all[name] = p
	raw, err := yaml.Marshal(all)
	if err != nil {
		return "", err
	}
	return path, wholefile.Write(path, raw)
}

// connect finds the service's address and the token: options, then environment, then the profile.
func (s *session) connect() (*api, error) {
	all, err := readProfiles()
	if err != nil {
		return nil, err
	}
	p := all[s.profile]
	first := func(values ...string) string {
		for _, v := range values {
			if v != "" {
				return v
			}
		}
		return ""
	}
	s.project = first(s.project, os.Getenv("GREENLEVER_PROJECT"), p.Project)
	s.env = first(s.env, os.Getenv("GREENLEVER_ENV"), p.Env)
	a := &api{try: s.try, propose: s.propose, force: s.force, key: s.key, err: s.err,
		Client: &apiclient.Client{Agent: "greenlever-cli",
			HTTP:  &http.Client{Timeout: time.Minute},
			URL:   strings.TrimRight(first(s.url, os.Getenv("GREENLEVER_URL"), p.URL), "/"),
			Token: first(os.Getenv("GREENLEVER_TOKEN"), p.Token)}}
	if a.URL == "" {
		return nil, coded(exitUsage, "no service is known: run `greenlever sign-in`, or set GREENLEVER_URL and "+
			"GREENLEVER_TOKEN")
	}
	if a.Token == "" && !s.measures {
		return nil, coded(exitRefused, "no personal token is known: run `greenlever sign-in`, or set GREENLEVER_TOKEN")
	}
	return a, nil
}
