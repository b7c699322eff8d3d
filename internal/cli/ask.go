package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/core/bucket"
	"greenlever.example/core/condition"
	"greenlever.example/core/decide"
	"greenlever.example/core/flag"
	"greenlever.example/core/sentence"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app/audit"
	"greenlever.example/greenlever/internal/app/preview"
	"greenlever.example/greenlever/internal/app/stops"
	"greenlever.example/greenlever/internal/manage"
)

func (s *session) whyCommand() *cobra.Command {
	var set []string
	var at, against, againstAt string
	var revision int64
	c := &cobra.Command{Use: "why FLAG [UNIT]", Short: "Why does a unit get what it gets, step by step",
		Example: "  greenlever why night-batching recipient-17 --set site.id=site-12 --set crew_size=3 --env production",
		Args:    cobra.RangeArgs(1, 2), RunE: func(cmd *cobra.Command, args []string) error {
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
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/flags/" + url.PathEscape(args[0]) + "/why", body: body}, &w); err != nil {
				return err
			}
			return s.show(w, func() { s.printWhy(&w) })
		}}
	c.Flags().StringArrayVar(&set, "set", nil, "NAME=VALUE: an attribute; true, false, numbers and JSON lists are read as such, everything else as text")
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
	s.say("%s gives %s %s", w.Flag, w.Variant, string(w.Value))
	s.say("because %s", wrap(said(w.Because), s.wide(), 8))
	s.say("reason %s, revision %d of epoch %d, made %s", w.Reason, w.Revision, w.Epoch, when(w.Made))
	s.say("attributes %s", whence(w.From, w.Seen))
	for _, u := range w.Unknown {
		s.say("not known: %s", wrap(said(u), s.wide(), 11))
	}
	if len(w.Unknown) > 0 {
		s.note("attributes are given with --set NAME=VALUE")
	}
	s.say("")
	s.say("%-3s stops: %s", mark(len(w.Stops) == 0), orNone(w.Stops))
	s.say("%-3s lever: %s", mark(w.Lever == flag.On), w.Lever)
	for _, n := range w.Needs {
		s.say("%-3s needs %s to give %s: it gives %s", mark(n.Met), n.Flag, n.Wants, n.Gave)
	}
	for i := range w.Rules {
		r := &w.Rules[i]
		s.say("%-3s rule %q %s", map[bool]string{true: "->", false: "  "}[r.ID == w.Rule && r.ID != ""], r.Name, r.Says)
		s.printCondition(&r.Condition, 6)
		s.printShares(r.Shares)
	}
	if w.End != nil || w.Rule == "" && w.Reason != "DISABLED" {
		s.say("->  end")
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
func whence(from string, seen int64) string {
	switch from {
	case "seen":
		return "as they were last seen, at " + when(seen)
	case "test":
		return "of the test unit"
	case "key":
		return "are not known: only the key is"
	}
	return "as given"
}

func mark(ok bool) string { return map[bool]string{true: "ok", false: "!!"}[ok] }

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
	line := fmt.Sprintf("%s%s %s", pad, truth, said(x.Words))
	if x.Seen != "" {
		line += "; seen: " + x.Seen
	}
	if len(x.Note) > 0 {
		line += " (" + said(x.Note) + ")"
	}
	s.say("%s", line)
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
			here = "   <- here"
		}
		var ranges []string
		for _, r := range p.Ranges {
			ranges = append(ranges, fmt.Sprintf("from %s to %s", bucket.Percent(r[0]), bucket.Percent(r[1])))
		}
		s.say("        %-14s %-10s %s%s", name, bucket.Percent(p.Share), strings.Join(ranges, ", "), here)
	}
}

func (s *session) stopCommand() *cobra.Command {
	return &cobra.Command{Use: "stop FLAG...", Short: "Force flags to their resting variants at once; asks nothing", Args: atLeastOne("flag"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			body := map[string]any{"flags": args, "reason": s.because}
			if s.try {
				return s.tryStop(cmd.Context(), a, path+"/stops", body)
			}
			var out stops.Stopped
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/stops", body: body}, &out); err != nil {
				return err
			}
			return s.show(out, func() {
				s.say("%s", out.Stop)
				lift := []string{"lift", out.Stop}
				if env.AskFirst {
					lift = append(lift, "--because", "it is mended")
				}
				s.note("stopped in %s at revision %d: %s\nsee who has it:  %s\ntake it back:    %s",
					s.env, out.Revision, strings.Join(out.Flags, ", "), s.next("instances"), s.next(lift...))
			})
		}}
}

