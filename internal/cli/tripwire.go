package cli

import (
	"context"
	"encoding/json"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/span"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/tripwires"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("stop", (*session).tripwireCommand)

func (s *session) tripwires(ctx context.Context) (*api, string, []manage.TripwireView, error) {
	a, path, _, err := s.inEnvironment(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	var all struct{ Items []manage.TripwireView }
	err = a.do(ctx, request{method: "GET", path: path + "/tripwires"}, &all)
	return a, path + "/tripwires", all.Items, err
}

func (s *session) tripwireCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "The addresses at which monitoring systems stop " +
		"flags", Args: exactly(), Example: "  greenlever tripwire list --env production",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, _, all, err := s.tripwires(cmd.Context())
			if err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for _, w := range all {
					last := "-"
					if len(w.Alerts) > 0 {
						last = s.when(w.Alerts[0].Fired)
					}
					rows = append(rows, []any{w.ID, w.Title, strings.Join(w.Flags, " "), standsAs(&w), last})
				}
				s.rows([]any{"tripwire", "name", "flags", "stands", "fired last"}, rows)
			})
		}}
	return group("tripwire", "Have a monitoring system stop flags", list, s.tripwireMake(), s.tripwireEdit(),
		s.tripwireDo("rotate", "Give a tripwire a new address; the old one holds a day more"),
		s.tripwireDo("arm", "Arm a tripwire again, whatever it stopped for before"), s.tripwireTry(),
		s.tripwireDo("remove", "Take a tripwire away"))
}

func standsAs(w *manage.TripwireView) string {
	switch {
	case w.Off:
		return "off"
	case w.Trial:
		return "on trial"
	case !w.Armed:
		return "disarmed"
	}
	return "armed"
}

func tripwireOptions(c *cobra.Command, w *app.Tripwire, within *string) {
	f := c.Flags()
	f.StringVar(&w.Title, "name", w.Title, "what people call it")
	f.StringSliceVar(&w.Flags, "flag", w.Flags, "flags that it stops")
	f.StringVar(&w.When, "when", w.When, `of which alerts, in CEL: alert.subject == "weather"; of all if left out`)
	f.StringVar(&w.Identity, "identity", w.Identity, `by what an alert is known again,
		in CEL: alert.data.alert; without `+
		`it somebody arms the tripwire again by hand`)
	f.StringVar(&w.Over, "over", w.Over, "which bodies say that the alert is over, in CEL; the usual words if "+
		"left out")
	f.IntVar(&w.Least, "least", w.Least, "how many calls of one alert it takes, with --within; one if left out")
	f.StringVar(within, "within", "", "within which time so many calls must come, such as 5m")
	f.StringSliceVar(&w.Sources, "from", w.Sources, "networks that may call, such as 10.1.0.0/16; any if left out")
	f.BoolVar(&w.Signed, "signed", w.Signed, "take only calls that are signed as Standard Webhooks says")
	f.BoolVar(&w.Trial, "trial", w.Trial, "only record what it would stop")
	f.BoolVar(&w.Off, "off", w.Off, "take nothing for now")
}

func readWithin(text string) (out span.Span, err error) {
	if text == "" {
		return 0, nil
	}
	if err := out.UnmarshalText([]byte(text)); err != nil {
		return 0, coded(exitUsage, "--within: %v", err)
	}
	return out, nil
}

func (s *session) tripwireMake() *cobra.Command {
	var w app.Tripwire
	var within string
	c := &cobra.Command{Use: "make NAME --flag FLAG", Short: "Make a tripwire; its address is shown once",
		Args: exactly("NAME"),
		Example: "  greenlever tripwire make 'Weather is slow' --flag weather-holds --identity alert.data.alert " +
			"--env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if w.Title = args[0]; len(w.Flags) == 0 {
				return coded(exitUsage, "say which flags it stops: --flag weather-holds")
			}
			if w.Within, err = readWithin(within); err != nil {
				return err
			}
			if err := s.confirm(nil, env.AskFirst); err != nil {
				return err
			}
			var made tripwires.Saved
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/tripwires",
				body: map[string]any{"tripwire": w, "reason": s.because}}, &made); err != nil {
				return err
			}
			return s.show(made, func() { s.sayTripwire(a, &made) })
		}}
	tripwireOptions(c, &w, &within)
	return c
}

