package cli

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

// completeTime bounds how long somebody waits who presses Tab.
const completeTime = 2 * time.Second

// completion asks the service for what may stand at a place, and says nothing where it cannot.
func (s *session) completion(root *cobra.Command) {
	offer := func(names func(ctx context.Context, a *api) []string) func(*cobra.Command, []string, string) ([]string,
		cobra.ShellCompDirective) {
		return func(cmd *cobra.Command, had []string, begun string) ([]string, cobra.ShellCompDirective) {
			a, err := s.connect()
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			a.HTTP = &http.Client{Timeout: completeTime}
			return slices.DeleteFunc(names(cmd.Context(), a), func(name string) bool {
				return !strings.HasPrefix(name, begun) || slices.Contains(had, name)
			}), cobra.ShellCompDirectiveNoFileComp
		}
	}
	flags, environments, projects := offer(s.flagNames), offer(s.environmentNames), offer(s.projectNames)
	// There is no fault that somebody could mend here: the options are made just above.
	_ = root.RegisterFlagCompletionFunc("env", environments)
	_ = root.RegisterFlagCompletionFunc("project", projects)
	_ = root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml"},
		cobra.ShellCompDirectiveNoFileComp))
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		_, takes, _ := strings.Cut(c.Use, " ")
		under := ""
		if c.Parent() != nil {
			under = c.Parent().Name()
		}
		switch {
		case c.ValidArgsFunction != nil || !c.Runnable():
		case strings.Contains(takes, "FLAG"), under == "flag" && strings.HasPrefix(takes, "KEY") && c.Name() != "make":
			c.ValidArgsFunction = flags
		case under == "environment" && strings.HasPrefix(takes, "KEY") && c.Name() != "make":
			c.ValidArgsFunction = environments
		}
		for _, child := range c.Commands() {
			walk(child)
		}
	}
	walk(root)
}

func (s *session) flagNames(ctx context.Context, a *api) (names []string) {
	path, ok := s.projectPath(ctx, a)
	var all manage.FlagIndex
	if !ok || a.do(ctx, request{method: "GET", path: path + "/flags"}, &all) != nil {
		return nil
	}
	for _, f := range all.Flags {
		names = append(names, f.Key)
	}
	return names
}

func (s *session) environmentNames(ctx context.Context, a *api) (names []string) {
	path, ok := s.projectPath(ctx, a)
	var all struct{ Items []app.Environment }
	if !ok || a.do(ctx, request{method: "GET", path: path + "/environments"}, &all) != nil {
		return nil
	}
	for _, e := range all.Items {
		names = append(names, e.Key)
	}
	return names
}

func (s *session) projectNames(ctx context.Context, a *api) (names []string) {
	var all struct{ Items []app.Project }
	if a.do(ctx, request{method: "GET", path: "/projects"}, &all) != nil {
		return nil
	}
	for _, p := range all.Items {
		names = append(names, p.Key)
	}
	return names
}

// projectPath is the path of the project that is meant; false where several could be.
func (s *session) projectPath(ctx context.Context, a *api) (string, bool) {
	key := cmp.Or(s.project, os.Getenv("GREENLEVER_PROJECT"))
	if key == "" {
		if all := s.projectNames(ctx, a); len(all) == 1 {
			key = all[0]
		}
	}
	return "/projects/" + url.PathEscape(key), key != ""
}
