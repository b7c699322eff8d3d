package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/accessor"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/app/radar"
	"greenlever.example/greenlever/internal/manage"
)

func (s *session) usageCommand() *cobra.Command {
	var span string
	c := &cobra.Command{Use: "usage [FLAG]", Short: "What was decided, and how", Args: cobra.MaximumNArgs(1),
		Long: "Shows how often flags gave which variant in a span of time, beside the span before.\nWith a flag it says by which rules, in which applications and versions, and with which reasons.",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			query := url.Values{"span": {span}}
			if len(args) == 1 {
				query.Set("flag", args[0])
			}
			var u manage.Usage
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/usage?" + query.Encode()}, &u); err != nil {
				return err
			}
			return s.show(u, func() { s.printUsage(&u, span) })
		}}
	c.Flags().StringVar(&span, "span", "1h", "15m, 1h, 6h, 1d, 7d, 30d or 90d")
	return c
}

func (s *session) printUsage(u *manage.Usage, span string) {
	type key struct{ flag, variant string }
	before, total := map[key]uint64{}, map[string]uint64{}
	for _, l := range u.Past {
		before[key{l.Flag, l.Variant}] = l.Total
	}
	for _, l := range u.Now {
		total[l.Flag] += l.Total
	}
	if len(u.Now) == 0 {
		s.say("nothing was decided in %s in the last %s", s.env, span)
		return
	}
	var rows [][]any
	for _, l := range u.Now {
		k := key{l.Flag, l.Variant}
		rows = append(rows, []any{l.Flag, fallbackOr(l.Variant), l.Total, share(l.Total, total[l.Flag]), before[k], spark(l.Counts)})
	}
	s.say("decisions in %s, %s to %s", s.env, when(u.From), when(u.To))
	s.rows([]any{"flag", "variant", "decisions", "share", "in the " + span + " before", ""}, rows)
	if len(u.Ways) == 0 {
		return
	}
	s.say("")
	rows = nil
	for _, w := range u.Ways {
		rows = append(rows, []any{fallbackOr(w.Variant), w.Reason, w.Name, strings.TrimSpace(w.Application + " " + w.Version), versionOr(w.FlagVersion), w.Count, share(w.Count, total[w.Flag])})
	}
	s.rows([]any{"variant", "reason", "rule", "application", "version", "decisions", "share"}, rows)
}

// versionOr is a flag's version, where it is known.
func versionOr(version int64) string {
	if version == 0 {
		return "-"
	}
	return strconv.FormatInt(version, 10)
}

func fallbackOr(variant string) string {
	if variant == "" {
		return "(fallback)"
	}
	return variant
}

func share(n, of uint64) string {
	if of == 0 {
		return ""
	}
	return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(of))
}

// spark draws counts as a row of bars, at most 30 of them.
func spark(counts []uint64) string {
	per := (len(counts) + 29) / 30
	var sums []uint64
	most := uint64(0)
	for i := 0; i < len(counts); i += per {
		sum := uint64(0)
		for _, n := range counts[i:min(i+per, len(counts))] {
			sum += n
		}
		sums, most = append(sums, sum), max(most, sum)
	}
	bars := []rune("▁▂▃▄▅▆▇█")
	var b strings.Builder
	for _, n := range sums {
		if n == 0 {
			b.WriteRune(' ')
		} else {
			b.WriteRune(bars[(n*uint64(len(bars))-1)/most])
		}
	}
	return b.String()
}

func (s *session) instancesCommand() *cobra.Command {
	c := &cobra.Command{Use: "instances", Short: "Which process has which revision, and which are lost", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var d manage.Instances
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/instances"}, &d); err != nil {
			return err
		}
		return s.show(d, func() { s.printInstances(&d) })
	}}
	var silent bool
	gone := &cobra.Command{Use: "gone [INSTANCE]", Short: "Vouch for lost processes: they decide no more",
		Long: "Takes a process that fell silent off the list of the lost, or with --all-silent all of them. Silence alone\nproves nothing, so a person says that they decide no more, with a reason, and the audit keeps who said so.",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 || (len(args) == 1) == silent {
				return coded(exitUsage, "name one process, or all that are silent with --all-silent; see %s --help", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			who, at := "all instances that are silent decide", path+"/instances/gone"
			if !silent {
				who, at = "instance "+args[0]+" decides", path+"/instances/"+url.PathEscape(args[0])+"/gone"
			}
			if err := s.confirm([]words.Said{words.Plain(who + " no more")}, env.AskFirst); err != nil {
				return err
			}
			var out delivery.AccountedFor
			if err := a.do(cmd.Context(), request{method: "POST", path: at, body: map[string]string{"reason": s.because}}, &out); err != nil {
				return err
			}
			return s.show(out, func() {
				for _, i := range out.Instances {
					s.note("%s %s %s is counted as gone", i.Application, i.Version, i.ID)
				}
				if more := out.Gone - len(out.Instances); more > 0 {
					s.note("and %d more", more)
				}
			})
		}}
	gone.Flags().BoolVar(&silent, "all-silent", false, "vouch for all that are silent")
	c.AddCommand(gone)
	return c
}

