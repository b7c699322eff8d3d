// Package archtest holds the direction of imports, and that the core knows no clock.
package archtest

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

const (
	root   = "greenlever.example/greenlever"
	core   = "greenlever.example/core"
	client = "greenlever.example/client"
)

type pkg struct {
	ImportPath string
	Standard   bool
	Dir        string
	GoFiles    []string
	Imports    []string
	Deps       []string
}

func list(t *testing.T, dir string) map[string]pkg {
	t.Helper()
	cmd := exec.Command("go", "list", "-deps", "-json", "./...")
	cmd.Dir = dir
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]pkg{}
	dec := json.NewDecoder(strings.NewReader(string(out)))
	for {
		var p pkg
		if err := dec.Decode(&p); err == io.EOF {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		all[p.ImportPath] = p
	}
}

func TestCoreIsPure(t *testing.T) {
	forbidden := regexp.MustCompile(
		`^(time|net|net/.*|os|os/.*|io/fs|database/.*|log|log/.*|context|syscall|math/rand.*|crypto/rand)$`)
	all := list(t, "../../core")
	seen := 0
	for path, p := range all {
		if !strings.HasPrefix(path, core) {
			if !p.Standard {
				t.Errorf("core depends on %s", path)
			}
			continue
		}
		seen++
		for _, i := range p.Imports {
			if forbidden.MatchString(i) && i != "net/netip" {
				t.Errorf("%s imports %s", path, i)
			}
		}
	}
	if seen < 6 {
		t.Errorf("only %d packages of core were seen", seen)
	}
}

func TestClientNeedsCoreAlone(t *testing.T) {
	for path, p := range list(t, "../../client") {
		if !p.Standard && path != client && !strings.HasPrefix(path, client+"/") && !strings.HasPrefix(path, core) {
			t.Errorf("client depends on %s", path)
		}
	}
	raw, err := os.ReadFile("../../client/go.mod")
	if err != nil || strings.Count(string(raw), "v0.0.0") != 1 {
		t.Errorf("client's go.mod requires more than core: %v %s", err, raw)
	}
}

// client exposes no type of core.
func TestClientExposesNoCoreType(t *testing.T) {
	files, err := filepath.Glob("../../client/*.go")
	if err != nil || len(files) < 5 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for _, path := range files {
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		inner := map[string]bool{}
		for _, i := range f.Imports {
			if p := strings.Trim(i.Path.Value, `"`); strings.HasPrefix(p, core) {
				inner[p[strings.LastIndex(p, "/")+1:]] = true
			}
		}
		uses := func(what string, n ast.Node) {
			ast.Inspect(n, func(n ast.Node) bool {
				if s, ok := n.(*ast.SelectorExpr); ok {
					if x, ok := s.X.(*ast.Ident); ok && inner[x.Name] {
						t.Errorf("%s: %s exposes %s.%s", path, what, x.Name, s.Sel.Name)
					}
				}
				return true
			})
		}
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Name.IsExported() && (d.Recv == nil || exported(d.Recv.List[0].Type)) {
					uses(d.Name.Name, d.Type)
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					ts, ok := s.(*ast.TypeSpec)
					if !ok || !ts.Name.IsExported() {
						continue
					}
					if st, ok := ts.Type.(*ast.StructType); ok {
						for _, field := range st.Fields.List {
							for _, name := range field.Names {
								if name.IsExported() {
									uses(ts.Name.Name+"."+name.Name, field.Type)
								}
							}
						}
						continue
					}
					uses(ts.Name.Name, ts.Type)
				}
			}
		}
	}
}

func exported(e ast.Expr) bool {
	if s, ok := e.(*ast.StarExpr); ok {
		e = s.X
	}
	i, ok := e.(*ast.Ident)
	return ok && i.IsExported()
}

