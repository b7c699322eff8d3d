package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/apiclient"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/plans"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).undoCommand)

var _ = listed("change", (*session).promoteCommand)

// carryOut looks what a plan would come to, says it, asks where an environment asks first, and has it done.
func (s *session) carryOut(ctx context.Context, a *api, project, path string, body map[string]any) error {
	tried, err := s.lookAhead(ctx, a, path, body)
	if err != nil {
		return err
	}
	s.sayPlan(tried)
	if s.try {
		return s.show(tried, func() {})
	}
	if len(tried.Items) == 0 {
		s.note("nothing was changed: it stands like that already")
		return s.show(tried, func() {})
	}
	asking, err := s.asking(ctx, a, project, tried)
	if err != nil {
		return err
	}
	units, err := s.confirmAll(tried, asking)
	if err != nil {
		return err
	}
	if len(units) > 0 {
		body["units"] = units
	}
	if s.because != "" {
		body["reason"] = s.because
	} else {
		delete(body, "reason")
	}
	var done manage.Planned
	if err := a.do(ctx, request{method: "POST", path: path, body: body}, &done); err != nil {
		return err
	}
	return s.show(done, func() { s.note("done: %s", counted(len(done.Items), "change", "changes")) })
}

// lookAhead asks what a plan would come to.
func (s *session) lookAhead(ctx context.Context, a *api, path string, body map[string]any) (*manage.Planned, error) {
	body["reason"] = cmp.Or(s.because, "not said yet") // a dry run shows the difference before the question
	var tried manage.Planned
	err := a.do(ctx, request{method: "POST", path: path + "?dryRun=true", body: body}, &tried)
	return &tried, err
}

// asking are the environments that a plan touches and that ask first, by key.
func (s *session) asking(ctx context.Context, a *api, project string, p *manage.Planned) ([]string, error) {
	var all struct{ Items []app.Environment }
	if err := a.do(ctx, request{method: "GET", path: project + "/environments"}, &all); err != nil {
		return nil, err
	}
	var keys []string
	for _, e := range all.Items {
		if e.AskFirst && slices.ContainsFunc(p.Items, func(i manage.PlannedItem) bool {
			return i.Environment == e.Key || slices.ContainsFunc(i.Says, func(l app.ItemLine) bool {
				return l.Environment == e.Key
			})
		}) {
			keys = append(keys, e.Key)
		}
	}
	return keys, nil
}

// confirmAll asks for what environments that ask first want: a reason, a word, and the number of units where all of
// them would go from the resting variant at once. It gives those numbers by "environment/flag".
func (s *session) confirmAll(p *manage.Planned, asking []string) (map[string]int64, error) {
	if len(asking) == 0 {
		return nil, nil
	}
	env := s.env
	s.env = strings.Join(asking, ", ")
	err := s.confirm(nil, true)
	s.env = env
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, in := range p.Previews {
		if !slices.Contains(asking, in.Environment) {
			continue
		}
		for _, sh := range in.Preview.Shifts {
			one := *in.Preview
			one.Shifts = append(one.Shifts[:0:0], sh)
			units, err := s.confirmSweep(&one)
			if err != nil {
				return nil, err
			}
			if n, is := units.(int64); is {
				out[in.Environment+"/"+sh.Flag] = n
			}
		}
	}
	return out, nil
}

// sayPlan says what a plan would change, and whom that moves.
func (s *session) sayPlan(p *manage.Planned) {
	for _, i := range p.Items {
		s.note("%s", s.screen.paint(strong, planTitle(&i)))
		for _, in := range i.Says {
			for _, l := range in.Lines {
				where := ""
				if in.Environment != "" && in.Environment != i.Environment {
					where = in.Environment + ": "
				}
				s.note("  %s", wrap(where+said(l), s.wide(), 2))
			}
		}
	}
	for _, in := range p.Previews {
		for _, l := range s.previewLines(in.Preview, nil) {
			s.note("%s: %s", in.Environment, l)
		}
	}
	for _, n := range slices.Concat(p.Notes, p.Left) {
		s.note("careful: %s", wrap(said(n), s.wide(), 9))
	}
}

// more reads what a problem document says besides.
func more(err error, into any) bool {
	var p *apiclient.Problem
	return errors.As(err, &p) && json.Unmarshal(p.All, into) == nil
}

func planTitle(i *manage.PlannedItem) string {
	out := i.Of
	noun, _, _ := strings.Cut(i.Do, ".")
	if noun != "flag" {
		out = noun + " " + out
	} else if i.Do == "flag.edit" {
		out += ", its definition"
	}
	if i.Environment != "" {
		out += " in " + i.Environment
	}
	return strings.TrimSpace(out)
}

