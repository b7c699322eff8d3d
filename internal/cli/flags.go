package cli

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/manage"
)

func (s *session) flagCommand() *cobra.Command {
	return group("flag", "Make flags, look at them, and edit what they do in an environment",
		s.flagMake(), s.flagShow(), s.flagTurn(), s.flagName(), s.flagRule(), s.flagOrder(), s.flagShare(), s.flagDrawAnew(), s.flagEnd(), s.flagRestAfter(), s.flagPark(), s.flagRemoveRule(),
		s.flagSave(), s.flagSnippet())
}

func (s *session) flagMake() *cobra.Command {
	d := app.Definition{}
	var kind, purpose string
	var variants []string
	c := &cobra.Command{Use: "make KEY", Short: "Make a flag, in every environment with its lever off", Args: exactly("KEY"),
		Example: "  greenlever flag make one-touch-open --title 'One-touch open' --gone-by 2027-03-31\n" +
			"  greenlever flag make arrival-estimate --type string --variant timetable=timetable --variant learned=learned --purpose compare --gone-by 2027-06-30",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			d.Key, d.Type, d.Purpose = args[0], flag.Type(kind), app.Purpose(purpose)
			for _, v := range variants {
				name, value, ok := strings.Cut(v, "=")
				if !ok {
					return coded(exitUsage, "--variant takes NAME=VALUE, not %q", v)
				}
				d.Variants = append(d.Variants, app.Variant{Name: name, Value: valueOf(d.Type, value)})
			}
			reason := ""
			if s.because != "" {
				reason = s.because
			}
			var made app.Definition
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/flags", body: withReason(d, reason)}, &made); err != nil {
				return err
			}
			return s.show(made, func() { s.note("flag %s made, its lever is off everywhere", made.Key) })
		}}
	f := c.Flags()
	f.StringVar(&d.Title, "title", "", "for people; the key if left out")
	f.StringVar(&d.Description, "description", "", "what the flag decides")
	f.StringVar(&kind, "type", "boolean", "boolean, string, number or object")
	f.StringVar(&purpose, "purpose", "introduce", "introduce, compare, kill-switch, tune or grant")
	f.StringVar(&d.GoneBy, "gone-by", "", `by which date the flag should be gone, or "stays"`)
	f.StringVar(&d.Resting, "resting", "", "the variant while the lever is off; the last one if left out")
	f.BoolVar(&d.Visible, "visible", false, "to browsers")
	f.StringArrayVar(&variants, "variant", nil, "NAME=VALUE; a boolean flag has on and off if none is given")
	f.StringSliceVar(&d.Owners, "owner", nil, "who answers for the flag")
	f.StringSliceVar(&d.Tags, "tag", nil, "a tag")
	return c
}

// valueOf reads a variant's value: for a string flag the text itself, else JSON.
func valueOf(t flag.Type, s string) json.RawMessage {
	if t == flag.String {
		raw, _ := json.Marshal(s) // a string
		return raw
	}
	if !json.Valid([]byte(s)) {
		raw, _ := json.Marshal(s) // the service says what is wrong with it
		return raw
	}
	return json.RawMessage(s)
}