// The direction of imports: core <- app <- web <- edge, manage; store <- server <- cli <- cmd.
func TestDirectionOfImports(t *testing.T) {
	all := list(t, "../..")
	const surfaces = `web|edge|manage`
	rules := []struct{ from, never string }{
		{`/internal/app(/.*)?$`, `labstack/echo|spf13/cobra|jmoiron/sqlx|go-sql-driver|/internal/(store|` + surfaces +
			`|server|outpost|cli|sim|localdb)(/|$)`},
		{`/internal/app$`, `/internal/app/`}, // nouns stand on nothing of ours but the core
		{`/internal/app/admit$`, `/internal/app/`},
		{`/internal/store$`, `/internal/(` + surfaces + `|server|outpost|cli)$|labstack/echo`},
		{`/internal/web$`,
			`/internal/(store|edge|manage|server|outpost|cli)$|jmoiron/sqlx|go-sql-driver|/internal/app/(commit|people|preview|feed)$`},
		{`/internal/edge$`, `/internal/(store|manage|server|outpost|cli)$|jmoiron/sqlx|go-sql-driver`},
		{`/internal/manage$`, `/internal/(store|edge|server|outpost|cli)$|jmoiron/sqlx|go-sql-driver`},
		{`/internal/(server|outpost)$`, `/internal/cli$`},
		{`/internal/sim$`, `/internal/(store|app/)`},
		{`/internal/cli$`, `/internal/store$`},
	}
	for path, p := range all {
		if !strings.HasPrefix(path, root) {
			continue
		}
		for _, r := range rules {
			if !regexp.MustCompile(`^` + regexp.QuoteMeta(root) + r.from).MatchString(path) {
				continue
			}
			for _, i := range p.Imports {
				if regexp.MustCompile(r.never).MatchString(i) {
					t.Errorf("%s imports %s", path, i)
				}
			}
		}
	}
}

// An outpost decides and knows nothing of who manages: what it is made of holds no change, no account,
// no preview, no text form of conditions and no database.
func TestOutpostsManageNothing(t *testing.T) {
	never := regexp.MustCompile(
		`/internal/(manage|store|server|expr|app/(commit|admit|people|preview|flags|segments|keys|stops|environments|roles|audit))$|cel-go|jmoiron/sqlx|go-sql-driver`)
	for _, room := range []string{"/internal/edge", "/internal/outpost"} {
		p, is := list(t, "../..")[root+room]
		if !is || len(p.Deps) < 50 {
			t.Fatalf("%s: %d dependencies", room, len(p.Deps))
		}
		for _, d := range p.Deps {
			if never.MatchString(d) {
				t.Errorf("%s stands on %s", room, d)
			}
		}
	}
}

// Rights are asked for at the gate: package admit is used by what makes changes and by the surface
// that lets people in, and by no use case.
func TestRightsAreAskedForAtTheGate(t *testing.T) {
	for path, p := range list(t, "../..") {
		if !slices.Contains(p.Imports, root+"/internal/app/admit") {
			continue
		}
		switch strings.TrimPrefix(path, root+"/internal/") {
		case "app/commit", "app/people", "manage":
		default:
			t.Errorf("%s asks for rights by itself: say what a kind of change takes", path)
		}
	}
}

// Use cases say in small interfaces what they need: 8 methods at most, what is embedded among them.
func TestInterfacesAreNarrow(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		files, err := filepath.Glob(filepath.Join(path, "*.go"))
		if err != nil {
			return err
		}
		all := map[string]*ast.InterfaceType{}
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if ts, is := n.(*ast.TypeSpec); is {
					if it, is := ts.Type.(*ast.InterfaceType); is {
						all[ts.Name.Name] = it
					}
				}
				return true
			})
		}
		for name, it := range all {
			seen++
			if methods(all, it) > 8 {
				t.Errorf("%s.%s has %d methods: who needs which?", strings.TrimPrefix(path, "../"), name,
					methods(all, it))
			}
		}
		return nil
	})
	if err != nil || seen < 38 {
		t.Errorf("%d interfaces, %v", seen, err)
	}
}

// methods counts an interface's methods, with those of the package's own that it embeds.
func methods(all map[string]*ast.InterfaceType, it *ast.InterfaceType) (n int) {
	for _, m := range it.Methods.List {
		if id, is := m.Type.(*ast.Ident); is && all[id.Name] != nil {
			n += methods(all, all[id.Name])
			continue
		}
		n += max(1, len(m.Names))
	}
	return n
}

func TestMainIsShort(t *testing.T) {
	raw, err := os.ReadFile("../../cmd/greenlever/main.go")
	if err != nil || strings.Count(string(raw), "\n") >= 40 {
		t.Errorf("main.go: %v", err)
	}
}