// sayTripwire shows an address and its secrets, once.
func (s *session) sayTripwire(a *api, w *tripwires.Saved) {
	if w.Secret != "" {
		s.say("%s/tripwire/%s", a.URL, w.Secret)
		s.note("tripwire %s: have alerts sent to this address as JSON; it is shown once", w.ID)
	}
	if w.Signing != "" {
		s.say("%s", w.Signing)
		s.note("calls are signed with this secret, which is shown once")
	}
	if w.Secret == "" && w.Signing == "" {
		s.note("tripwire %s is saved", w.ID)
	}
}

func (s *session) tripwireEdit() *cobra.Command {
	var w app.Tripwire
	var within string
	c := &cobra.Command{Use: "edit TRIPWIRE", Short: "Change a tripwire; what is not named stays",
		Args: exactly("TRIPWIRE"), Example: "  greenlever tripwire edit TRIPWIRE --trial=false --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, all, err := s.tripwires(cmd.Context())
			if err != nil {
				return err
			}
			for _, was := range all {
				if was.ID != args[0] {
					continue
				}
				now, set := was.Tripwire, cmd.Flags().Changed
				for name, take := range map[string]func(){"name": func() { now.Title = w.Title },
					"flag": func() { now.Flags = w.Flags }, "when": func() { now.When = w.When },
					"identity": func() { now.Identity = w.Identity }, "over": func() { now.Over = w.Over },
					"least": func() { now.Least = w.Least }, "from": func() { now.Sources = w.Sources },
					"signed": func() { now.Signed = w.Signed }, "trial": func() { now.Trial = w.Trial },
					"off": func() { now.Off = w.Off }} {
					if set(name) {
						take()
					}
				}
				if set("within") {
					if now.Within, err = readWithin(within); err != nil {
						return err
					}
				}
				var saved tripwires.Saved
				if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/" + url.PathEscape(was.ID),
					body: map[string]any{"tripwire": now, "reason": s.because}}, &saved); err != nil {
					return err
				}
				return s.show(saved, func() { s.sayTripwire(a, &saved) })
			}
			return coded(exitNotFound, "there is no tripwire %s here: %s names those that there are", args[0],
				s.next("tripwire", "list"))
		}}
	tripwireOptions(c, &w, &within)
	return c
}

func (s *session) tripwireDo(what, short string) *cobra.Command {
	return &cobra.Command{Use: what + " TRIPWIRE", Short: short, Args: exactly("TRIPWIRE"),
		Example: "  greenlever tripwire " + what + " TRIPWIRE --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.confirm(nil, env.AskFirst && what != "arm"); err != nil {
				return err
			}
			var saved tripwires.Saved
			path += "/tripwires/" + url.PathEscape(args[0]) + "/" + what
			if err := a.do(cmd.Context(), request{method: "POST", path: path,
				body: map[string]any{"reason": s.because}}, &saved); err != nil {
				return err
			}
			return s.show(saved, func() { s.sayTripwire(a, &saved) })
		}}
}

func (s *session) tripwireTry() *cobra.Command {
	var w app.Tripwire
	var file, of string
	c := &cobra.Command{Use: "try [TRIPWIRE] -f FILE", Short: "Read an alert as a tripwire would, and change nothing",
		Args:    cobra.MaximumNArgs(1),
		Example: "  greenlever tripwire try -f alert.json --when 'alert.subject == \"weather\"' --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, all, err := s.tripwires(cmd.Context())
			if err != nil {
				return err
			}
			for _, was := range all {
				if len(args) == 1 && was.ID == args[0] {
					of, w = was.ID, was.Tripwire
				}
			}
			if len(args) == 1 && of == "" {
				return coded(exitNotFound, "there is no tripwire %s here", args[0])
			}
			raw, err := s.readFile(file)
			if err != nil {
				return err
			}
			if !json.Valid(raw) {
				return coded(exitInvalid, "%s is no JSON", file)
			}
			var read tripwires.Alert
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/try",
				body: map[string]any{"tripwire": w, "body": json.RawMessage(raw)}}, &read); err != nil {
				return err
			}
			return s.show(read, func() {
				does := "it is not meant: nothing would be stopped"
				switch {
				case read.Over:
					does = "it says that the alert is over: nothing would be stopped"
				case read.Meant:
					does = "it would stop, unless it did already"
				}
				s.say("%s", does)
				s.note("identity: %q, title: %q, link: %q", read.Identity, read.Title, read.Link)
			})
		}}
	c.Flags().StringVarP(&file, "file", "f", "-", "the alert as JSON; - reads standard input")
	c.Flags().StringVar(&w.When, "when", "", "an expression to try")
	c.Flags().StringVar(&w.Identity, "identity", "", "an expression to try")
	return c
}
