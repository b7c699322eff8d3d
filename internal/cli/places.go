package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/settled"
	"greenlever.example/greenlever/internal/manage"
	"greenlever.example/greenlever/internal/wholefile"
	"greenlever.example/places"
	"greenlever.example/places/remove"
)

var (
	_ = listed("code", (*session).placesCommand)
	_ = listed("change", (*session).retireCommand)
	_ = listed("change", (*session).restoreCommand)
)

func (s *session) placesCommand() *cobra.Command {
	return group("places", "Where code asks for flags", s.placesScan(), s.placesList(), s.placesRemove(),
		s.placesForget())
}

func (s *session) placesScan() *cobra.Command {
	var report bool
	var scan app.Scan
	c := &cobra.Command{Use: "scan PATH", Short: "Find where the code below a folder asks for flags",
		Long: "Find where the code below a folder asks for flags: in Go by its syntax, elsewhere by its words, " +
			"comments left " +
			"out. With\n--report the service keeps what was found, in place of what the last scan of the same " +
			"branch did: a " +
			"flag's page shows it,\nand a flag that is in no code can be retired. The exit code is 8 where code " +
			"asks for " +
			"flags that nobody defined.",
		Example: "  greenlever places scan .\n  greenlever places scan . --report --repository locker-service " +
			"--branch main",
		Args: exactly("PATH"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			keys, err := s.allKeys(cmd.Context(), a, path)
			if err != nil {
				return err
			}
			found, err := places.Scan(cmd.Context(), args[0], keys, func(files int) {
				s.note("%d files ...", files)
			})
			if err != nil {
				return coded(exitUsage, "the code that is to be looked at: %w", err)
			}
			described(cmd.Context(), args[0], &scan)
			scan.Places, scan.Unknown, scan.Lines = placesOf(found.Places), placesOf(found.Unknown), found.Lines
			if report {
				if err := a.do(cmd.Context(), request{method: "PUT", path: path + "/places", body: scan},
					nil); err != nil {
					return err
				}
				s.note("reported: %s of %s at %s", scan.Branch, scan.Repository, scan.Commit)
			}
			if err := s.show(scan, func() { s.sayPlaces(&scan) }); err != nil {
				return err
			}
			s.note("%s in %s files, %s lines", counted(len(scan.Places), "place", "places"),
				strconv.Itoa(found.Files),
				strconv.FormatInt(found.Lines, 10))
			if len(scan.Unknown) > 0 {
				return coded(exitUnsound, "code asks for %s that nobody defined", counted(len(scan.Unknown),
					"flag", "flags"))
			}
			return nil
		}}
	f := c.Flags()
	f.BoolVar(&report, "report", false, "have the service keep what was found")
	f.StringVar(&scan.Repository, "repository", "", "its name; that of the folder if left out")
	f.StringVar(&scan.Branch, "branch", "", "the branch; git says it if left out")
	f.StringVar(&scan.Commit, "commit", "", "the id of the commit; git says it if left out")
	return c
}

// allKeys are the keys of all flags that the project has or had.
func (s *session) allKeys(ctx context.Context, a *api, path string) (keys []string, err error) {
	var all manage.Definitions
	if err := a.do(ctx, request{method: "GET", path: path + "/definitions"}, &all); err != nil {
		return nil, err
	}
	var over manage.Retiring
	if err := a.do(ctx, request{method: "GET", path: path + "/retiring"}, &over); err != nil {
		return nil, err
	}
	for _, d := range append(all.Items, over.Retired...) {
		keys = append(keys, d.Key)
	}
	return keys, nil
}