// Features of the console do not import one another, and ui does not import api.
func TestConsoleImports(t *testing.T) {
	from := regexp.MustCompile(`(?:from|import\() ?"([^"]+)"`)
	seen := 0
	err := filepath.WalkDir("../../console/src", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".tsx") && !strings.HasSuffix(path, ".ts") {
			return err
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		seen++
		place, _ := filepath.Rel("../../console/src", path)
		// Which time it is, pages know of the service; lengths of time they may measure by themselves.
		if !slices.Contains([]string{"clock.ts", "api/queries.ts", "api/connection.ts", "draft/use.ts"}, place) &&
			strings.Contains(string(raw), "Date.now()") {
			t.Errorf("%s asks the browser which time it is: use clock()", place)
		}
		for _, m := range from.FindAllStringSubmatch(string(raw), -1) {
			if !strings.HasPrefix(m[1], ".") {
				continue
			}
			to := filepath.Join(filepath.Dir(place), m[1])
			feature := func(p string) string {
				return strings.Join(strings.SplitN(p, "/", 3)[:min(2, strings.Count(p, "/")+1)], "/")
			}
			if strings.HasPrefix(place, "features/") && strings.HasPrefix(to, "features/") &&
				feature(place) != feature(to) {
				t.Errorf("%s imports %s", place, to)
			}
			if strings.HasPrefix(place, "ui/") && strings.HasPrefix(to, "api/") {
				t.Errorf("%s imports %s", place, to)
			}
		}
		return nil
	})
	if err != nil || seen < 15 {
		t.Errorf("%d files, %v", seen, err)
	}
}

// What the console must not do, with the reason.
var neverInConsole = []struct{ pattern, but, why string }{
	{`\.error\) return`, "", "a page with data stays when reading anew fails: return on !data"},
	{`randomUUID`, "", "browsers leave it out over plain HTTP from another host"},
	{`location\.(assign|replace)\(|location\.href *=`, "draft/kept.ts", "leave() lets a page go without asking"},
	{`"beforeunload"`, "draft/kept.ts", "useGuard is the one that asks"},
}

func TestConsoleNever(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("../../console/src", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".tsx") && !strings.HasSuffix(path, ".ts") {
			return err
		}
		raw, err := os.ReadFile(path)
		for _, never := range neverInConsole {
			isHere := regexp.MustCompile(never.pattern).Match(raw)
			if never.but != "" && strings.HasSuffix(path, never.but) {
				seen++
				if !isHere {
					t.Errorf("%s has no %s: the test looks at nothing", path, never.pattern)
				}
			} else if isHere {
				t.Errorf("%s: %s: %s", path, never.pattern, never.why)
			}
		}
		return err
	})
	if err != nil || seen != 2 {
		t.Errorf("%d, %v", seen, err)
	}
}

// Transactions of the records begin in one place, where a connection that may still be in one is given up.
func TestTransactionsBeginOnce(t *testing.T) {
	begins := regexp.MustCompile(`\.(Begin|BeginTx|BeginTxx|Beginx|MustBegin)\(`)
	files, err := filepath.Glob("../store/*.go")
	n := 0
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		raw, readErr := os.ReadFile(file)
		found := len(begins.FindAll(raw, -1))
		if n += found; found > 0 && filepath.Base(file) != "tx.go" {
			t.Errorf("%s begins a transaction: use within", file)
		}
		err = errors.Join(err, readErr)
	}
	if n != 1 || err != nil {
		t.Errorf("%d places begin a transaction, %v", n, err)
	}
}

// Goroutines of the service, of outposts and of the client start in one place each, where a
// panic is caught: nothing that somebody sends may end the process. A command that looks through one's own code may.
func TestGoroutinesAreGuarded(t *testing.T) {
	exempt := regexp.MustCompile(
		`^(internal/(bench|sim|shots|browse|gltest|store/storetest|archtest)/|examples/|core/|places/|internal/app/guard/guard\.go|client/guard\.go|openfeature/provider\.go)`)
	seen := 0
	err := filepath.WalkDir("../..", func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		place := strings.TrimPrefix(filepath.ToSlash(path), "../../")
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && path != "../..") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(place, ".go") || strings.HasSuffix(place, "_test.go") || exempt.MatchString(place) {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		seen++
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine by itself: use package guard, or the client's guard.go", place)
			case *ast.CallExpr:
				if s, ok := n.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "Go" && len(n.Args) > 0 {
					if _, literal := n.Args[len(n.Args)-1].(*ast.FuncLit); !literal {
						return true
					}
					if x, ok := s.X.(*ast.Ident); !ok || x.Name != "guard" {
						t.Errorf("%s starts a goroutine by itself: use package guard, or the client's guard.go", place)
					}
				}
				if s, ok := n.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "AfterFunc" {
					if _, plain := n.Args[1].(*ast.Ident); !plain {
						t.Errorf("%s starts a goroutine by a timer: give it a plain function that cannot panic", place)
					}
				}
			}
			return true
		})
		return nil
	})
	if err != nil || seen < 100 {
		t.Errorf("%d files, %v", seen, err)
	}
}

