package cli

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/calendars"
	"greenlever.example/greenlever/internal/calendar"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).calendarCommand)

var _ = listed("look", (*session).needsCommand)

func (s *session) calendarCommand() *cobra.Command {
	subscribe := &cobra.Command{Use: "subscribe", Short: "Make an address to subscribe to the calendar at",
		Args: exactly(),
		Long: "Make an address at which calendar programs read the project's calendar as iCalendar (RFC 5545), " +
			"in your " +
			"right and without signing in. It is shown once: who has it reads along.",
		Example: "  greenlever calendar subscribe",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var made calendars.Made
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/calendar/addresses"},
				&made); err != nil {
				return err
			}
			return s.show(made, func() {
				s.say("%s%s", a.URL, made.Path)
				s.note("take it away: %s", s.next("calendar", "remove", made.ID))
			})
		}}
	addresses := &cobra.Command{Use: "addresses", Short: "Your addresses of the calendar", Args: exactly(),
		Example: "  greenlever calendar addresses",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []app.CalendarAddress }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/calendar/addresses"},
				&all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				for _, one := range all.Items {
					s.say("%s  made %s", one.ID, s.when(one.Made))
				}
			})
		}}
	remove := &cobra.Command{Use: "remove ADDRESS", Short: "Take an address of the calendar away",
		Args:    exactly("ADDRESS"),
		Example: "  greenlever calendar remove ADDRESS",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/calendar/addresses/" +
				url.PathEscape(args[0]) + "/remove"}, nil); err != nil {
				return err
			}
			s.note("it leads nowhere any more")
			return nil
		}}
	return group("calendar", "What begins, ends, is due or frozen, on one line", s.calendarShow(), subscribe,
		addresses,
		remove)
}

func (s *session) calendarShow() *cobra.Command {
	var from, to string
	c := &cobra.Command{Use: "show", Short: "What begins, ends, is due or frozen in the next weeks", Args: exactly(),
		Example: "  greenlever calendar show\n  greenlever calendar show --from 2026-12-01 --to 2027-01-31",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			query := url.Values{}
			for name, text := range map[string]string{"from": from, "to": to} {
				if text == "" {
					continue
				}
				t, err := parseTime(text)
				if err != nil {
					return coded(exitUsage, "%q is no time: write 2026-12-23, or 2026-12-23T16:00:00+01:00", text)
				}
				query.Set(name, fmt.Sprint(t.UnixMilli()))
			}
			var v manage.CalendarView
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/calendar?" + query.Encode()},
				&v); err != nil {
				return err
			}
			return s.show(v, func() {
				for i := range v.Items {
					s.sayDated(&v.Items[i])
				}
				if len(v.Items) == 0 {
					s.note("nothing begins, ends or is due")
				}
			})
		}}
	c.Flags().StringVar(&from, "from", "", "the first day; a week ago if left out")
	c.Flags().StringVar(&to, "to", "", "the end; in six weeks if left out")
	return c
}

func (s *session) sayDated(i *calendar.Item) {
	at := time.UnixMilli(i.From)
	when := at.Local().Format("2006-01-02 15:04")
	if i.AllDay {
		when = at.UTC().Format("2006-01-02      ")
	}
	says := i.Title
	switch {
	case i.Open:
		says += ", goes on"
	case i.To > i.From:
		says += ", until " + time.UnixMilli(i.To).Local().Format("2006-01-02 15:04")
	}
	tone := strong
	switch {
	case i.Cancelled:
		says, tone = "not any more: "+says, faint
	case i.TakesAway && i.Kind == calendar.Clock:
		says, tone = says+", and takes it away from those who have it", bad
	}
	if len(i.Beside) > 0 {
		says += "; on the same units as " + strings.Join(i.Beside, ", ")
	}
	s.say("%s  %s", when, s.screen.paint(tone, says))
}

func (s *session) needsCommand() *cobra.Command {
	return &cobra.Command{Use: "needs", Short: "What waits for you in the project, the most urgent first",
		Args:    exactly(),
		Example: "  greenlever needs",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var v manage.NeedsView
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/needs"}, &v); err != nil {
				return err
			}
			return s.show(v.Items, func() {
				for _, n := range v.Items {
					s.say("%s  %s", s.screen.paint(strong, n.Title), strings.TrimSpace(n.Environment+"  "+n.Says))
					switch n.Kind {
					case manage.NeedSign:
						s.say("  %s", s.next("proposal", "show", n.Of))
					case manage.NeedHarm, manage.NeedSignOff:
						s.say("  %s", s.next("release", "show", n.Of, "--env", n.Environment))
					}
				}
				if len(v.Items) == 0 {
					s.note("nothing waits for you")
				}
			})
		}}
}