// described fills in what git knows of a folder.
func described(ctx context.Context, dir string, scan *app.Scan) {
	git := func(args ...string) string {
		out, err := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...).Output()
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(out))
	}
	if scan.Repository == "" {
		scan.Repository = filepath.Base(absolute(dir))
		if top := git("rev-parse", "--show-toplevel"); top != "" {
			scan.Repository = filepath.Base(top)
		}
	}
	if scan.Branch == "" {
		if scan.Branch = git("rev-parse", "--abbrev-ref", "HEAD"); scan.Branch == "" || scan.Branch == "HEAD" {
			scan.Branch = "main"
		}
	}
	at := ""
	if scan.Commit == "" {
		scan.Commit, at = git("rev-parse", "HEAD"), git("show", "-s", "--format=%ct", "HEAD")
	} else {
		at = git("show", "-s", "--format=%ct", scan.Commit)
	}
	if scan.Commit == "" {
		scan.Commit = "none"
	}
	scan.At = time.Now().UnixMilli()
	if seconds, err := strconv.ParseInt(at, 10, 64); err == nil {
		scan.At = seconds * 1_000
	}
}

func placesOf(all []places.Place) []app.CodePlace {
	out := make([]app.CodePlace, len(all))
	for i, p := range all {
		out[i] = app.CodePlace(p)
	}
	return out
}

func (s *session) sayPlaces(scan *app.Scan) {
	last := ""
	all := slices.Clone(scan.Places)
	slices.SortStableFunc(all, func(a, b app.CodePlace) int { return strings.Compare(a.Flag, b.Flag) })
	for _, p := range all {
		if p.Flag != last {
			s.say("%s", s.screen.paint(strong, p.Flag))
			last = p.Flag
		}
		s.say("  %s:%d  %s  %s", p.File, p.Line, s.screen.paint(faint, p.How), p.Code)
	}
	for _, p := range scan.Unknown {
		s.note("careful: %s:%d asks for %s, which nobody defined", p.File, p.Line, p.Flag)
	}
}

func (s *session) placesList() *cobra.Command {
	var key string
	c := &cobra.Command{Use: "list", Short: "Where code asks for flags, as it was reported", Args: exactly(),
		Example: "  greenlever places list --flag one-touch-open",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if key != "" {
				key = "?flag=" + key
			}
			var all manage.Code
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/places" + key}, &all); err != nil {
				return err
			}
			return s.show(all, func() {
				for i := range all.Scans {
					one := &all.Scans[i]
					s.say("%s, %s at %s, %s", s.screen.paint(strong, one.Repository), one.Branch, one.Commit,
						s.when(one.At))
					s.sayPlaces(&app.Scan{Places: one.Places})
				}
				for _, u := range all.Unknown {
					why := "which nobody defined"
					if u.Retired {
						why = "which is retired"
					} else if u.Nearest != "" {
						why += "; did you mean " + u.Nearest + "?"
					}
					s.note("careful: %s/%s:%d asks for %s, %s", u.Repository, u.File, u.Line, u.Flag, why)
				}
				if len(all.Unasked) > 0 {
					s.note("no code asks for %s", strings.Join(all.Unasked, ", "))
				}
				if len(all.Scans) == 0 {
					s.note("nothing was reported yet; %s does", s.next("places", "scan", ".", "--report"))
				}
			})
		}}
	c.Flags().StringVar(&key, "flag", "", "only this flag")
	return c
}

func (s *session) placesForget() *cobra.Command {
	return &cobra.Command{Use: "forget REPOSITORY BRANCH", Short: "Forget what was reported of a branch that is " +
		"gone",
		Example: "  greenlever places forget locker-service trial", Args: exactly("REPOSITORY", "BRANCH"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/places/forget",
				body: map[string]any{"repository": args[0], "branch": args[1], "reason": s.because}},
				nil); err != nil {
				return err
			}
			s.note("forgotten: %s of %s", args[1], args[0])
			return nil
		}}
}