func (s *session) printInstances(d *manage.Instances) {
	s.say("revision %d of %s: delivered to %d of %d, %d lost", d.Revision, s.env, d.Delivered, d.Alive, len(d.Lost))
	if n := d.Newest; n != nil && n.Expected > 0 {
		s.say("of %d that were there when it was saved %d have it: %s", n.Expected, n.Reached, spreadWords(n))
	}
	if d.Streams+d.Pollers > 0 {
		s.say("beside them about %d streams of changes, of browsers and others, and %d units for which all answers were asked for lately", d.Streams, d.Pollers)
	}
	outposts := map[string]string{}
	for _, i := range slices.Concat(d.Instances, d.Lost) {
		if i.Kind == app.AnOutpost {
			outposts[i.ID] = i.Application
		}
	}
	var rows [][]any
	add := func(state string, i *app.Instance) {
		via := "the service"
		if i.Via != "" {
			via = cmp.Or(outposts[i.Via], i.Via)
		}
		name := i.Application
		if i.Kind == app.AnOutpost {
			name += " (outpost)"
		}
		rows = append(rows, []any{state, name, i.Version, i.ID, i.Revision, i.Source, via, when(i.Seen)})
	}
	for i := range d.Lost {
		add("lost", &d.Lost[i])
	}
	for i := range d.Instances {
		if x := &d.Instances[i]; x.Other {
			add("other history", x)
		} else if x.Epoch == d.Epoch && x.Revision >= d.Revision {
			add("has it", x)
		} else {
			add("not yet", x)
		}
	}
	for i := range d.Nodes {
		n := &d.Nodes[i]
		state := "serves"
		if n.Silent > 0 {
			state = "serves no more"
		}
		rows = append(rows, []any{state, "greenlever", n.Version, n.ID, n.NodePlace.Revision, "service", "", ""})
	}
	if len(rows) > 0 {
		s.rows([]any{"state", "application", "version", "instance", "revision", "decides from", "through", "last report"}, rows)
	}
}

// spreadWords says how long a revision took.
func spreadWords(d *app.Delivery) string {
	var parts []string
	for _, t := range []struct {
		what  string
		after int64
	}{{"half", d.Half}, {"99 %", d.Most}, {"all", d.All}} {
		if t.after >= 0 {
			parts = append(parts, fmt.Sprintf("%s after %v", t.what, time.Duration(t.after)*time.Millisecond))
		}
	}
	if len(parts) == 0 {
		return "fewer than half"
	}
	return strings.Join(parts, ", ")
}

