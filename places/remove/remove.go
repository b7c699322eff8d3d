// Package remove takes a flag out of Go source: where it is asked for stands what everybody gets, and of conditions the
// branch that everybody takes.
//
// Its noun is a [Result]: what the files would be, and the places that were left, with the reason. The smallest use:
//
//	r, err := remove.Flag(ctx, remove.Options{Dir: ".", Key: "one-touch-open", Value: true})
//	for _, f := range r.Files { fmt.Print(f.Diff()) }
//
// What is rewritten compiles and is formatted; a rewriting that would not compile is left out. Bytes are cut out of the
// text, so comments and layout of the rest stay.
package remove

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"go/ast"
	"go/constant"
	"go/format"
	"go/token"
	"go/types"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/pmezard/go-difflib/difflib"
	"golang.org/x/tools/go/packages"
)

// Client is the package that is asked for flags.
const Client = "greenlever.example/client"

// Options say what is taken out of what.
type Options struct {
	Dir   string // of a module
	Key   string // of the flag
	Value any    // that everybody gets: bool, string or float64
	Tests bool   // in tests as well
}

// Result is what would be written, and what is left.
type Result struct {
	Files []File
	Left  []Left
	Asked int // places where the flag was asked for
}

// File is a file that changes.
type File struct {
	Path     string // below the folder
	Old, New []byte
}

// Diff is a unified diff of the file, as `patch -p1` takes it.
func (f *File) Diff() string {
	out, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(string(f.Old)),
		B: difflib.SplitLines(string(f.New)), FromFile: "a/" + filepath.ToSlash(f.Path),
		ToFile: "b/" + filepath.ToSlash(f.Path), Context: 3})
	if err != nil {
		return err.Error() // of a writer that cannot fail
	}
	return out
}

// Left is a place that was left as it is.
type Left struct {
	Path string
	Line int
	Why  string
}

func (l Left) String() string { return fmt.Sprintf("%s:%d: %s", l.Path, l.Line, l.Why) }

// Flag takes a flag out. Errors are of the module, such as one that does not compile.
func Flag(ctx context.Context, o Options) (*Result, error) {
	switch o.Value.(type) {
	case bool, string, float64:
	default:
		return nil, fmt.Errorf("a flag whose value is %T is taken out by hand", o.Value)
	}
	set := token.NewFileSet()
	loaded, err := packages.Load(&packages.Config{Context: ctx, Dir: o.Dir, Fset: set, Tests: o.Tests,
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes |
			packages.NeedTypesInfo | packages.NeedImports}, "./...")
	if err != nil {
		return nil, err
	}
	r := &remover{Options: o, set: set, files: map[string]*file{}, handles: map[types.Object]*ast.ValueSpec{}}
	root, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	r.root = root
	for _, p := range loaded {
		for _, e := range p.Errors {
			return nil, fmt.Errorf("the module does not compile as it is: %w", e)
		}
	}
	for _, p := range loaded {
		r.collect(p)
	}
	for _, p := range loaded {
		r.rewrite(p)
	}
	return r.result()
}

// remover is a flag while it is taken out.
type remover struct {
	Options
	root    string
	set     *token.FileSet
	files   map[string]*file // by path
	order   []*file
	handles map[types.Object]*ast.ValueSpec // variables that are handles of the flag
	out     Result
}

// file is a file with what is cut out of it.
type file struct {
	path  string
	text  []byte
	tree  *ast.File
	pkg   *packages.Package
	edits []*edit
	made  bool // generated
}

// edit is one rewriting: cuts that belong together.
type edit struct {
	line int
	cuts []cut
	off  bool // it would not compile
}

// cut is a part of the text that is replaced.
type cut struct {
	from, to int // in bytes
	with     string
}

// collect notes the files of a package and the handles that it has of the flag.
func (r *remover) collect(p *packages.Package) {
	for _, tree := range p.Syntax {
		path := r.set.Position(tree.Package).Filename
		if r.files[path] != nil || !strings.HasPrefix(path, r.root+string(filepath.Separator)) {
			continue
		}
		text, err := readFile(path)
		if err != nil {
			continue
		}
		f := &file{path: path, text: text, tree: tree, pkg: p, made: ast.IsGenerated(tree)}
		r.files[path] = f
		r.order = append(r.order, f)
		for _, d := range tree.Decls {
			gen, is := d.(*ast.GenDecl)
			if !is || gen.Tok != token.VAR {
				continue
			}
			for _, s := range gen.Specs {
				v := s.(*ast.ValueSpec)
				for i, name := range v.Names {
					if i < len(v.Values) && r.makes(p.TypesInfo, v.Values[i]) {
						r.handles[p.TypesInfo.Defs[name]] = v
					}
				}
			}
		}
	}
}

// makes tells whether an expression makes a handle of the flag.
func (r *remover) makes(info *types.Info, e ast.Expr) bool {
	call, is := ast.Unparen(e).(*ast.CallExpr)
	if !is || len(call.Args) == 0 {
		return false
	}
	fn := calledOf(info, call)
	return fn != nil && fn.Pkg() != nil && fn.Pkg().Path() == Client && strings.HasPrefix(fn.Name(), "New") &&
		strings.HasSuffix(fn.Name(), "Flag") && r.isKey(info, call.Args[0])
}

