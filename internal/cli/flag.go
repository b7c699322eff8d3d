package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/flags"
	"greenlever.example/greenlever/internal/app/snippet"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).flagCommand)

func (s *session) flagCommand() *cobra.Command {
	return group("flag", "Make flags, look at them, and edit what they do where",
		s.flagList(), s.flagMake(), s.flagEdit(), s.flagEditFound(), s.flagCopy(), s.flagAsOf(), s.flagFamily(),
		s.flagShow(),
		s.flagTurn(), s.flagName(),
		s.flagRule(), s.flagOrder(), s.flagShare(),
		s.flagDrawAnew(), s.flagEnd(), s.flagRestAfter(), s.flagPark(), s.flagRemoveRule(),
		s.flagSave(), s.flagSnippet())
}

func (s *session) flagMake() *cobra.Command {
	d := flags.Make{}
	var kind string
	var variants []string
	c := &cobra.Command{Use: "make KEY", Short: "Make a flag, in every environment with its lever off",
		Args: exactly("KEY"),
		Example: "  greenlever flag make one-touch-open --title 'One-touch open' --gone-by 2027-03-31\n" +
			"  greenlever flag make arrival-estimate --type string --variant timetable=timetable --variant " +
			"learned=learned --recipe side-by-side --gone-by 2027-06-30",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			d.Key, d.Type = args[0], flag.Type(kind)
			for _, v := range variants {
				name, value, ok := strings.Cut(v, "=")
				if !ok {
					return coded(exitUsage, "--variant takes NAME=VALUE, not %q", v)
				}
				d.Variants = append(d.Variants, app.Variant{Name: name, Value: valueOf(cmp.Or(d.Type, flag.Boolean),
					value)})
			}
			reason := ""
			if s.because != "" {
				reason = s.because
			}
			var made app.Definition
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/flags", body: withReason(d,
				reason)},
				&made); err != nil {
				return err
			}
			return s.show(made, func() { s.note("flag %s made, its lever is off everywhere", made.Key) })
		}}
	f := c.Flags()
	f.StringVar(&d.Title, "title", "", "for people; the key if left out")
	f.StringVar(&d.Description, "description", "", "what the flag decides")
	f.StringVar(&kind, "type", "", "boolean, string, number or object; that of the recipe, or boolean, if left out")
	f.StringVar(&d.Recipe, "recipe", "", "a saved beginning that fills in what is left out: step-by-step, "+
		"side-by-side, switch or one of the project's own")
	f.StringVar(&d.CopyOf, "copy-of", "", "a flag whose variants and rules it begins with, its lever off everywhere")
	f.StringVar(&d.Loses, "loses", "", "what users lose while it rests")
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
	return &cobra.Command{Use: "show KEY", Short: "What a flag does in an environment, rule by rule",
		Args: exactly("KEY"), RunE: func(cmd *cobra.Command, args []string) error {
			_, _, v, err := s.getFlag(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return s.show(v, func() { s.printFlag(v) })
		}}
}

func (s *session) printFlag(v *manage.FlagView) {
	d := v.Document
	s.say("%s  %s", s.screen.paint(strong, d.Key), v.Definition.Title)
	s.say("%s: %s", v.Environment.Key, wrap(said(v.Sentence), s.wide(), len(v.Environment.Key)+2))
	s.say("")
	visible := map[bool]string{true: "visible to browsers", false: "not visible to browsers"}[d.Visible]
	s.say("type     %s, %s, %s", d.Type, goneBy(v.Definition.GoneBy), visible)
	s.say("lever    %s", s.screen.state(state(d.Lever)))
	for _, st := range v.Stops {
		s.say("stopped  by %s at %s, stop %s %s", st.ByName, s.when(st.At), st.ID, st.Reason)
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

func (s *session) flagSnippet() *cobra.Command {
	var name string
	c := &cobra.Command{Use: "snippet KEY", Short: "Code that asks for a flag, filled in", Args: exactly("KEY"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []snippet.Snippet }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/flags/" + url.PathEscape(args[0]) +
				"/snippets"}, &all); err != nil {
				return err
			}
			if name != "" {
				all.Items = slices.DeleteFunc(all.Items, func(v snippet.Snippet) bool {
					return !strings.EqualFold(v.Name, name)
				})
			}
			return s.show(all.Items, func() {
				for i, v := range all.Items {
					if i > 0 {
						s.say("")
					}
					s.say("%s\n%s", v.Name, v.Code)
				}
			})
		}}
	c.Flags().StringVar(&name, "for", "", "Go, Browser, OpenFeature or HTTP; all if left out")
	return c
}