func (s *session) placesRemove() *cobra.Command {
	var dir, variant string
	var write, tests bool
	c := &cobra.Command{Use: "remove FLAG", Short: "Rewrite Go code to the branch that everybody gets",
		Long: "Rewrite the Go code of a module so that it asks for a flag no more: where it did stands what " +
			"everybody gets, " +
			"and of\nconditions the branch that everybody takes. The difference is shown; --write writes it. " +
			"What is not sure " +
			"is left as it is,\nand named with the reason. What is written compiles and is formatted.",
		Example: "  greenlever places remove one-touch-open --dir . --variant on\n" +
			"  greenlever places remove one-touch-open --dir . --variant on --write",
		Args: exactly("FLAG"), RunE: func(cmd *cobra.Command, args []string) error {
			value, given, err := s.finalValue(cmd.Context(), args[0], variant)
			if err != nil {
				return err
			}
			s.note("everybody gets %s", given)
			r, err := remove.Flag(cmd.Context(), remove.Options{Dir: dir, Key: args[0], Value: value, Tests: tests})
			if err != nil {
				return coded(exitFailed, "%s: %w", dir, err)
			}
			for _, l := range r.Left {
				s.note("left: %s", l)
			}
			if err := s.show(r, func() {
				for i := range r.Files {
					s.say("%s", strings.TrimSuffix(r.Files[i].Diff(), "\n"))
				}
			}); err != nil {
				return err
			}
			if r.Asked == 0 {
				s.note("no Go code below %s asks for %s", dir, args[0])
				return nil
			}
			if !write {
				s.note("%s would change; add --write to have them written", counted(len(r.Files), "file", "files"))
				return nil
			}
			for i := range r.Files {
				if err := wholefile.Write(filepath.Join(dir, r.Files[i].Path), r.Files[i].New); err != nil {
					return err
				}
			}
			s.note("%s written, %s left", counted(len(r.Files), "file", "files"), counted(len(r.Left), "place",
				"places"))
			return nil
		}}
	f := c.Flags()
	f.StringVar(&dir, "dir", ".", "the folder of the module")
	f.StringVar(&variant, "variant", "", "the variant that everybody gets; what all were given last if left out")
	f.BoolVar(&write, "write", false, "write the files")
	f.BoolVar(&tests, "tests", false, "in tests as well")
	return c
}

// finalValue is the value that everybody gets of a flag: that of a variant, or of the one that all were given.
func (s *session) finalValue(ctx context.Context, key, variant string) (value any, given string, err error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, "", err
	}
	path += "/flags/" + key
	var d app.Definition
	if err := a.do(ctx, request{method: "GET", path: path}, &d); err != nil {
		return nil, "", err
	}
	finals := map[string]string{}
	if d.Retired != nil {
		finals = d.Retired.Final
	} else if variant == "" {
		var r settled.Readiness
		if err := a.do(ctx, request{method: "GET", path: path + "/readiness"}, &r); err != nil {
			return nil, "", err
		}
		for _, in := range r.In {
			if len(in.Given) > 1 {
				return nil, "", coded(exitConflict, "in %s several variants were given: say with --variant "+
					"which one stays",
					in.Environment)
			}
			if in.Variant != "" {
				finals[in.Environment] = in.Variant
			}
		}
	}
	for env, v := range finals {
		if variant != "" && v != variant {
			s.note("careful: in %s all got %s", env, v)
			continue
		}
		variant = v
	}
	if variant == "" {
		return nil, "", coded(exitConflict, "nobody asked for %s lately: say with --variant which one stays", key)
	}
	at := slices.IndexFunc(d.Variants, func(v app.Variant) bool { return v.Name == variant })
	if at < 0 {
		return nil, "", coded(exitInvalid, "%q is no variant of %s", variant, key)
	}
	if err := json.Unmarshal(d.Variants[at].Value, &value); err != nil {
		return nil, "", err
	}
	return value, variant + ", " + string(d.Variants[at].Value), nil
}

