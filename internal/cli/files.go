package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/apiclient"
	"greenlever.example/greenlever/internal/files"
	"greenlever.example/greenlever/internal/folder"
	"greenlever.example/greenlever/internal/wholefile"
)

var _ = listed("change", (*session).filesCommand)

func (s *session) filesCommand() *cobra.Command {
	return group("files", "A project as files under version control", s.filesSave(), s.filesCompare(), s.filesLoad())
}

// wholeProject reads a project as files keep it, with how its long lists are read.
func (s *session) wholeProject(ctx context.Context) (*api, string, *folder.Whole, folder.Units, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, "", nil, nil, err
	}
	var w folder.Whole
	if err := a.do(ctx, request{method: "GET", path: path + "/whole"}, &w); err != nil {
		return nil, "", nil, nil, err
	}
	units := func(segment, environment, list string) ([]string, error) {
		res, err := a.send(ctx, request{method: "GET", path: path + "/environments/" + url.PathEscape(environment) +
			"/segments/" + url.PathEscape(segment) + "/lists/" + list})
		if err != nil {
			return nil, err
		}
		defer res.Body.Close()
		raw, err := io.ReadAll(res.Body)
		if err != nil {
			return nil, err
		}
		if res.StatusCode != 200 {
			return nil, fmt.Errorf("list %s of segment %s could not be read: %s", list, segment, res.Status)
		}
		return strings.FieldsFunc(string(raw), func(r rune) bool { return r == '\n' }), nil
	}
	return a, path, &w, units, nil
}

func (s *session) filesSave() *cobra.Command {
	var o folder.Options
	var over bool
	var without []string
	c := &cobra.Command{Use: "save DIR", Short: "Write the project into a folder, a file for each flag",
		Long: "Write the project into a folder: a file for each flag with what it does in every environment, " +
			"segments, " +
			"attributes,\npolicies, ladders, recipes, metrics and bundles. Where a file is saved over, its " +
			"comments stay; " +
			"one that was edited since\nit was saved is not overwritten, unless --over. Nothing of it is secret.",
		Example: "  greenlever files save pinecrest\n" +
			"  greenlever files save pinecrest-open --without people,units",
		Args: exactly("DIR"), RunE: func(cmd *cobra.Command, args []string) error {
			for _, what := range without {
				switch what {
				case "people":
					o.WithoutPeople = true
				case "units":
					o.WithoutUnits = true
				default:
					return coded(exitUsage, "--without takes people and units, not %q", what)
				}
			}
			_, _, w, units, err := s.wholeProject(cmd.Context())
			if err != nil {
				return err
			}
			return s.saveInto(args[0], w, o, units, over)
		}}
	c.Flags().BoolVar(&o.Exact, "exact", false, "salts and buckets of shares as well, so that the same units "+
		"get the "+
		"same shares where it is loaded")
	c.Flags().StringSliceVar(&without, "without", nil, "leave out people (owners), units (lists of units, and "+
		"rules that "+
		"name units)")
	c.Flags().BoolVar(&over, "over", false, "overwrite files that were edited since they were saved")
	return c
}

