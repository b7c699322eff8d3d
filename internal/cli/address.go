package cli

import (
	"context"
	"net/url"
	"strings"

	"greenlever.example/greenlever/internal/app"
)

// inProject finds the project: the one named, or the only one there is.
func (s *session) inProject(ctx context.Context) (*api, string, error) {
	a, err := s.connect()
	if err != nil {
		return nil, "", err
	}
	if s.project == "" {
		var all struct{ Items []app.Project }
		if err := a.do(ctx, request{method: "GET", path: "/projects"}, &all); err != nil {
			return nil, "", err
		}
		if len(all.Items) == 0 {
			return nil, "", coded(exitNotFound, "you have no project yet: begin one with greenlever init, or ask a "+
				"keeper for a role in theirs")
		}
		if len(all.Items) > 1 {
			var keys []string
			for _, p := range all.Items {
				keys = append(keys, p.Key)
			}
			return nil, "", coded(exitUsage, "say which project with --project: %s", strings.Join(keys, ", "))
		}
		s.project = all.Items[0].Key
	}
	return a, "/projects/" + url.PathEscape(s.project), nil
}

// inEnvironment finds the environment that is named, or the only one there is.
func (s *session) inEnvironment(ctx context.Context) (*api, string, *app.Environment, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	var all struct{ Items []app.Environment }
	if err := a.do(ctx, request{method: "GET", path: path + "/environments"}, &all); err != nil {
		return nil, "", nil, err
	}
	var keys []string
	for _, e := range all.Items {
		keys = append(keys, e.Key)
		if e.Key == s.env || s.env == "" && len(all.Items) == 1 {
			s.env = e.Key
			return a, path + "/environments/" + url.PathEscape(e.Key), &e, nil
		}
	}
	if s.env != "" { // one that is archived can be looked at
		if err := a.do(ctx, request{method: "GET", path: path + "/environments?archived=true"}, &all); err != nil {
			return nil, "", nil, err
		}
		for _, e := range all.Items {
			if e.Key == s.env {
				return a, path + "/environments/" + url.PathEscape(e.Key), &e, nil
			}
		}
	}
	if s.env == "" {
		return nil, "", nil, coded(exitUsage, "say which environment with --env: %s", strings.Join(keys, ", "))
	}
	return nil, "", nil, coded(exitNotFound, "there is no environment %s in project %s: there are %s", s.env,
		s.project, strings.Join(keys, ", "))
}
