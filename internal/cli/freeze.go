package cli

import (
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/core/condition"
	"greenlever.example/core/stage"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("places", (*session).freezeCommand)

func (s *session) freezeCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "When nothing moves units in an environment", Args: exactly(),
		Example: "  greenlever freeze list --env production",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.FreezeView }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/freezes"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				for i := range all.Items {
					s.sayFreeze(&all.Items[i])
				}
				if len(all.Items) == 0 {
					s.note("%s is never frozen", s.env)
				}
			})
		}}
	remove := &cobra.Command{Use: "remove FREEZE", Short: "Take a freeze away", Args: exactly("FREEZE"),
		Example: "  greenlever freeze remove FREEZE --env production --because 'the fair is over'",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.confirm([]words.Said{words.Plain("take the freeze away")}, env.AskFirst); err != nil {
				return err
			}
			var gone app.Freeze
			if err := a.do(cmd.Context(), request{method: "POST",
				path: path + "/freezes/" + url.PathEscape(args[0]) + "/remove",
				body: map[string]any{"reason": s.because}}, &gone); err != nil {
				return err
			}
			return s.show(gone, func() { s.note("taken away: %s", gone.Reason) })
		}}
	return group("freeze", "Times in which nothing moves units", list, s.freezeMake(), remove)
}

func (s *session) freezeMake() *cobra.Command {
	var from, to, hours, zone, lasts string
	var days, flags, roles []string
	c := &cobra.Command{Use: "make", Short: "Have nothing move units for a while, once or weekly", Args: exactly(),
		Long: "While an environment is frozen nothing moves units there but stops, lifts and roll backs; releases " +
			"wait. Who is held by it reads the reason.",
		Example: "  greenlever freeze make --for 12d --env production --because 'the holidays'\n" +
			"  greenlever freeze make --days fri --hours 12:00-24:00 --zone Europe/Oslo --env production \\\n" +
			"    --because 'no widening on Friday afternoons'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			f := app.Freeze{Reason: s.because, Flags: flags}
			for _, r := range roles {
				f.Roles = append(f.Roles, app.Role(r))
			}
			if f.Reason == "" {
				return coded(exitUsage, "say why with --because: who is held by it reads it")
			}
			if len(days) > 0 {
				begins, ends, is := strings.Cut(hours, "-")
				if !is {
					return coded(exitUsage, "--hours takes times of the day such as 12:00-24:00, not %q", hours)
				}
				f.Weekly = &condition.Weekly{Days: days, From: begins, To: ends, Zone: zone}
			} else if err := once(&f, from, to, lasts); err != nil {
				return err
			}
			body := map[string]any{"freeze": map[string]any{"reason": f.Reason, "from": f.From, "to": f.To,
				"weekly": f.Weekly, "flags": f.Flags, "roles": f.Roles}}
			var made app.Freeze
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/freezes", body: body},
				&made); err != nil {
				return err
			}
			return s.show(made, func() {
				s.say("%s", made.ID)
				s.note("take it away: %s", s.next("freeze", "remove", made.ID, "--because", "it is over"))
			})
		}}
	c.Flags().StringVar(&from, "from", "", "when it begins, such as 2026-12-23 or 2026-12-23T16:00:00+01:00; now "+
		"if left out")
	c.Flags().StringVar(&to, "to", "", "when it is over")
	c.Flags().StringVar(&lasts, "for", "", "instead, how long it lasts, such as 8h or 12d")
	c.Flags().StringSliceVar(&days, "days", nil, "instead, every week on mon, tue, wed, thu, fri, sat, sun")
	c.Flags().StringVar(&hours, "hours", "00:00-24:00", "of these days")
	c.Flags().StringVar(&zone, "zone", "UTC", "in which these hours are, such as Europe/Oslo")
	c.Flags().StringSliceVar(&flags, "but-for", nil, "flags that it does not hold")
	c.Flags().StringSliceVar(&roles, "not-for", nil, "roles that it does not hold")
	return c
}

// once reads when a freeze begins and ends.
func once(f *app.Freeze, from, to, lasts string) error {
	if (to == "") == (lasts == "") {
		return coded(exitUsage, "say until when with --to, for how long with --for, or on which days of each week "+
			"with --days")
	}
	for _, one := range []struct {
		text string
		into *int64
	}{{from, &f.From}, {to, &f.To}} {
		if one.text == "" {
			continue
		}
		at, err := parseTime(one.text)
		if err != nil {
			return coded(exitUsage, "%q is no time: write 2026-12-23, or 2026-12-23T16:00:00+01:00", one.text)
		}
		*one.into = at.UnixMilli()
	}
	if lasts != "" {
		var span stage.Span
		if err := span.UnmarshalText([]byte(lasts)); err != nil {
			return coded(exitUsage, "--for: %w", err)
		}
		if f.From == 0 {
			f.From = time.Now().UnixMilli()
		}
		f.To = f.From + int64(span)
	}
	return nil
}

func (s *session) sayFreeze(f *manage.FreezeView) {
	stands := "○ not now"
	tone := faint
	switch {
	case f.Until > 0:
		stands, tone = "■ until "+time.UnixMilli(f.Until).Local().Format("2006-01-02 15:04"), bad
	case f.Over:
		stands = "○ over"
	}
	s.say("%s  %s", s.screen.paint(tone, stands), s.screen.paint(strong, f.Reason))
	s.say("  %s, by %s", said(f.Says), f.ByName)
	s.say("  %s", f.ID)
}