// saveInto writes a project into a folder.
func (s *session) saveInto(dir string, w *folder.Whole, o folder.Options, units folder.Units, over bool) error {
	seen := versionsIn(dir)
	if seen != nil && seen.Project != w.Project.Key {
		return coded(exitConflict, "%s holds project %s, not %s: take another folder", dir, seen.Project,
			w.Project.Key)
	}
	all, err := w.Files(o, units)
	if err != nil {
		return err
	}
	read := func(at string) []byte {
		raw, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(at)))
		if err != nil {
			return nil
		}
		return raw
	}
	for at, raw := range all {
		if old := read(at); old != nil && strings.HasSuffix(at, ".yaml") {
			if all[at], err = files.Keeping(old, raw); err != nil {
				return err
			}
		}
	}
	if edited := seen.Edited(all, read); len(edited) > 0 && !over {
		return coded(exitConflict, "edited since they were saved, and not loaded: %s; load them, or add --over "+
			"to have "+
			"them overwritten", strings.Join(edited, ", "))
	}
	changed := 0
	for _, at := range sortedKeys(all) {
		if string(read(at)) == string(all[at]) {
			continue
		}
		changed++
		if err := writeBelow(dir, at, all[at]); err != nil {
			return err
		}
	}
	gone, err := s.dropSaved(dir, seen, all)
	if err != nil {
		return err
	}
	for _, kind := range append(files.Kinds(), "stages") {
		raw, err := files.Schema(kind)
		if err == nil {
			err = writeBelow(dir, folder.Sidecar+"/"+kind+".schema.json", raw)
		}
		if err != nil {
			return err
		}
	}
	saved, err := folder.Read(os.DirFS(dir))
	if err != nil {
		return below(dir, err)
	}
	v := w.Versions(all)
	v.Keep(saved, w)
	if err := keepVersions(dir, v); err != nil {
		return err
	}
	s.note("%s: %s, %d written, %d taken away", dir, counted(len(all), "file", "files"), changed, gone)
	return nil
}

// dropSaved takes files away that were saved and are no more, unless somebody edited them.
func (s *session) dropSaved(dir string, seen *folder.Versions, all map[string][]byte) (gone int, err error) {
	if seen == nil {
		return 0, nil
	}
	for _, at := range sortedKeys(seen.Files) {
		path := filepath.Join(dir, filepath.FromSlash(at))
		if _, is := all[at]; is || !filepath.IsLocal(filepath.FromSlash(at)) {
			continue
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			continue // it is away already
		}
		if edited := seen.Edited(map[string][]byte{at: nil}, func(string) []byte { return raw }); len(edited) > 0 {
			s.note("careful: %s is of the project no more, but was edited: it stays", at)
			continue
		}
		if err := os.Remove(path); err != nil {
			return gone, err
		}
		gone++
	}
	return gone, nil
}

func writeBelow(dir, at string, raw []byte) error {
	if !filepath.IsLocal(filepath.FromSlash(at)) {
		return fmt.Errorf("%q is no name of a file below %s", at, dir)
	}
	path := filepath.Join(dir, filepath.FromSlash(at))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return wholefile.Write(path, raw)
}

func versionsIn(dir string) *folder.Versions {
	raw, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(folder.VersionsFile)))
	if err != nil {
		return nil
	}
	return folder.ReadVersions(raw)
}

func keepVersions(dir string, v *folder.Versions) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return writeBelow(dir, folder.VersionsFile, append(raw, '\n'))
}

// loading is a folder while it is laid upon the project.
type loading struct {
	api   *api
	path  string // of the project
	whole *folder.Whole
	read  *folder.Folder
	todo  *folder.Todo
	body  map[string]any
}

// folderPlan reads a folder and says what it would change.
func (s *session) folderPlan(ctx context.Context, dir string, remove bool) (*loading, error) {
	read, err := folder.Read(os.DirFS(dir))
	if err != nil {
		return nil, coded(exitInvalid, "%w", below(dir, err))
	}
	if s.project == "" {
		s.project = read.Project.Key
	}
	a, path, w, units, err := s.wholeProject(ctx)
	if err != nil {
		return nil, err
	}
	todo, err := folder.Plan(w, read, folder.How{Units: units, Seen: versionsIn(dir), Remove: remove})
	if err != nil {
		return nil, coded(exitInvalid, "%w", below(dir, err))
	}
	return &loading{a, path, w, read, todo, map[string]any{"changes": todo.Changes}}, nil
}

// below puts the folder before the names of its files.
func below(dir string, err error) error {
	problems, is := err.(folder.Problems)
	if !is {
		return err
	}
	out := slices.Clone(problems)
	for i := range out {
		out[i].File = filepath.ToSlash(filepath.Join(dir, out[i].File))
	}
	return out
}

var atChange = regexp.MustCompile(`^changes\[(\d+)\]\.?(.*)$`)