// tryStop shows what a stop or a lift would move.
func (s *session) tryStop(ctx context.Context, a *api, path string, body map[string]any) error {
	var tried struct {
		stops.Stopped
		Preview *preview.Preview `json:"preview"`
	}
	if err := a.do(ctx, request{method: "POST", path: path + "?dryRun=true", body: body}, &tried); err != nil {
		return err
	}
	return s.tried(tried, nil, tried.Preview, nil)
}

func (s *session) liftCommand() *cobra.Command {
	return &cobra.Command{Use: "lift [STOP...]", Short: "Take stops back; without an id, lists those that stand", RunE: func(cmd *cobra.Command, args []string) error {
		a, path, env, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		var all struct{ Items []manage.StopView }
		if err := a.do(cmd.Context(), request{method: "GET", path: path + "/stops"}, &all); err != nil {
			return err
		}
		var standing [][]any
		var what []words.Said
		for _, st := range all.Items {
			if st.LiftedAt == 0 {
				standing = append(standing, []any{st.ID, strings.Join(st.Flags, ", "), st.ByName, when(st.At), st.Reason})
				for _, id := range args {
					if id == st.ID {
						what = append(what, words.Say("lift the stop of %s", strings.Join(st.Flags, ", ")))
					}
				}
			}
		}
		if len(args) == 0 {
			return s.show(all.Items, func() { s.rows([]any{"stop", "flags", "by", "at", "reason"}, standing) })
		}
		if s.try {
			return s.tryStop(cmd.Context(), a, path+"/lifts", map[string]any{"stops": args, "reason": "not said yet"})
		}
		if err := s.confirm(what, env.AskFirst); err != nil {
			return err
		}
		var out stops.Stopped
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/lifts", body: map[string]any{"stops": args, "reason": s.because}}, &out); err != nil {
			return err
		}
		return s.show(out, func() { s.note("lifted in %s at revision %d: %s", s.env, out.Revision, strings.Join(out.Flags, ", ")) })
	}}
}

func parseWhen(text string) (int64, error) {
	if ms, err := strconv.ParseInt(text, 10, 64); err == nil {
		return ms, nil
	}
	t, err := parseTime(text)
	if err != nil {
		return 0, coded(exitUsage, "%q is no time: write 2026-11-23T08:00:00Z", text)
	}
	return t.UnixMilli(), nil
}

// historyPage is a page of the history as the API answers it.
type historyPage struct {
	Items  []manage.HistoryEntry `json:"items"`
	Cursor string                `json:"cursor,omitempty"`
}

func (s *session) historyCommand() *cobra.Command {
	var flagKey, person, from, to string
	var limit int
	var access bool
	c := &cobra.Command{Use: "history", Short: "Who changed what, when, why and through what", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		var a *api
		var path string
		var err error
		if access {
			a, err = s.connect()
		} else {
			a, path, err = s.inProject(cmd.Context())
		}
		if err != nil {
			return err
		}
		q := url.Values{"limit": {strconv.Itoa(min(limit, 200))}}
		for name, v := range map[string]string{"environment": s.env, "flag": flagKey, "person": person, "from": from, "to": to} {
			if v != "" && !(access && name == "environment") {
				q.Set(name, v)
			}
		}
		var all historyPage
		for {
			var page historyPage
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/history?" + q.Encode()}, &page); err != nil {
				return err
			}
			all.Items = append(all.Items, page.Items...)
			if page.Cursor == "" || len(all.Items) >= limit {
				break
			}
			q.Set("cursor", page.Cursor)
		}
		return s.show(all.Items, func() {
			for i := range all.Items {
				s.printEntry(&all.Items[i])
			}
		})
	}}
	f := c.Flags()
	f.StringVar(&flagKey, "flag", "", "only what changed this flag")
	f.StringVar(&person, "person", "", "only what this person did; the account's id")
	f.StringVar(&from, "from", "", "from this time on")
	f.StringVar(&to, "to", "", "before this time")
	f.IntVar(&limit, "limit", 20, "how many entries")
	f.BoolVar(&access, "access", false, "the chain of accounts, keys and sign-ins instead")
	return c
}