// Columns are named: one that a newer release adds does not break a program of this one.
func TestColumnsAreNamed(t *testing.T) {
	files, err := filepath.Glob("../store/*.go")
	if err != nil || len(files) < 8 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	every := regexp.MustCompile(`(?i)SELECT\s+(\w+\.)?\*|INSERT( IGNORE)? INTO \w+ (VALUES|SELECT)`)
	for _, path := range files {
		raw, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, hit := range every.FindAllString(string(raw), -1) {
			t.Errorf("%s: %s", path, hit)
		}
	}
}

// What others send is read by one reader, which takes one value and nothing behind it; a decoder of
// streams stands only where a stream is read, or where a text is walked that was read before.
func TestJSONIsReadWhole(t *testing.T) {
	streams := map[string]bool{"core/condition/parse.go": true, "core/flag/check.go": true,
		"internal/app/audit/verify.go": true, "internal/cli/verify.go": true}
	exempt := regexp.MustCompile(`^(internal/(bench|sim|shots|gltest|archtest)/|examples/)`)
	seen := 0
	for _, root := range []string{"core", "client", "openfeature", "otel", "internal", "cmd"} {
		err := filepath.WalkDir("../../"+root, func(path string, d os.DirEntry, err error) error {
			place := strings.TrimPrefix(filepath.ToSlash(path), "../../")
			if err != nil || d.IsDir() || !strings.HasSuffix(place, ".go") || strings.HasSuffix(place, "_test.go") ||
				exempt.MatchString(place) || streams[place] {
				return err
			}
			raw, err := os.ReadFile(path)
			seen++
			if strings.Contains(string(raw), "json.NewDecoder(") {
				t.Errorf("%s decodes a stream: read with condition.Tree, strictjson or json.Unmarshal", place)
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if seen < 150 {
		t.Errorf("%d files", seen)
	}
}

// A line fits into 120 columns, where a tab takes four. Tests and programs that make data may hold longer ones,
// and so may texts between backquotes, which are written as they are read.
func TestLinesFit(t *testing.T) {
	exempt := regexp.MustCompile(`^internal/(bench|shots|store/storetest)/`)
	seen := 0
	for _, root := range []string{"core", "client", "openfeature", "otel", "internal", "cmd", "examples"} {
		err := filepath.WalkDir("../../"+root, func(path string, d os.DirEntry, err error) error {
			place := strings.TrimPrefix(filepath.ToSlash(path), "../../")
			if err != nil || d.IsDir() || !strings.HasSuffix(place, ".go") || strings.HasSuffix(place, "_test.go") ||
				exempt.MatchString(place) {
				return err
			}
			raw, err := os.ReadFile(path)
			for i, line := range strings.Split(string(raw), "\n") {
				seen++
				if n := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")); n >= 120 &&
					!strings.Contains(line, "`") {
					t.Errorf("%s:%d has %d columns", place, i+1, n)
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if seen < 30_000 {
		t.Errorf("%d lines", seen)
	}
}

// A file holds one thing, which takes 500 lines at most; tests aside.
func TestFilesAreShort(t *testing.T) {
	seen := 0
	for _, root := range []string{"core", "client", "openfeature", "otel", "internal", "cmd", "examples"} {
		err := filepath.WalkDir("../../"+root, func(path string, d os.DirEntry, err error) error {
			place := strings.TrimPrefix(filepath.ToSlash(path), "../../")
			if err != nil || d.IsDir() || !strings.HasSuffix(place, ".go") || strings.HasSuffix(place, "_test.go") ||
				strings.HasPrefix(place, "internal/store/storetest/") {
				return err
			}
			raw, err := os.ReadFile(path)
			if n := strings.Count(string(raw), "\n"); n > 500 {
				t.Errorf("%s has %d lines: what are the two things in it?", place, n)
			}
			seen++
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if seen < 200 {
		t.Errorf("%d files", seen)
	}
}
