package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("stop", (*session).stopCommand)
var _ = listed("stop", (*session).liftCommand)

func (s *session) stopCommand() *cobra.Command {
	return &cobra.Command{Use: "stop FLAG...", Short: "Force flags to their resting variants at once; asks nothing",
		Args: atLeastOne("flag"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			body := map[string]any{"flags": args, "reason": s.because}
			if s.try {
				return s.tryStop(cmd.Context(), a, path+"/stops", body)
			}
			var out stops.Stopped
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/stops", body: body},
				&out); err != nil {
				return err
			}
			return s.show(out, func() {
				s.say("%s", out.Stop)
				lift := []string{"lift", out.Stop}
				if env.AskFirst {
					lift = append(lift, "--because", "it is mended")
				}
				s.note("stopped in %s at revision %d: %s\nsee who has it:  %s\ntake it back:    %s",
					s.env, out.Revision, strings.Join(out.Flags, ", "), s.next("instances"), s.next(lift...))
			})
		}}
}

// tryStop shows what a stop or a lift would move.
func (s *session) tryStop(ctx context.Context, a *api, path string, body map[string]any) error {
	var tried struct {
		stops.Stopped
		Preview *preview.Preview `json:"preview"`
	}
	if err := a.do(ctx, request{method: "POST", path: path + "?dryRun=true", body: body}, &tried); err != nil {
		return err
	}
	return s.tried(tried, nil, tried.Preview, nil)
}

func (s *session) liftCommand() *cobra.Command {
	return &cobra.Command{Use: "lift [STOP...]", Short: "Take stops back; without an id, lists those that stand",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.StopView }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/stops"}, &all); err != nil {
				return err
			}
			var standing [][]any
			var what []words.Said
			for _, st := range all.Items {
				if st.LiftedAt == 0 {
					standing = append(standing, []any{st.ID, strings.Join(st.Flags, ", "), st.ByName, when(st.At),
						st.Reason})
					for _, id := range args {
						if id == st.ID {
							what = append(what, words.Say("lift the stop of %s", strings.Join(st.Flags, ", ")))
						}
					}
				}
			}
			if len(args) == 0 {
				return s.show(all.Items, func() { s.rows([]any{"stop", "flags", "by", "at", "reason"}, standing) })
			}
			if s.try {
				return s.tryStop(cmd.Context(), a, path+"/lifts", map[string]any{"stops": args,
					"reason": "not said yet"})
			}
			if err := s.confirm(what, env.AskFirst); err != nil {
				return err
			}
			var out stops.Stopped
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/lifts",
				body: map[string]any{"stops": args, "reason": s.because}}, &out); err != nil {
				return err
			}
			return s.show(out, func() {
				s.note("lifted in %s at revision %d: %s", s.env, out.Revision,
					strings.Join(out.Flags, ", "))
			})
		}}
}