func (s *session) printEntry(e *manage.HistoryEntry) {
	who := e.Name
	if who == "" {
		who = e.Actor.Kind
	}
	where := e.Environment
	if e.Revision > 0 {
		where += fmt.Sprintf(" revision %d", e.Revision)
	}
	s.say("%s  %s  %s  %s  by %s through %s", when(e.At), e.Action, e.Subject, where, who, e.Actor.Through)
	for _, line := range e.Difference {
		s.say("    %s", wrap(said(line), s.wide(), 4))
	}
	if e.Reason != "" {
		s.say("    because %s", wrap(e.Reason, s.wide(), 12))
	}
}

func (s *session) verifyCommand() *cobra.Command {
	var file, pin, heads string
	var access bool
	c := &cobra.Command{Use: "verify", Short: "Verify the audit's chains, in the service or from an export", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		r := &audit.Report{}
		if file != "" {
			f, err := os.Open(file)
			if err != nil {
				return err
			}
			defer f.Close()
			held, err := readHeads(heads)
			if err != nil {
				return err
			}
			if r, err = audit.VerifyExport(f, pin, held); err != nil {
				return err
			}
		} else {
			a, path, err := s.chainsOf(cmd, access)
			if err != nil {
				return err
			}
			if pin != "" || heads != "" {
				return coded(exitUsage, "--pin and --heads go with --file: what the service itself says of its keys needs no trust from outside; write an export first")
			}
			for cursor := ""; ; cursor = "?cursor=" + r.Cursor {
				r = &audit.Report{}
				if err := a.do(cmd.Context(), request{method: "GET", path: path + "/verify" + cursor}, r); err != nil {
					return err
				}
				if r.Cursor == "" {
					break
				}
				s.note("%d entries so far ...", r.Entries)
			}
		}
		if err := s.show(r, func() {
			s.say("entries %d, chains %d, signed heads %d, records beside them %d", r.Entries, len(r.Chains), r.Signed, r.Records)
			for _, h := range r.Chains {
				s.say("  %-16s to %-6d %s", h.Chain, h.Sequence, h.Digest)
			}
		}); err != nil {
			return err
		}
		if r.Sound() {
			s.note("sound: nothing was altered")
			return nil
		}
		for _, f := range r.Findings {
			s.note("  %s", f)
		}
		return coded(exitUnsound, "the chain is NOT sound: %d findings", len(r.Findings))
	}}
	c.Flags().StringVar(&file, "file", "", "an export to verify, without any service")
	c.Flags().StringVar(&pin, "pin", "", "with --file: a public key that you know from elsewhere; heads must be signed with it")
	c.Flags().StringVar(&heads, "heads", "", "with --file: signed heads that were kept elsewhere, such as audit.heads of a node or the file of serve --heads")
	c.Flags().BoolVar(&access, "access", false, "the chain of accounts, keys and sign-ins instead")
	return c
}

// readHeads reads signed heads: a list, as a node keeps it, or a line each.
func readHeads(path string) (all []audit.SignedHead, err error) {
	if path == "" {
		return nil, nil
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if json.Unmarshal(raw, &all) == nil {
		return all, nil
	}
	all = nil
	dec := json.NewDecoder(bytes.NewReader(raw))
	for dec.More() {
		var h audit.SignedHead
		if err := dec.Decode(&h); err != nil {
			return nil, fmt.Errorf("%s holds no signed heads: %w", path, err)
		}
		all = append(all, h)
	}
	return all, nil
}

func (s *session) chainsOf(cmd *cobra.Command, access bool) (*api, string, error) {
	if access {
		a, err := s.connect()
		return a, "", err
	}
	return s.inProject(cmd.Context())
}

func (s *session) exportCommand() *cobra.Command {
	var access bool
	c := &cobra.Command{Use: "export", Short: "Write the audit's chains as lines of JSON, with signed heads", Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
		a, path, err := s.chainsOf(cmd, access)
		if err != nil {
			return err
		}
		res, err := a.send(cmd.Context(), request{method: "GET", path: path + "/export"})
		if err != nil {
			return err
		}
		defer res.Body.Close()
		_, err = io.Copy(s.out, res.Body)
		return err
	}}
	c.Flags().BoolVar(&access, "access", false, "the chain of accounts, keys and sign-ins instead")
	return c
}