func (s *session) undoCommand() *cobra.Command {
	return &cobra.Command{Use: "undo CHANGE", Short: "Take a change back, if nothing that came after stands on it",
		Long: "Take a change back as a new one: in all environments that it touched, and in what the project " +
			"owns. What " +
			"came after it stays;\nwhere it stands on the change, that is shown and nothing is changed. " +
			"`greenlever " +
			"history` names changes by their ids.",
		Example: "  greenlever undo CHANGE --try\n" +
			"  greenlever undo CHANGE --because 'it was the wrong flag'",
		Args: exactly("CHANGE"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			err = s.carryOut(cmd.Context(), a, path, path+"/changes/"+url.PathEscape(args[0])+"/undo",
				map[string]any{})
			s.sayInTheWay(err)
			return err
		}}
}

// sayInTheWay names what came after a change and stands on it.
func (s *session) sayInTheWay(err error) {
	var way struct {
		InTheWay []plans.InTheWay `json:"inTheWay"`
	}
	if !more(err, &way) {
		return
	}
	for _, w := range way.InTheWay {
		for _, c := range w.Conflicts {
			s.note("%s %s: %s was %s, is now %s", w.Of, w.Environment, c.Place, c.Base, c.Theirs)
		}
		for _, l := range w.Later {
			s.note("  %s  %s", s.when(l.At), l.Change)
			for _, says := range l.Says {
				s.note("    %s", said(words.Read(says)))
			}
		}
	}
}

func (s *session) promoteCommand() *cobra.Command {
	var in plans.Promotion
	c := &cobra.Command{Use: "promote FLAG...", Short: "Take what flags do from an environment into others",
		Long: "Take what flags do from an environment into others, in one change: their rules and end if " +
			"nothing is said, " +
			"or what the\noptions name. The same units are in there, unless --draw-anew.",
		Example: "  greenlever promote one-touch-open --from staging --to production --try\n" +
			"  greenlever promote one-touch-open arrival-estimate --from staging --to production --rules --values " +
			"--because 'it held'",
		Args: cobra.MinimumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			in.Flags = args
			if in.From = cmp.Or(in.From, s.env); in.From == "" || len(in.To) == 0 {
				return coded(exitUsage, "say from which environment and into which: --from and --to")
			}
			in.Rules = in.Rules || !in.Values && !in.Lever && !in.Resting
			return s.carryOut(cmd.Context(), a, path, path+"/promote", fieldsOf(in))
		}}
	f := c.Flags()
	f.StringVar(&in.From, "from", "", "the environment that is the model; the one of --env if left out")
	f.StringSliceVar(&in.To, "to", nil, "the environments that get it")
	f.BoolVar(&in.Rules, "rules", false, "the rules and the end; what is promoted if nothing else is named")
	f.BoolVar(&in.Values, "values", false, "the values of variants")
	f.BoolVar(&in.Lever, "lever", false, "whether it is on")
	f.BoolVar(&in.Resting, "resting", false, "the resting variant, and what the flag needs")
	f.BoolVar(&in.Segments, "segments", false, "fill the segments that the rules name and that have nobody there")
	f.BoolVar(&in.DrawAnew, "draw-anew", false, "shares get other units there")
	return c
}

// fieldsOf gives a value as the fields of a body.
func fieldsOf(v any) map[string]any {
	out := map[string]any{}
	raw, err := json.Marshal(v)
	if err != nil || json.Unmarshal(raw, &out) != nil {
		panic("a body of ours is no JSON object")
	}
	return out
}

func (s *session) flagAsOf() *cobra.Command {
	return s.asOf(&cobra.Command{Use: "as-of KEY", Short: "Have a flag in an environment as it stood at a time",
		Example: "  greenlever flag as-of one-touch-open --at 2026-11-20T08:00:00Z --env production --try\n" +
			"  greenlever flag as-of one-touch-open --revision 3 --env production --because 'it worked then'",
		Args: exactly("KEY")}, func(args []string) []string { return args })
}

func (s *session) environmentAsOf() *cobra.Command {
	return s.asOf(&cobra.Command{Use: "as-of", Short: "Have all flags of an environment as they stood at a time",
		Example: "  greenlever environment as-of --at 2026-11-20T08:00:00Z --env development --try",
		Args:    exactly()}, func([]string) []string { return nil })
}

func (s *session) asOf(c *cobra.Command, keys func(args []string) []string) *cobra.Command {
	var at string
	var revision int64
	c.Long = c.Short + ", as a new change. Stops that stand are not lifted, and none is brought back; rules of\n" +
		"a release that runs stay as they are. `greenlever history` names times and revisions."
	c.RunE = func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		body := map[string]any{}
		if list := keys(args); len(list) > 0 {
			body["flags"] = list
		}
		switch {
		case (at == "") == (revision == 0):
			return coded(exitUsage, "say a time with --at, or a revision with --revision")
		case at != "":
			if body["at"], err = parseWhen(at); err != nil {
				return err
			}
		default:
			body["revision"] = revision
		}
		project, _, _ := strings.Cut(path, "/environments/")
		return s.carryOut(cmd.Context(), a, project, path+"/as-it-stood", body)
	}
	c.Flags().StringVar(&at, "at", "", "the time, such as 2026-11-20T08:00:00Z")
	c.Flags().Int64Var(&revision, "revision", 0, "the revision")
	return c
}

// sortedKeys are the keys of a map, in order.
func sortedKeys[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }
