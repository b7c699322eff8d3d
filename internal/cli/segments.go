package cli

import (
	"context"
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/condition"
	"greenlever.example/greenlever/internal/app/change"
	"greenlever.example/greenlever/internal/httpapi"
)

func (s *session) segmentCommand() *cobra.Command {
	var title, when string
	list := &cobra.Command{Use: "list", Short: "The segments in an environment", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []httpapi.SegmentView }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/segments"}, &all); err != nil {
			return err
		}
		return s.show(all.Items, func() {
			var rows [][]any
			for _, v := range all.Items {
				rows = append(rows, []any{v.Key, v.Title, v.Sentence, strings.Join(v.UsedBy, ", ")})
			}
			s.rows([]any{"segment", "title", "whom it takes", "used by"}, rows)
		})
	}}
	readWhen := func() (*condition.Node, error) {
		if when == "" {
			return nil, nil
		}
		n := &condition.Node{}
		if err := json.Unmarshal([]byte(when), n); err != nil {
			return nil, coded(exitUsage, "--when takes a condition as JSON: %w", err)
		}
		return n, nil
	}
	make_ := &cobra.Command{Use: "make KEY", Short: "Make a segment", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, err := s.inProject(cmd.Context())
		if err != nil {
			return err
		}
		n, err := readWhen()
		if err != nil {
			return err
		}
		var made change.SavedSegment
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/segments", body: map[string]any{"key": args[0], "title": title, "when": n, "reason": s.because}}, &made); err != nil {
			return err
		}
		return s.show(made, func() { s.note("segment %s made: %s", made.Key, strings.Join(made.Difference, "; ")) })
	}}
	make_.Flags().StringVar(&title, "title", "", "for people")
	save := &cobra.Command{Use: "save KEY", Short: "Save whom a segment takes in an environment", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
		return s.saveSegment(cmd.Context(), args[0], readWhen)
	}}
	for _, c := range []*cobra.Command{make_, save} {
		c.Flags().StringVar(&when, "when", "", "whom it takes, as JSON; nobody if left out")
	}
	return group("segment", "Reusable audiences", list, make_, save)
}

func (s *session) saveSegment(ctx context.Context, key string, readWhen func() (*condition.Node, error)) error {
	a, path, env, err := s.inEnvironment(ctx)
	if err != nil {
		return err
	}
	n, err := readWhen()
	if err != nil {
		return err
	}
	var all struct{ Items []httpapi.SegmentView }
	if err := a.do(ctx, request{method: "GET", path: path + "/segments"}, &all); err != nil {
		return err
	}
	at := slices.IndexFunc(all.Items, func(v httpapi.SegmentView) bool { return v.Key == key })
	if at < 0 {
		return coded(exitNotFound, "there is no segment %s in this project", key)
	}
	path += "/segments/" + url.PathEscape(key)
	body := map[string]any{"when": n, "reason": s.because}
	if env.AskFirst && s.because == "" {
		body["reason"] = "not said yet"
	}
	var tried, saved change.SavedSegment
	if err := a.do(ctx, request{method: "PUT", path: path + "?dryRun=true", body: body, version: all.Items[at].Version}, &tried); err != nil {
		return err
	}
	if err := s.confirm(tried.Difference, env.AskFirst); err != nil {
		return err
	}
	body["reason"] = s.because
	if err := a.do(ctx, request{method: "PUT", path: path, body: body, version: all.Items[at].Version}, &saved); err != nil {
		return err
	}
	return s.show(saved, func() { s.note("saved as version %d, revision %d of %s", saved.Version, saved.Revision, s.env) })
}