func (s *session) retireCommand() *cobra.Command {
	var force bool
	c := &cobra.Command{Use: "retire [FLAG]", Short: "Take a flag out of use; without one, list what is ready",
		Long: "Take a flag out of use: its documents are gone everywhere, who still asks for it gets the " +
			"fallback and shows on " +
			"the radar,\nand its key is never used again. It is refused unless one variant was given to all for " +
			"a while in " +
			"every environment, no\nrelease of it runs, and no code asks for it or no process did for a while. " +
			"Without a flag: " +
			"those that are ready.",
		Example: "  greenlever retire\n  greenlever retire weather-holds --because 'the new scheduler holds by " +
			"itself'",
		Args: cobra.MaximumNArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return s.listRetiring(cmd.Context(), a, path)
			}
			at := path + "/flags/" + args[0]
			var r settled.Readiness
			if err := a.do(cmd.Context(), request{method: "GET", path: at + "/readiness"}, &r); err != nil {
				return err
			}
			s.sayReadiness(args[0], &r)
			if !r.Ready && !force {
				return coded(exitConflict, "%s is not ready to be retired", args[0])
			}
			if s.try {
				return s.show(r, func() {})
			}
			if err := s.confirm([]words.Said{words.Say("retire %s", words.Key(args[0]))}, !s.yes); err != nil {
				return err
			}
			var d app.Definition
			if err := a.do(cmd.Context(), request{method: "POST", path: at + "/retire", body: map[string]any{
				"force": force, "reason": s.because}}, &d); err != nil {
				return err
			}
			return s.show(d, func() { s.note("%s is retired; %s brings it back", d.Key, s.next("restore", d.Key)) })
		}}
	c.Flags().BoolVar(&force, "although", false, "although it is not ready, as a keeper of the installation")
	return c
}

func (s *session) sayReadiness(key string, r *settled.Readiness) {
	for _, in := range r.In {
		says := "nobody asked"
		switch {
		case len(in.Given) > 0:
			says = "several variants were given: " + strings.Join(in.Given, ", ")
		case in.Variant != "":
			says = fmt.Sprintf("all got %s for %s", in.Variant, r.Span)
		}
		if len(in.Could) > 0 {
			says += "; could still give another: " + strings.Join(in.Could, ", ")
		}
		s.note("%s in %s: %s", key, in.Environment, says)
	}
	for _, p := range r.Places {
		s.note("  %s:%d  %s", p.File, p.Line, p.Code)
	}
	for _, w := range r.InTheWay {
		s.note("in the way: %s", said(w))
	}
}

func (s *session) listRetiring(ctx context.Context, a *api, path string) error {
	var all manage.Retiring
	if err := a.do(ctx, request{method: "GET", path: path + "/retiring"}, &all); err != nil {
		return err
	}
	return s.show(all, func() {
		var rows [][]any
		for _, f := range all.Ready {
			rows = append(rows, []any{f.Key, f.Title, f.GoneBy, strings.Join(f.Owners, " "), "ready"})
		}
		for i := range all.Retired {
			d := &all.Retired[i]
			rows = append(rows, []any{d.Key, d.Title, d.GoneBy, strings.Join(d.Owners, " "), "retired " +
				s.when(d.Retired.At)})
		}
		s.rows([]any{"flag", "name", "gone by", "owners", "is"}, rows)
		if len(rows) == 0 {
			s.note("none is ready to be retired, and none was")
		}
	})
}

func (s *session) restoreCommand() *cobra.Command {
	return &cobra.Command{Use: "restore FLAG", Short: "Bring a retired flag back, as it stood",
		Example: "  greenlever restore weather-holds --because 'the old scheduler still runs at one site'",
		Args:    exactly("FLAG"), RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if err := s.confirm([]words.Said{words.Say("restore %s", words.Key(args[0]))}, !s.yes); err != nil {
				return err
			}
			var d app.Definition
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/flags/" + args[0] + "/restore",
				body: map[string]any{"reason": s.because}}, &d); err != nil {
				return err
			}
			return s.show(d, func() { s.note("%s is back, as it stood", d.Key) })
		}}
}
