package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/condition"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/segments"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).segmentCommand)

func (s *session) segmentCommand() *cobra.Command {
	var title, when string
	list := &cobra.Command{Use: "list", Short: "The segments in an environment", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.SegmentView }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/segments"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for _, v := range all.Items {
					rows = append(rows, []any{v.Key, v.Title, said(v.Sentence), strings.Join(v.UsedBy, ", ")})
				}
				s.rows([]any{"segment", "title", "whom it takes", "used by"}, rows)
			})
		}}
	var lists string
	readWhen := func(ctx context.Context) (*condition.Node, error) {
		if when == "" {
			return nil, nil
		}
		return s.readCondition(ctx, when)
	}
	make_ := &cobra.Command{Use: "make KEY", Short: "Make a segment", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			n, err := readWhen(cmd.Context())
			if err != nil {
				return err
			}
			var made segments.Saved
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/segments",
				body: map[string]any{"key": args[0], "title": title, "when": n, "reason": s.because}},
				&made); err != nil {
				return err
			}
			return s.show(made, func() { s.note("segment %s made: %s", made.Key, sayAll(made.Difference, "; ")) })
		}}
	make_.Flags().StringVar(&title, "title", "", "for people")
	save := &cobra.Command{Use: "save KEY", Short: "Save whom a segment takes in an environment", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := readWhen(cmd.Context())
			if err != nil {
				return err
			}
			return s.saveSegment(cmd.Context(), args[0], n, !cmd.Flags().Changed("when"), lists)
		}}
	save.Flags().StringVar(&lists, "lists", "", "the attribute that its lists name; as it is if left out")
	make_.Flags().StringVar(&when, "when", "", "whom it takes, as text or JSON; nobody but listed units if left out; "+
		comparisons)
	save.Flags().StringVar(&when, "when", "", "whom it takes, as text or JSON; as it is if left out, empty: nobody "+
		"but "+
		"listed units; "+comparisons)
	return group("segment", "Reusable audiences", list, make_, save, s.titleEdit("segment",
		"crews --title 'Crews of two and more'", "Edit a segment's title", func(key string) string {
			return "/projects/" + url.PathEscape(s.project) + "/segments/" + url.PathEscape(key)
		}), s.segmentLoad(), s.segmentUnits())
}

func (s *session) saveSegment(ctx context.Context, key string, n *condition.Node, same bool, lists string) error {
	a, path, env, err := s.inEnvironment(ctx)
	if err != nil {
		return err
	}
	v, err := s.segment(ctx, a, path, key)
	if err != nil {
		return err
	}
	if lists == "" {
		lists = v.Lists
	}
	if same {
		n = v.When
	}
	path += "/segments/" + url.PathEscape(key)
	body := map[string]any{"when": n, "lists": lists, "in": v.In, "out": v.Out, "reason": s.because}
	if env.AskFirst && s.because == "" {
		body["reason"] = "not said yet"
	}
	var tried triedSegment
	if err := a.do(ctx, request{method: "PUT", path: path + "?dryRun=true", body: body, version: v.Version},
		&tried); err != nil {
		return err
	}
	if s.try {
		return s.tried(tried, tried.Difference, tried.Preview, nil)
	}
	s.notePreview(tried.Difference, tried.Preview, nil)
	if err := s.confirm(nil, env.AskFirst); err != nil {
		return err
	}
	body["reason"] = s.because
	var saved segments.Saved
	if err := a.do(ctx, request{method: "PUT", path: path, body: body, version: v.Version}, &saved); err != nil {
		return err
	}
	return s.show(saved, func() {
		s.note("saved as version %d, revision %d of %s", saved.Version, saved.Revision,
			s.env)
	})
}

type triedSegment struct {
	segments.Saved
	Preview *preview.Preview `json:"preview"`
}

func (s *session) segment(ctx context.Context, a *api, path, key string) (*manage.SegmentView, error) {
	var all struct{ Items []manage.SegmentView }
	if err := a.do(ctx, request{method: "GET", path: path + "/segments"}, &all); err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all.Items, func(v manage.SegmentView) bool { return v.Key == key })
	if at < 0 {
		return nil, coded(exitNotFound, "there is no segment %s in this project", key)
	}
	return &all.Items[at], nil
}

func (s *session) segmentLoad() *cobra.Command {
	var list, mode string
	c := &cobra.Command{Use: "load KEY FILE", Short: "Load a list of units from a file, one in a line",
		Long: "Load a list of units from a file, one in a line; - reads standard input.", Args: exactly("KEY", "FILE"),
		Example: "  greenlever segment load pilot-sites sites.txt --env production --because 'the second wave'\n" +
			"  greenlever segment load invited more.txt --mode add --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			raw, err := s.readFile(args[1])
			if err != nil {
				return err
			}
			send := func(dry bool, out any) error {
				query, reason := url.Values{"mode": {mode}}, s.because
				if dry {
					query.Set("dryRun", "true")
					reason = cmp.Or(reason, "not said yet")
				}
				body := &progress{r: bytes.NewReader(raw), all: int64(len(raw)),
					say: func(part string) { s.note("  %s sent", part) }}
				return a.do(cmd.Context(), request{method: "PUT", path: path + "/segments/" + url.PathEscape(args[0]) +
					"/lists/" + url.PathEscape(list) + "?" + query.Encode(), file: body, size: int64(len(raw)),
					reason: reason}, out)
			}
			if env.AskFirst || s.try {
				var tried triedSegment
				if err := send(true, &tried); err != nil {
					return err
				}
				if s.try {
					return s.tried(tried, tried.Difference, tried.Preview, nil)
				}
				s.notePreview(tried.Difference, tried.Preview, nil)
				if err := s.confirm(nil, env.AskFirst); err != nil {
					return err
				}
			}
			var saved segments.Saved
			if err := send(false, &saved); err != nil {
				return err
			}
			return s.show(saved, func() {
				s.note("%s; revision %d of %s", sayAll(saved.Difference, "; "),
					saved.Revision, s.env)
			})
		}}
	c.Flags().StringVar(&list, "list", "in", "in or out: units that the segment takes, or keeps out")
	c.Flags().StringVar(&mode, "mode", "replace", "replace, add or remove")
	return c
}

// progress tells how much of a body was sent, at each tenth of a long one.
type progress struct {
	r         io.Reader
	all, done int64
	told      int64
	say       func(part string)
}

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	p.done += int64(n)
	if p.all > 1<<20 && p.done*10/p.all > p.told {
		p.told = p.done * 10 / p.all
		p.say(fmt.Sprintf("%d %%", p.told*10))
	}
	return n, err
}

func (s *session) segmentUnits() *cobra.Command {
	var list string
	c := &cobra.Command{Use: "units KEY", Short: "The units that a segment lists, one a line", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			res, err := a.send(cmd.Context(),
				request{method: "GET", path: path + "/segments/" + url.PathEscape(args[0]) + "/lists/" +
					url.PathEscape(list)})
			if err != nil {
				return err
			}
			defer res.Body.Close()
			_, err = io.Copy(s.out, res.Body)
			return err
		}}
	c.Flags().StringVar(&list, "list", "in", "in or out")
	return c
}
