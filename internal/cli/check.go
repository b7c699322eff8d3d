package cli

import (
	"context"
	"net/url"
	"slices"

	"github.com/spf13/cobra"
	"greenlever.example/core/lint"
	"greenlever.example/greenlever/internal/app"
)

var _ = listed("change", (*session).checkCommand)

func (s *session) checkCommand() *cobra.Command {
	c := &cobra.Command{Use: "check [FLAG]", Short: "What is probably wrong with flags, although they can be saved",
		Args: cobra.MaximumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 1 {
				path += "/flags/" + url.PathEscape(args[0])
			}
			var all struct{ Items []lint.Finding }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/lint"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				for _, f := range all.Items {
					place := f.Flag
					if f.Place != "" {
						place += ", rule " + f.Place
					}
					muted := ""
					if f.Muted != "" {
						muted = " (muted: " + f.Muted + ")"
					}
					s.say("%s [%s]%s", place, f.Check, muted)
					s.say("    %s", wrap(said(f.Says)+"; "+f.Mend, s.wide(), 4))
				}
				if len(all.Items) == 0 {
					s.note("nothing was found")
				}
			})
		}}
	list := &cobra.Command{Use: "list", Short: "What is looked for, and why", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return s.show(lint.Checks(), func() {
				for _, k := range lint.Checks() {
					s.say("%-16s %s", k.Name, wrap(k.Reason, s.wide(), 17))
					s.say("%-16s for example: %s", "", wrap(k.Bad, s.wide(), 30))
				}
			})
		}}
	mute := &cobra.Command{Use: "mute FLAG CHECK", Short: "Mute a check for a flag; --because says why",
		Args: exactly("FLAG", "CHECK"), RunE: func(cmd *cobra.Command, args []string) error {
			return s.mute(cmd.Context(), args[0], args[1], s.because)
		}}
	unmute := &cobra.Command{Use: "unmute FLAG CHECK", Short: "Hear of a check again", Args: exactly("FLAG", "CHECK"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.mute(cmd.Context(), args[0], args[1], "")
		}}
	c.AddCommand(list, mute, unmute)
	return c
}

func (s *session) mute(ctx context.Context, key, check, reason string) error {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return err
	}
	path += "/flags/" + url.PathEscape(key)
	var d app.Definition
	if err := a.do(ctx, request{method: "GET", path: path}, &d); err != nil {
		return err
	}
	muted := slices.DeleteFunc(append([]app.Mute{}, d.Muted...), func(m app.Mute) bool { return m.Check == check })
	if reason != "" {
		muted = append(muted, app.Mute{Check: check, Reason: reason})
	} else if len(muted) == len(d.Muted) {
		return coded(exitUsage, "say why with --because, or unmute a check that is muted")
	}
	return a.do(ctx, request{method: "PATCH", path: path, body: map[string]any{"muted": muted}, version: d.Version},
		nil)
}