func (s *session) getFlag(ctx context.Context, key string) (*api, string, *manage.FlagView, error) {
	a, path, _, err := s.inEnvironment(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	path += "/flags/" + url.PathEscape(key)
	var v manage.FlagView
	return a, path, &v, a.do(ctx, request{method: "GET", path: path}, &v)
}

func (s *session) flagShow() *cobra.Command {
	return &cobra.Command{Use: "show KEY", Short: "What a flag does in an environment, rule by rule", Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
		_, _, v, err := s.getFlag(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		return s.show(v, func() { s.printFlag(v) })
	}}
}

func (s *session) printFlag(v *manage.FlagView) {
	d := v.Document
	s.say("%s  %s", d.Key, v.Definition.Title)
	s.say("%s: %s", v.Environment.Key, wrap(said(v.Sentence), s.wide(), len(v.Environment.Key)+2))
	s.say("")
	s.say("type     %s, purpose %s, %s, visible to browsers: %t", d.Type, v.Definition.Purpose, goneBy(v.Definition.GoneBy), d.Visible)
	s.say("lever    %s", d.Lever)
	for _, st := range v.Stops {
		s.say("stopped  by %s at %s, stop %s %s", st.ByName, when(st.At), st.ID, st.Reason)
	}
	for _, name := range slices.Sorted(maps.Keys(d.Variants)) {
		resting := ""
		if name == d.Resting {
			resting = "   (resting)"
		}
		s.say("variant  %-14s %s%s", name, d.Variants[name], resting)
	}
	for _, n := range d.Needs {
		s.say("needs    %s to give %s", n.Flag, n.Variant)
	}
	for i := range d.Rules {
		r := &d.Rules[i]
		parked := ""
		if r.Parked {
			parked = " (parked)"
		}
		s.say("rule %-3d %s%s [%s]", i+1, r.Name, parked, r.ID)
		s.say("         %s", wrap(said(v.Says[i]), s.wide(), 9))
		if i < len(v.Texts) && v.Texts[i] != "" {
			s.say("         %s", wrap(v.Texts[i], s.wide(), 9))
		}
	}
	s.say("end      %s", said(v.Says[len(v.Says)-1]))
	s.say("version  %d, of revision %d", v.Version, v.Revision)
}

// edit changes a document: it shows the difference first, asks where the environment asks
// first, and saves.
func (s *session) edit(ctx context.Context, key string, alter func(*flag.Document) error) error {
	a, path, v, err := s.getFlag(ctx, key)
	if err != nil {
		return err
	}
	if err := alter(v.Document); err != nil {
		return err
	}
	body := map[string]any{"document": v.Document, "reason": s.because}
	if v.Environment.AskFirst && s.because == "" {
		body["reason"] = "not said yet" // a dry run shows the difference before the question
	}
	var tried struct {
		flags.Saved
		Preview *preview.Preview `json:"preview"`
	}
	var saved flags.Saved
	if err := a.do(ctx, request{method: "PUT", path: path + "?dryRun=true", body: body, version: v.Version}, &tried); err != nil {
		return err
	}
	if len(tried.Difference) == 0 {
		s.note("%s is like that already in %s: nothing was changed", key, s.env)
		return s.show(tried.Saved, func() {})
	}
	if s.try {
		return s.tried(tried, tried.Difference, tried.Preview, tried.Document)
	}
	s.notePreview(tried.Difference, tried.Preview, tried.Document)
	if err := s.confirm(nil, v.Environment.AskFirst); err != nil {
		return err
	}
	if body["reason"] = s.because; v.Environment.AskFirst {
		if body["units"], err = s.confirmSweep(tried.Preview); err != nil {
			return err
		}
	}
	body["document"] = withSalts(v.Document, tried.Document)
	if err := a.do(ctx, request{method: "PUT", path: path, body: body, version: v.Version}, &saved); err != nil {
		return err
	}
	return s.show(saved, func() {
		s.note("saved as version %d, revision %d of %s", saved.Version, saved.Revision, s.env)
		s.say("%s: %s", s.env, wrap(said(saved.Sentence), s.wide(), len(s.env)+2))
	})
}

func (s *session) flagTurn() *cobra.Command {
	var end string
	c := &cobra.Command{Use: "turn KEY on|off", Short: "Set the lever, and with --end what all get whom no rule takes", Args: exactly("KEY", "on|off"),
		Example: "  greenlever flag turn weather-holds on --end on --env production --because 'for all'\n  greenlever flag turn weather-holds off --env production --because 'not needed'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				if d.Lever = flag.Lever(args[1]); d.Lever != flag.On && d.Lever != flag.Off {
					return coded(exitUsage, "the lever is on or off, not %q", args[1])
				}
				if end != "" {
					d.End = flag.Gives{Variant: end}
				}
				return nil
			})
		}}
	c.Flags().StringVar(&end, "end", "", "the variant that all get whom no rule takes")
	return c
}

// withSalts gives conditions, and shares that are drawn anew, the salts that the dry run
// chose, so that what was shown is what happens.
func withSalts(d, tried *flag.Document) *flag.Document {
	take := func(g *flag.Gives, as flag.Gives) {
		if g.Shares != nil && g.Shares.DrawAnew && as.Shares != nil {
			g.Shares.Salt = as.Shares.Salt
		}
	}
	for i := range d.Rules {
		d.Rules[i].When = tried.Rules[i].When
		take(&d.Rules[i].Gives, tried.Rules[i].Gives)
	}
	take(&d.End, tried.End)
	return d
}

// namedRule finds the rule that lists units and gives the variant.
func namedRule(d *flag.Document, variant string) *flag.Rule {
	for i := range d.Rules {
		r := &d.Rules[i]
		if r.When != nil && r.When.Attribute == condition.KeyAttribute && strings.HasPrefix(r.When.Test, "string.") && r.Gives.Variant == variant &&
			(r.When.Test == "string.one-of" || r.When.Test == "string.equals") {
			return r
		}
	}
	return nil
}