func (s *session) radarCommand() *cobra.Command {
	c := &cobra.Command{Use: "radar", Short: "Where code and flags do not fit, and who decides by something old", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		r, err := s.readRadar(cmd.Context())
		if err != nil {
			return err
		}
		return s.show(r, func() { s.printRadar(r) })
	}}
	c.AddCommand(&cobra.Command{Use: "define FLAG", Short: "Make a flag that code asks for, with the type and fallback that the code used", Args: exactly("FLAG"), RunE: func(cmd *cobra.Command, args []string) error {
		r, err := s.readRadar(cmd.Context())
		if err != nil {
			return err
		}
		for _, u := range r.Unknown {
			if u.Flag != args[0] {
				continue
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
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/flags", body: withReason(u.Suggested, reason)}, &made); err != nil {
				return err
			}
			return s.show(made, func() {
				s.note("flag %s made (%s, resting on %s); its lever is off everywhere", made.Key, made.Type, made.Resting)
			})
		}
		return coded(exitNotFound, "nobody asks in vain for %s in %s", args[0], s.env)
	}})
	return c
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
		s.say("%s", title)
		s.rows(header, rows)
	}
	var rows [][]any
	for _, a := range r.Aside {
		rows = append(rows, []any{a.Kind, a.Key, a.Why})
	}
	part("Cannot be read, and is left out; everything else goes on", []any{"kind", "key", "why"}, rows)
	rows = nil
	for _, u := range r.Unknown {
		rows = append(rows, []any{u.Flag, u.Type, u.Fallback, u.Nearest, u.Application, when(u.Last)})
	}
	part("Asked for, and not defined", []any{"flag", "type", "fallback", "nearest", "application", "last asked"}, rows)
	for _, u := range r.Unknown {
		if u.Suggested != nil {
			s.note("make it: %s", s.next("radar", "define", u.Flag))
		}
	}
	rows = nil
	for _, m := range r.Mistyped {
		rows = append(rows, []any{m.Flag, m.Type, m.Application, when(m.Last)})
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
		rows = append(rows, []any{i.Application, i.Version, i.BusyUnit, share(uint64(i.BusyCalls), uint64(i.BusyOf))})
	}
	part("One unit makes most of the calls: is its key written into the code?", []any{"application", "version", "unit", "of its calls"}, rows)
	rows = nil
	for _, u := range r.Unasked {
		rows = append(rows, []any{u.Flag, u.Title, when(u.Last)})
	}
	part("Defined, and not asked for", []any{"flag", "title", "last asked"}, rows)
	if !began {
		s.say("nothing to say: code and flags fit, and every process decides by the newest revision")
	}
}

func (s *session) generateCommand() *cobra.Command {
	var name, out string
	var check bool
	golang := &cobra.Command{Use: "go", Short: "Typed accessors for Go", Args: exactly(),
		Long: `Writes a Go file with one typed accessor for each flag of the project: its key, its type, the value
of its resting variant as fallback, and its description and variants as a doc comment. A flag that is
gone no longer compiles. With --check the file is compared instead; the exit code is 8 where it is stale.`,
		Example: "  greenlever generate go --out internal/flags/flags.go\n  greenlever generate go --out internal/flags/flags.go --check",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if name == "" {
				name = "flags"
				if out != "" {
					name = filepath.Base(filepath.Dir(absolute(out)))
				}
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var b manage.Board
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/board"}, &b); err != nil {
				return err
			}
			var all []app.Definition
			for _, f := range b.Flags {
				all = append(all, f.Definition)
			}
			source, err := accessor.Go(b.Project.Key, name, all)
			if err != nil {
				return &codedError{exitUsage, err}
			}
			switch {
			case check && out == "":
				return coded(exitUsage, "--check compares a file: name it with --out")
			case check:
				return s.checkGenerated(out, source, accessor.Revision(all), len(all))
			case out == "":
				_, err = s.out.Write(source)
				return err
			}
			if err := os.WriteFile(out, source, 0o644); err != nil {
				return err
			}
			s.note("%s: %d flags at definitions %s", out, len(all), accessor.Revision(all))
			return nil
		}}
	golang.Flags().StringVar(&out, "out", "", "file to write; standard output if left out")
	golang.Flags().StringVar(&name, "package", "", "name of the package; that of the file's directory if left out")
	golang.Flags().BoolVar(&check, "check", false, "compare the file and write nothing")
	return group("generate", "Source code made from the flags", golang)
}

func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

var carried = regexp.MustCompile(`(?m)^const Revision = "([0-9a-f]+)"$`)

// checkGenerated says whether a file is what would be written now.
func (s *session) checkGenerated(path string, source []byte, revision string, flags int) error {
	have, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return coded(exitUnsound, "%s is not there: write it without --check", path)
	}
	if err != nil {
		return err
	}
	if bytes.Equal(have, source) {
		s.note("%s is current: %d flags at definitions %s", path, flags, revision)
		return nil
	}
	old := "none"
	if m := carried.FindSubmatch(have); m != nil {
		old = string(m[1])
	}
	if old == revision {
		return coded(exitUnsound, "%s was changed by hand: write it anew without --check", path)
	}
	return coded(exitUnsound, "%s is stale: it carries definitions %s, the project is at %s; write it anew without --check", path, old, revision)
}