func (r *remover) isKey(info *types.Info, e ast.Expr) bool {
	v := info.Types[e].Value
	return v != nil && v.Kind() == constant.String && constant.StringVal(v) == r.Key
}

// calledOf is the function that is called; nil where it is none that is known.
func calledOf(info *types.Info, call *ast.CallExpr) *types.Func {
	fun := ast.Unparen(call.Fun)
	switch x := fun.(type) {
	case *ast.IndexExpr:
		fun = x.X
	case *ast.IndexListExpr:
		fun = x.X
	}
	var id *ast.Ident
	switch x := ast.Unparen(fun).(type) {
	case *ast.Ident:
		id = x
	case *ast.SelectorExpr:
		id = x.Sel
	default:
		return nil
	}
	fn, _ := info.Uses[id].(*types.Func)
	return fn
}

// asks tells whether an expression asks for the flag, and gives its value alone.
func (r *remover) asks(info *types.Info, e ast.Expr) bool {
	call, is := e.(*ast.CallExpr)
	if !is {
		return false
	}
	fn := calledOf(info, call)
	if fn == nil || fn.Pkg() == nil || fn.Pkg().Path() != Client {
		return false
	}
	switch fn.Name() {
	case "Bool", "String", "Number", "Int":
		return slices.ContainsFunc(call.Args, func(a ast.Expr) bool { return r.isKey(info, a) })
	case "For", "In":
		sel, is := ast.Unparen(call.Fun).(*ast.SelectorExpr)
		if !is {
			return false
		}
		return r.handle(info, sel.X) != nil
	}
	return false
}

// handle is the handle of the flag that an expression names; nil where it is none.
func (r *remover) handle(info *types.Info, e ast.Expr) types.Object {
	var id *ast.Ident
	switch x := ast.Unparen(e).(type) {
	case *ast.Ident:
		id = x
	case *ast.SelectorExpr:
		id = x.Sel
	default:
		return nil
	}
	obj := info.Uses[id]
	if _, is := r.handles[obj]; is {
		return obj
	}
	return nil
}

func (r *remover) left(f *file, at token.Pos, why string) {
	rel, err := filepath.Rel(r.root, f.path)
	if err != nil {
		rel = f.path
	}
	l := Left{filepath.ToSlash(rel), r.set.Position(at).Line, why}
	if !slices.Contains(r.out.Left, l) {
		r.out.Left = append(r.out.Left, l)
	}
}

// literal is the value as Go writes it where a type is wanted.
func (r *remover) literal(of types.Type) string {
	switch v := r.Value.(type) {
	case bool:
		return strconv.FormatBool(v)
	case string:
		return strconv.Quote(v)
	default:
		text := strconv.FormatFloat(v.(float64), 'f', -1, 64)
		if basic, is := of.Underlying().(*types.Basic); is {
			return basic.Name() + "(" + text + ")"
		}
		return text
	}
}

// fits tells whether the value is of the type that a call gives.
func (r *remover) fits(of types.Type) bool {
	basic, is := of.Underlying().(*types.Basic)
	if !is {
		return false
	}
	switch v := r.Value.(type) {
	case bool:
		return basic.Info()&types.IsBoolean != 0
	case string:
		return basic.Info()&types.IsString != 0
	case float64:
		return basic.Info()&types.IsFloat != 0 || basic.Info()&types.IsInteger != 0 && v == float64(int64(v))
	}
	return false
}

// result gives the files as they would be. Rewritings that would not compile are left out, one by one.
func (r *remover) result() (*Result, error) {
	byPkg := map[*packages.Package][]*file{}
	var pkgs []*packages.Package
	for _, f := range r.order {
		if len(f.edits) > 0 {
			if byPkg[f.pkg] == nil {
				pkgs = append(pkgs, f.pkg)
			}
			byPkg[f.pkg] = append(byPkg[f.pkg], f)
		}
	}
	for _, p := range pkgs {
		if err := r.settle(p, byPkg[p]); err != nil {
			return nil, err
		}
		for _, f := range byPkg[p] {
			text, err := r.written(f)
			if err != nil {
				return nil, err
			}
			if bytes.Equal(text, f.text) {
				continue
			}
			rel, err := filepath.Rel(r.root, f.path)
			if err != nil {
				return nil, err
			}
			r.out.Files = append(r.out.Files, File{rel, f.text, text})
		}
	}
	slices.SortFunc(r.out.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(r.out.Left, func(a, b Left) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), cmp.Compare(a.Line, b.Line))
	})
	return &r.out, nil
}

// applied is a file with its rewritings, as they stand.
func (f *file) applied() []byte {
	var cuts []cut
	for _, e := range f.edits {
		if !e.off {
			cuts = append(cuts, e.cuts...)
		}
	}
	slices.SortStableFunc(cuts, func(a, b cut) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(b.to, a.to)) })
	var out bytes.Buffer
	at := 0
	for _, c := range cuts {
		if c.from < at {
			continue // within what was cut out already
		}
		out.Write(f.text[at:c.from])
		out.WriteString(c.with)
		at = c.to
	}
	out.Write(f.text[at:])
	return out.Bytes()
}

func (r *remover) written(f *file) ([]byte, error) {
	text := f.applied()
	if bytes.Equal(text, f.text) {
		return text, nil
	}
	out, err := format.Source(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.path, err)
	}
	return out, nil
}
