package cli

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("stop", (*session).whyCommand)

func (s *session) whyCommand() *cobra.Command {
	var set []string
	var at, against, againstAt string
	var revision int64
	c := &cobra.Command{Use: "why FLAG [UNIT]", Short: "Why does a unit get what it gets, step by step",
		Example: "  greenlever why night-batching recipient-17 --set site.id=site-12 --set crew_size=3 --env " +
			"production",
		Args: cobra.RangeArgs(1, 2), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			unit, err := contextOf(args[1:], set)
			if err != nil {
				return err
			}
			body := map[string]any{"context": unit}
			if len(set) == 0 && len(args) == 2 { // as it was last seen, or as a test unit
				body = map[string]any{"unit": args[1]}
			}
			if against != "" || againstAt != "" {
				other := map[string]any{}
				if against != "" {
					other["unit"] = against
				}
				if againstAt != "" {
					if other["at"], err = parseWhen(againstAt); err != nil {
						return err
					}
				}
				body["against"] = other
			}
			if revision > 0 {
				body["revision"] = revision
			}
			if at != "" {
				ms, err := parseWhen(at)
				if err != nil {
					return err
				}
				body["at"] = ms
			}
			var w manage.Why
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/flags/" + url.PathEscape(args[0]) +
				"/why", body: body}, &w); err != nil {
				return err
			}
			return s.show(w, func() { s.printWhy(&w) })
		}}
	c.Flags().StringArrayVar(&set, "set", nil, "NAME=VALUE: an attribute; true, false, numbers and JSON lists are "+
		"read as such, everything else as text")
	c.Flags().StringVar(&at, "at", "", "a time in the past, such as 2026-11-23T08:00:00Z")
	c.Flags().Int64Var(&revision, "revision", 0, "a revision of the past")
	c.Flags().StringVar(&against, "against", "", "another unit to compare with")
	c.Flags().StringVar(&againstAt, "against-at", "", "another time to compare with")
	return c
}

func contextOf(unit, set []string) (map[string]any, error) {
	c := map[string]any{}
	if len(unit) == 1 {
		c[condition.KeyAttribute] = unit[0]
	}
	for _, pair := range set {
		name, text, ok := strings.Cut(pair, "=")
		if !ok || name == "" {
			return nil, coded(exitUsage, "--set takes NAME=VALUE, not %q", pair)
		}
		var v any
		if err := json.Unmarshal([]byte(text), &v); err != nil {
			v = text
		} else if _, number := v.(float64); number {
			v = json.Number(text)
		}
		c[name] = v
	}
	return c, nil
}

func (s *session) printWhy(w *manage.Why) {
	s.say("%s gives %s %s", s.screen.paint(strong, w.Flag), s.screen.paint(strong, w.Variant), string(w.Value))
	s.say("because %s", wrap(said(w.Because), s.wide(), 8))
	s.say("reason %s, revision %d of epoch %d, made %s", w.Reason, w.Revision, w.Epoch, s.when(w.Made))
	s.say("attributes %s", s.whence(w.From, w.Seen))
	for _, u := range w.Unknown {
		s.say("not known: %s", wrap(said(u), s.wide(), 11))
	}
	if len(w.Unknown) > 0 {
		s.note("attributes are given with --set NAME=VALUE")
	}
	s.say("")
	s.say("%s stops: %s", s.mark(len(w.Stops) == 0), orNone(w.Stops))
	s.say("%s lever: %s", s.mark(w.Lever == flag.On), w.Lever)
	for _, n := range w.Needs {
		s.say("%s needs %s to give %s: it gives %s", s.mark(n.Met), n.Flag, n.Wants, n.Gave)
	}
	for i := range w.Rules {
		r := &w.Rules[i]
		took := map[bool]string{true: s.screen.paint(good, "-> "), false: "   "}[r.ID == w.Rule && r.ID != ""]
		s.say("%s rule %q %s", took, r.Name, r.Says)
		s.printCondition(&r.Condition, 6)
		s.printShares(r.Shares)
	}
	if w.End != nil || w.Rule == "" && w.Reason != "DISABLED" {
		s.say("%s end", s.screen.paint(good, "-> "))
		s.printShares(w.End)
	}
	if w.Against != nil {
		s.say("")
		s.say("against %s: it gets %s, because %s", w.Against.Unit, w.Against.Variant, said(w.Against.Because))
		for _, d := range w.Differs {
			s.say("  %s", wrap(d, s.wide(), 2))
		}
	}
}

// whence says where a unit's attributes come from.
func (s *session) whence(from string, seen int64) string {
	switch from {
	case "seen":
		return "as they were last seen, at " + s.when(seen)
	case "test":
		return "of the test unit"
	case "key":
		return "are not known: only the key is"
	}
	return "as given"
}

func (s *session) mark(ok bool) string {
	if !ok {
		return s.screen.paint(bad, "!! ")
	}
	return s.screen.paint(good, "ok ")
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none stands"
	}
	return strings.Join(list, ", ")
}

func (s *session) printCondition(x *condition.Explained, indent int) {
	pad := strings.Repeat(" ", indent)
	truth := x.Said + ":"
	if x.Said != "not looked at" {
		truth = fmt.Sprintf("%-8s", x.Said)
	}
	line := said(x.Words)
	if x.Seen != "" {
		line += "; seen: " + x.Seen
	}
	if len(x.Note) > 0 {
		line += " (" + said(x.Note) + ")"
	}
	s.say("%s%s %s", pad, truth, wrap(line, s.wide(), indent+len(truth)+1))
	for i := range x.Parts {
		s.printCondition(&x.Parts[i], indent+2)
	}
}

func (s *session) printShares(x *decide.SharesStep) {
	if x == nil || x.Draw == nil {
		return
	}
	s.say("      %s %q lies at %s:", sentence.By([]string{x.Draw.By}), x.Draw.Key, bucket.Percent(x.Draw.Bucket))
	for _, p := range x.Parts {
		name, here := p.Variant, ""
		if p.GoesOn {
			name = "what follows"
		}
		if p.Has(x.Draw.Bucket) {
			here = s.screen.paint(good, "   <- here")
		}
		var ranges []string
		for _, r := range p.Ranges {
			ranges = append(ranges, fmt.Sprintf("from %s to %s", bucket.Percent(r[0]), bucket.Percent(r[1])))
		}
		s.say("        %-14s %-10s %s%s", name, bucket.Percent(p.Share), strings.Join(ranges, ", "), here)
	}
}