// inFiles says a refusal of the service by the files that it comes from.
func (l *loading) inFiles(dir string, err error) error {
	var p *apiclient.Problem
	var c *codedError
	if !errors.As(err, &p) || !errors.As(err, &c) {
		return err
	}
	var out folder.Problems
	for _, f := range p.Fields {
		m := atChange.FindStringSubmatch(f.Place)
		if m == nil {
			return err
		}
		n, _ := strconv.Atoi(m[1])
		if n >= len(l.todo.From) {
			return err
		}
		out = append(out, l.todo.From[n].Problem(m[2], f.Mend))
	}
	if len(out) == 0 {
		return err
	}
	return coded(c.code, "%w", below(dir, out))
}

func (s *session) filesCompare() *cobra.Command {
	var remove bool
	c := &cobra.Command{Use: "compare DIR", Short: "What the files of a folder would change, and whom that moves",
		Long: "Say what the files of a folder would change of the project, in words, and whom that moves in each " +
			"environment. Nothing is\nchanged. The exit code is 8 where something would be, and 7 where a file " +
			"is wrong.",
		Example: "  greenlever files compare pinecrest", Args: exactly("DIR"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := s.folderPlan(cmd.Context(), args[0], remove)
			if err != nil {
				return err
			}
			for _, n := range l.todo.Notes {
				s.note("%s", n)
			}
			s.sayMoved(versionsIn(args[0]), l)
			if len(l.todo.Changes) == 0 {
				return s.show(l.todo.Changes, func() { s.say("the folder and the project are the same") })
			}
			tried, err := s.lookAhead(cmd.Context(), l.api, l.path+"/changes", l.body)
			if err != nil {
				return l.inFiles(args[0], err)
			}
			s.sayPlan(tried)
			if err := s.show(tried, func() {}); err != nil {
				return err
			}
			return coded(exitUnsound, "%s would change", counted(len(tried.Items), "thing", "things"))
		}}
	c.Flags().BoolVar(&remove, "remove", false, "count what the folder does not have as taken away")
	return c
}

// sayMoved names what was changed in the service since the folder was saved, and gives it.
func (s *session) sayMoved(seen *folder.Versions, l *loading) []string {
	moved := seen.Moved(l.whole.Versions(nil), l.todo.Things)
	if seen != nil {
		for _, thing := range moved {
			s.note("careful: %s was changed in the service since the folder was saved", thing)
		}
	}
	return moved
}

func (s *session) filesLoad() *cobra.Command {
	var remove bool
	var commit string
	var overwrite []string
	c := &cobra.Command{Use: "load DIR", Short: "Make the project what the files of a folder say, in one change",
		Long: "Make the project what the files of a folder say, in one change, or with --propose as a proposal. " +
			"What was " +
			"changed in the\nservice since the folder was saved is not overwritten: both sides are shown, and " +
			"--overwrite " +
			"names what is to be. Without\nversions beside the files all that they would overwrite is to be " +
			"named. Nothing " +
			"is taken away without --remove.",
		Example: "  greenlever files load pinecrest --try\n" +
			"  greenlever files load pinecrest --commit 4be1f0c --because 'as reviewed'",
		Args: exactly("DIR"), RunE: func(cmd *cobra.Command, args []string) error {
			dir := args[0]
			l, err := s.folderPlan(cmd.Context(), dir, remove)
			if err != nil {
				return err
			}
			for _, n := range l.todo.Notes {
				s.note("%s", n)
			}
			if len(l.todo.Changes) == 0 {
				s.note("the folder and the project are the same: nothing was changed")
				return s.show(l.todo.Changes, func() {})
			}
			if commit != "" {
				l.body["commit"] = commit
			}
			if err := s.mayOverwrite(cmd.Context(), dir, l, overwrite); err != nil {
				return err
			}
			return s.load(cmd.Context(), dir, l)
		}}
	c.Flags().BoolVar(&remove, "remove", false, "take away what the folder does not have: attributes, policies, "+
		"ladders, "+
		"recipes, metrics and bundles")
	c.Flags().StringVar(&commit, "commit", "", "the id of the commit that the files are of, which the audit keeps")
	c.Flags().StringSliceVar(&overwrite, "overwrite", nil, "what may be overwritten although it was changed in the "+
		"service, such as flag/one-touch-open/production; all: everything")
	return c
}