func (s *session) flagName() *cobra.Command {
	var gets string
	var remove bool
	c := &cobra.Command{Use: "name KEY UNIT...", Short: "Name units that get a variant, such as yourself", RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) < 2 {
			return coded(exitUsage, "%s takes KEY UNIT...; see --help", cmd.CommandPath())
		}
		return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
			variant := gets
			if variant == "" {
				others := slices.DeleteFunc(d.VariantNames(), func(n string) bool { return n == d.Resting })
				if len(others) != 1 {
					return coded(exitUsage, "say which variant they get with --gets: %s", strings.Join(d.VariantNames(), ", "))
				}
				variant = others[0]
			}
			r := namedRule(d, variant)
			if r == nil {
				if remove {
					return coded(exitNotFound, "no units are named for %s", variant)
				}
				d.Rules = slices.Insert(d.Rules, 0, flag.Rule{Name: "Named units", Gives: flag.Gives{Variant: variant},
					When: &condition.Node{Test: "string.one-of", Attribute: condition.KeyAttribute}})
				r = &d.Rules[0]
			}
			r.When.Test = "string.one-of"
			for _, unit := range args[1:] {
				at := slices.Index(r.When.Text, unit)
				switch {
				case remove && at >= 0:
					r.When.Text = slices.Delete(r.When.Text, at, at+1)
				case !remove && at < 0:
					r.When.Text = append(r.When.Text, unit)
				}
			}
			if len(r.When.Text) == 0 {
				id := r.ID
				d.Rules = slices.DeleteFunc(d.Rules, func(o flag.Rule) bool { return o.ID == id })
			}
			return nil
		})
	}}
	c.Flags().StringVar(&gets, "gets", "", "the variant; the only other than the resting one if left out")
	c.Flags().BoolVar(&remove, "remove", false, "take the units off the list")
	return c
}

func (s *session) flagEnd() *cobra.Command {
	return &cobra.Command{Use: "end KEY VARIANT", Short: "Set what those get whom no rule takes", Args: exactly("KEY", "VARIANT"), RunE: func(cmd *cobra.Command, args []string) error {
		return s.edit(cmd.Context(), args[0], func(d *flag.Document) error { d.End = flag.Gives{Variant: args[1]}; return nil })
	}}
}

func (s *session) flagRestAfter() *cobra.Command {
	return &cobra.Command{Use: "rest-after KEY MINUTES", Short: "Have processes without contact give the resting variant after so long; 0: they go on deciding", Args: exactly("KEY", "MINUTES"), RunE: func(cmd *cobra.Command, args []string) error {
		minutes, err := strconv.Atoi(args[1])
		if err != nil {
			return coded(exitUsage, "MINUTES is a number such as 60, not %q", args[1])
		}
		return s.edit(cmd.Context(), args[0], func(d *flag.Document) error { d.RestAfter = minutes; return nil })
	}}
}

func (s *session) flagPark() *cobra.Command {
	var back bool
	c := &cobra.Command{Use: "park KEY RULE", Short: "Keep a rule but skip it; --back takes it into use again", Args: exactly("KEY", "RULE"), RunE: func(cmd *cobra.Command, args []string) error {
		return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
			r, err := findRule(d, args[1])
			if err != nil {
				return err
			}
			r.Parked = !back
			return nil
		})
	}}
	c.Flags().BoolVar(&back, "back", false, "take the rule into use again")
	return c
}

func (s *session) flagRemoveRule() *cobra.Command {
	return &cobra.Command{Use: "remove-rule KEY RULE", Short: "Remove a rule", Args: exactly("KEY", "RULE"), RunE: func(cmd *cobra.Command, args []string) error {
		return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
			r, err := findRule(d, args[1])
			if err != nil {
				return err
			}
			id := r.ID
			d.Rules = slices.DeleteFunc(d.Rules, func(o flag.Rule) bool { return o.ID == id })
			return nil
		})
	}}
}

// readFile reads a file, or standard input for "-".
func (s *session) readFile(path string) ([]byte, error) {
	if path == "-" {
		return io.ReadAll(s.in)
	}
	return os.ReadFile(path)
}

func (s *session) flagSave() *cobra.Command {
	return &cobra.Command{Use: "save KEY FILE", Short: "Save a whole document from a JSON file, as `flag show -o json` prints it under document; - reads standard input",
		Args: exactly("KEY", "FILE"), RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := s.readFile(args[1])
			if err != nil {
				return err
			}
			return s.edit(cmd.Context(), args[0], func(d *flag.Document) error {
				var now flag.Document
				if err := json.Unmarshal(raw, &now); err != nil {
					return coded(exitInvalid, "%s holds no flag document: %w", args[1], err)
				}
				now.Visible = d.Visible
				*d = now
				return nil
			})
		}}
}
