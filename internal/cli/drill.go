package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/drills"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("stop", (*session).drillCommand)

func (s *session) drillCommand() *cobra.Command {
	return group("drill", "Practise stops before a night needs "+
		"one", s.drillList(), s.drillRehearse(), s.drillPractise())
}

func (s *session) drillList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "The stops that were practised, and what was not for " +
		"long", Args: exactly(),
		Example: "  greenlever drill list --env production", RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct {
				Items []manage.DrillView `json:"items"`
				Due   drills.Due         `json:"due"`
				Days  int                `json:"days"`
			}
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/drills"}, &all); err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for _, d := range all.Items {
					rows = append(rows, []any{s.when(d.At), string(d.Kind), drilled(&d), came(d.Wave), d.ByName})
				}
				if len(rows) == 0 {
					s.say("no drill was held in %s yet", s.env)
				} else {
					s.rows([]any{"held", "drill", "of", "who had it", "by"}, rows)
				}
				for _, part := range []struct {
					what string
					all  []drills.DueOne
				}{{"flags that are on", all.Due.Flags}, {"tripwires", all.Due.Tripwires}} {
					var names []string
					for _, one := range part.all {
						name := one.ID
						if part.what == "tripwires" {
							name = one.Title
						}
						names = append(names, name)
					}
					if len(names) > 0 {
						s.say("")
						s.say("%s", wrap(fmt.Sprintf("%s not practised within %d days: %s", part.what, all.Days,
							strings.Join(names, ", ")), s.wide(), 2))
					}
				}
			})
		}}
}

// drilled says what a drill was of.
func drilled(d *manage.DrillView) string {
	of := strings.Join(d.Flags, " ")
	if d.TripwireName != "" {
		return "tripwire " + d.TripwireName + ": " + of
	}
	return of
}

// came says who had a revision, and how soon.
func came(d *app.Delivery) string {
	switch {
	case d == nil:
		return "-"
	case d.Expected == 0:
		return "no process was there"
	case d.All >= 0:
		return fmt.Sprintf("all %d after %d ms", d.Expected, d.All)
	}
	return fmt.Sprintf("%d of %d", d.Reached, d.Expected)
}

func (s *session) drillRehearse() *cobra.Command {
	var tripwire, file string
	c := &cobra.Command{Use: "rehearse FLAG...", Short: "Stop nothing, and measure how soon a stop would be " +
		"everywhere",
		Long: "Stop nothing, and measure how soon a stop would be everywhere: a revision that changes nothing goes " +
			"the way of a stop.\nWith --tripwire the alert in -f is judged as the tripwire judges its calls, and " +
			"its flags are rehearsed.",
		Example: "  greenlever drill rehearse weather-holds --env production\n" +
			"  greenlever drill rehearse --tripwire 'Weather is slow' -f alert.json --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := map[string]any{"flags": args, "reason": s.because}
			if (len(args) == 0) == (tripwire == "") {
				return coded(exitUsage, "name flags, or a tripwire with --tripwire and an alert with -f")
			}
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			if tripwire != "" {
				raw, err := s.readFile(file)
				if err != nil {
					return coded(exitUsage, "-f names the file of an alert, as your monitoring system sends it: "+
						"%w", err)
				}
				if !json.Valid(raw) {
					return coded(exitInvalid, "%s is no JSON", file)
				}
				_, _, all, err := s.tripwires(cmd.Context())
				if err != nil {
					return err
				}
				for _, w := range all {
					if w.Title == tripwire || w.ID == tripwire {
						body["tripwire"] = w.ID
					}
				}
				if body["tripwire"] == nil {
					return coded(exitNotFound, "there is no tripwire %q in %s", tripwire, s.env)
				}
				body["alert"] = json.RawMessage(raw)
			}
			_, err = s.drill(cmd.Context(), a, path, body)
			return err
		}}
	c.Flags().StringVar(&tripwire, "tripwire", "", "a tripwire, by its name or id")
	c.Flags().StringVarP(&file, "file", "f", "", "the alert's body; - for standard input")
	return c
}

func (s *session) drillPractise() *cobra.Command {
	return &cobra.Command{Use: "practise FLAG...", Short: "Stop flags that are there for practice, and lift them " +
		"again", Long: "Stop flags that are there for practice, see who has it, and lift again. They have " +
		"the tag \"" + app.PracticeTag + "\".", Example: "  greenlever drill practise fire-drill --env production",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return coded(exitUsage, "name a flag that is there for practice")
			}
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			held, err := s.drill(cmd.Context(), a, path, map[string]any{"flags": args, "practice": true,
				"reason": s.because})
			if held == nil {
				return err
			}
			reason := s.because
			if reason == "" {
				reason = "the drill is over"
			}
			if e := a.do(cmd.Context(), request{method: "POST", path: path + "/lifts",
				body: map[string]any{"stops": []string{held.Stop}, "reason": reason}}, nil); e != nil {
				return fmt.Errorf("the practice stop %s still stands: %w", held.Stop, e)
			}
			s.note("lifted again")
			return err
		}}
}

// drillTime is how long it is waited until all have what was practised.
const drillTime = 30 * time.Second

// drill holds a drill, and waits until everybody has had it.
func (s *session) drill(ctx context.Context, a *api, path string, body map[string]any) (*drills.Held, error) {
	var held drills.Held
	if err := a.do(ctx, request{method: "POST", path: path + "/drills", body: body}, &held); err != nil {
		return nil, err
	}
	if held.Alert != nil {
		s.note("the tripwire would stop for it: %s", held.Alert.Title)
	}
	until := time.Now().Add(drillTime)
	for {
		var view manage.DrillView
		if err := a.do(ctx, request{method: "GET", path: path + "/drills/" + url.PathEscape(held.ID)},
			&view); err != nil {
			return &held, fmt.Errorf("the drill was held; who had it cannot be seen: %w", err)
		}
		d := view.Wave
		if d != nil && (d.Reached == d.Expected || len(d.Waiting) == 0 || time.Now().After(until)) {
			err := s.show(view, func() {
				s.say("%s of %s: %s", heldAs(held.Kind), strings.Join(held.Flags, ", "), came(d))
				if d.Half >= 0 {
					s.say("half after %d ms, 99 %% after %d ms", d.Half, d.Most)
				}
			})
			if err == nil && d.Reached < d.Expected {
				err = coded(exitUnsound, "%s", strings.Replace(without(d), "it is stopped, and ", "", 1))
			}
			return &held, err
		}
		select {
		case <-ctx.Done():
			return &held, ctx.Err()
		case <-time.After(lookAtWave):
		}
	}
}

// heldAs is a drill's kind, where a line begins with it.
func heldAs(k app.DrillKind) string {
	if k == app.Practice {
		return "Practice stop"
	}
	return "Rehearsal"
}