// mayOverwrite refuses to overwrite what others changed meanwhile, and shows both sides.
func (s *session) mayOverwrite(ctx context.Context, dir string, l *loading, named []string) error {
	seen := versionsIn(dir)
	moved := seen.Moved(l.whole.Versions(nil), l.todo.Things)
	moved = slices.DeleteFunc(moved, func(thing string) bool {
		return slices.Contains(named, "all") || slices.Contains(named, thing)
	})
	if len(moved) == 0 {
		return nil
	}
	tried, err := s.lookAhead(ctx, l.api, l.path+"/changes", l.body)
	if err != nil {
		return l.inFiles(dir, err)
	}
	s.note("the folder would change:")
	s.sayPlan(tried)
	for _, thing := range moved {
		key, _, _ := strings.Cut(strings.SplitN(thing, "/", 2)[1]+"/", "/")
		var page historyPage
		if err := l.api.do(ctx, request{method: "GET", path: l.path + "/history?limit=3&flag=" +
			url.QueryEscape(key)},
			&page); err != nil {
			return err
		}
		s.note("the service has of %s:", thing)
		for i := range page.Items {
			s.note("  %s  %s by %s", s.when(page.Items[i].At), page.Items[i].Action, page.Items[i].Name)
			for _, line := range page.Items[i].Difference {
				s.note("    %s", said(line))
			}
		}
	}
	why := "was changed in the service since the folder was saved"
	if seen == nil {
		why = "is there already, and no versions stand beside the files"
	}
	return coded(exitConflict, "%s %s: nothing was changed; add --overwrite %s to have it overwritten, or save the "+
		"project into another folder and lay them together", strings.Join(moved, ", "), why, strings.Join(moved,
		","))
}

// load has the changes made, and notes the versions that stand then.
func (s *session) load(ctx context.Context, dir string, l *loading) error {
	tried, err := s.lookAhead(ctx, l.api, l.path+"/changes", l.body)
	if err != nil {
		return l.inFiles(dir, err)
	}
	s.sayPlan(tried)
	if s.try {
		return s.show(tried, func() {})
	}
	asking, err := s.asking(ctx, l.api, l.path, tried)
	if err != nil {
		return err
	}
	units, err := s.confirmAll(tried, asking)
	if err != nil {
		return err
	}
	if len(units) > 0 {
		l.body["units"] = units
	}
	delete(l.body, "reason")
	if s.because != "" {
		l.body["reason"] = s.because
	}
	if err := l.api.do(ctx, request{method: "POST", path: l.path + "/changes", body: l.body}, nil); err != nil {
		return l.inFiles(dir, err)
	}
	_, _, now, _, err := s.wholeProject(ctx)
	if err != nil {
		return err
	}
	written := map[string][]byte{}
	err = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		at, err := filepath.Rel(dir, path)
		if err != nil || d.IsDir() {
			if d.IsDir() && path != dir && strings.HasPrefix(d.Name(), ".") {
				return filepath.SkipDir
			}
			return err
		}
		if at = filepath.ToSlash(at); folder.Ours(at) {
			written[at], err = os.ReadFile(path)
		}
		return err
	})
	if err != nil {
		return err
	}
	v := now.Versions(written)
	v.Keep(l.read, now)
	if seen := versionsIn(dir); seen != nil {
		for _, thing := range l.todo.Stayed { // it still is what somebody else changed
			v.Things[thing] = seen.Things[thing]
		}
	}
	if err := keepVersions(dir, v); err != nil {
		return err
	}
	return s.show(tried, func() { s.note("done: %s", counted(len(tried.Items), "change", "changes")) })
}
