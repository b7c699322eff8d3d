package cli

import (
	"context"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/radar"
)

var _ = listed("look", (*session).radarCommand)

func (s *session) radarCommand() *cobra.Command {
	c := &cobra.Command{Use: "radar", Short: "Where code and flags do not fit, and who decides by old ones",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := s.readRadar(cmd.Context())
			if err != nil {
				return err
			}
			return s.show(r, func() { s.printRadar(r) })
		}}
	c.AddCommand(&cobra.Command{Use: "define FLAG", Short: "Make a flag that code asks for, of the type that it " +
		"asked for", Args: exactly("FLAG"), RunE: func(cmd *cobra.Command, args []string) error {
		r, err := s.readRadar(cmd.Context())
		if err != nil {
			return err
		}
		for _, u := range r.Unknown {
			if u.Flag != args[0] {
				continue
			}
			if u.Retired {
				return coded(exitConflict, "flag %s is retired: take it out of the code, or bring it back with %s",
					u.Flag,
					s.next("restore", u.Flag))
			}
			if u.Suggested == nil {
				return coded(exitInvalid, "%q cannot be a flag's key: change it in the code", u.Flag)
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			reason := "asked for by " + u.Application
			if s.because != "" {
				reason = s.because
			}
			var made app.Definition
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/flags",
				body: withReason(u.Suggested,
					reason)}, &made); err != nil {
				return err
			}
			return s.show(made, func() {
				s.note("flag %s made (%s, resting on %s); its lever is off everywhere", made.Key, made.Type,
					made.Resting)
			})
		}
		return coded(exitNotFound, "nobody asks in vain for %s in %s", args[0], s.env)
	}})
	return s.watched(c)
}

func (s *session) readRadar(ctx context.Context) (*radar.Radar, error) {
	a, path, _, err := s.inEnvironment(ctx)
	if err != nil {
		return nil, err
	}
	r := &radar.Radar{}
	return r, a.do(ctx, request{method: "GET", path: path + "/radar"}, r)
}

func (s *session) printRadar(r *radar.Radar) {
	began := false
	part := func(title string, header []any, rows [][]any) {
		if len(rows) == 0 {
			return
		}
		if began {
			s.say("")
		}
		began = true
		s.say("%s", s.screen.paint(strong, title))
		s.rows(header, rows)
	}
	var rows [][]any
	for _, a := range r.Aside {
		rows = append(rows, []any{a.Kind, a.Key, a.Why})
	}
	part("Cannot be read, and is left out; everything else goes on", []any{"kind", "key", "why"}, rows)
	rows = nil
	for _, u := range r.Unknown {
		nearest := u.Nearest
		if u.Retired {
			nearest = "it is retired"
		}
		rows = append(rows, []any{u.Flag, u.Type, u.Fallback, nearest, u.Application, s.when(u.Last)})
	}
	part("Asked for, and not defined", []any{"flag", "type", "fallback", "nearest", "application", "last asked"},
		rows)
	for _, u := range r.Unknown {
		if u.Suggested != nil {
			s.note("make it: %s", s.next("radar", "define", u.Flag))
		}
	}
	rows = nil
	for _, m := range r.Mistyped {
		rows = append(rows, []any{m.Flag, m.Type, m.Application, s.when(m.Last)})
	}
	part("Asked for as another type than they have", []any{"flag", "asked as", "application", "last asked"}, rows)
	rows = nil
	for _, i := range r.Old {
		rows = append(rows, []any{i.Application, i.Version, i.ID, i.Revision, i.Says})
	}
	part("Processes", []any{"application", "version", "instance", "revision", "what it does"}, rows)
	rows = nil
	for _, f := range r.Overdue {
		rows = append(rows, []any{f.Flag, placeOf(f.Place) + " " + said(f.Says), f.Mend})
	}
	part("Past their time", []any{"flag", "what", "mend"}, rows)
	rows = nil
	for _, i := range r.Busy {
		rows = append(rows, []any{i.Application, i.Version, i.BusyUnit, share(uint64(i.BusyCalls),
			uint64(i.BusyOf))})
	}
	part("One unit makes most of the calls: is its key written into the code?", []any{"application", "version",
		"unit",
		"of its calls"}, rows)
	rows = nil
	for _, u := range r.Unasked {
		rows = append(rows, []any{u.Flag, u.Title, s.when(u.Last)})
	}
	part("Defined, and not asked for", []any{"flag", "title", "last asked"}, rows)
	if !began {
		s.say("nothing to say: code and flags fit, and every process decides by the newest revision")
	}
}
