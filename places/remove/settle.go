package remove

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/tools/go/packages"
)

func readFile(path string) ([]byte, error) { return os.ReadFile(path) }

// drop takes away the handles of a file that nothing asks any more.
func (r *remover) drop(f *file) {
	for _, d := range f.tree.Decls {
		gen, is := d.(*ast.GenDecl)
		if !is || gen.Tok != token.VAR {
			continue
		}
		for _, s := range gen.Specs {
			v := s.(*ast.ValueSpec)
			if len(v.Names) != 1 {
				continue
			}
			obj := f.pkg.TypesInfo.Defs[v.Names[0]]
			if r.handles[obj] != v || r.stays(obj) {
				continue
			}
			var n ast.Node = v
			if len(gen.Specs) == 1 {
				n = gen
			}
			w := &walker{remover: r, f: f, info: f.pkg.TypesInfo}
			c := w.line(n)
			doc := v.Doc
			if len(gen.Specs) == 1 {
				doc = gen.Doc
			}
			if doc != nil {
				c.from = w.line(doc).from
			}
			f.edits = append(f.edits, &edit{line: r.set.Position(v.Pos()).Line, cuts: []cut{c}})
			r.out.Asked++
		}
	}
}

// stays tells whether a handle is named where it was left.
func (r *remover) stays(obj types.Object) bool {
	for _, f := range r.order {
		for id, used := range f.pkg.TypesInfo.Uses {
			if used != obj {
				continue
			}
			line := r.set.Position(id.Pos())
			for _, l := range r.out.Left {
				if strings.HasSuffix(filepath.ToSlash(line.Filename), "/"+l.Path) && l.Line == line.Line {
					return true
				}
			}
		}
	}
	return false
}

// settle leaves rewritings of a package out until it compiles. Imports and variables that nothing uses any more go with
// what used them.
func (r *remover) settle(p *packages.Package, changed []*file) error {
	for range 100 {
		errs, err := r.check(p, changed)
		if err != nil || len(errs) == 0 {
			return err
		}
		mended := false
		for _, e := range errs {
			mended = r.mend(p, changed, e) || mended
		}
		if mended {
			continue
		}
		if !r.leaveOut(p, changed) {
			return fmt.Errorf("%s would not compile: %w", p.PkgPath, errs[0])
		}
	}
	return errors.New("the source does not settle")
}

// check type-checks a package as it would be.
func (r *remover) check(p *packages.Package, changed []*file) ([]types.Error, error) {
	var trees []*ast.File
	set := token.NewFileSet()
	for _, tree := range p.Syntax {
		at := r.set.Position(tree.Package).Filename
		var text any
		if i := slices.IndexFunc(changed, func(f *file) bool { return f.path == at }); i >= 0 {
			text = changed[i].applied()
		}
		parsed, err := parser.ParseFile(set, at, text, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			return nil, err
		}
		trees = append(trees, parsed)
	}
	var found []types.Error
	conf := types.Config{Importer: from{p}, Error: func(err error) {
		var e types.Error
		if errors.As(err, &e) {
			found = append(found, e)
		}
	}}
	_, _ = conf.Check(p.PkgPath, set, trees, nil) // its errors were told of
	return found, nil
}

// from imports what a package imports.
type from struct{ *packages.Package }

func (f from) Import(at string) (*types.Package, error) {
	if at == "unsafe" {
		return types.Unsafe, nil
	}
	for _, p := range f.Types.Imports() {
		if p.Path() == at {
			return p, nil
		}
	}
	return nil, fmt.Errorf("package %s is not loaded", at)
}

// mend takes away what nothing uses any more.
func (r *remover) mend(p *packages.Package, changed []*file, e types.Error) bool {
	at := e.Fset.Position(e.Pos)
	i := slices.IndexFunc(changed, func(f *file) bool { return f.path == at.Filename })
	if i < 0 {
		return false
	}
	f := changed[i]
	w := &walker{remover: r, f: f, info: p.TypesInfo}
	if rest, is := strings.CutSuffix(e.Msg, " imported and not used"); is {
		quoted, _, _ := strings.Cut(rest, " as ")
		name, err := strconv.Unquote(quoted)
		if err != nil {
			return false
		}
		for _, spec := range f.tree.Imports {
			if v, err := strconv.Unquote(spec.Path.Value); err == nil && (v == name || path.Base(v) == name) {
				return f.once(&edit{line: r.set.Position(spec.Pos()).Line, cuts: []cut{w.line(spec)}})
			}
		}
		return false
	}
	name, is := strings.CutPrefix(e.Msg, "declared and not used: ")
	if !is {
		return false
	}
	// The variable is declared once more in the source as it was: the last one of its name above the place.
	var decl *ast.AssignStmt
	ast.Inspect(f.tree, func(n ast.Node) bool {
		if a, is := n.(*ast.AssignStmt); is && a.Tok == token.DEFINE && len(a.Lhs) == 1 {
			if id, is := a.Lhs[0].(*ast.Ident); is && id.Name == name && f.shows(w.at(a.Pos()), at.Offset) {
				decl = a
			}
		}
		return true
	})
	if decl == nil {
		return false
	}
	if w.calm(decl.Rhs[0]) || w.ofClient(decl.Rhs[0]) {
		return f.once(&edit{line: r.set.Position(decl.Pos()).Line, cuts: []cut{w.line(decl)}})
	}
	return f.once(&edit{line: r.set.Position(decl.Pos()).Line, cuts: []cut{{w.at(decl.Lhs[0].Pos()), w.at(decl.TokPos) + 2,
		"_ ="}}})
}

// ofClient tells whether an expression only builds what the client is asked for.
func (w *walker) ofClient(e ast.Expr) bool {
	ours := true
	ast.Inspect(e, func(n ast.Node) bool {
		if call, is := n.(*ast.CallExpr); is {
			fn := calledOf(w.info, call)
			ours = ours && fn != nil && fn.Pkg() != nil && fn.Pkg().Path() == Client
		}
		return ours
	})
	return ours
}

// once adds an edit, unless it was added before.
func (f *file) once(e *edit) bool {
	for _, o := range f.edits {
		if slices.Equal(o.cuts, e.cuts) {
			return false
		}
	}
	f.edits = append(f.edits, e)
	return true
}

// shows tells whether what stands at an offset of the text as it was stands at another one of the text as it is.
func (f *file) shows(was, is int) bool {
	moved := was
	for _, e := range f.edits {
		if e.off {
			continue
		}
		for _, c := range e.cuts {
			if c.to <= was {
				moved += len(c.with) - (c.to - c.from)
			}
		}
	}
	return moved == is || abs(moved-is) < 2
}

func abs(n int) int { return max(n, -n) }

// leaveOut leaves out the last rewriting without which the package has fewer errors; false where there is none.
func (r *remover) leaveOut(p *packages.Package, changed []*file) bool {
	before, err := r.check(p, changed)
	if err != nil {
		before = make([]types.Error, 1_000)
	}
	for _, f := range changed {
		for _, e := range slices.Backward(f.edits) {
			if e.off {
				continue
			}
			e.off = true
			after, err := r.check(p, changed)
			if err == nil && len(after) < len(before) {
				rel, err := filepath.Rel(r.root, f.path)
				if err != nil {
					rel = f.path
				}
				r.out.Left = append(r.out.Left, Left{filepath.ToSlash(rel), e.line, "it would no longer compile: " +
					before[0].Msg})
				return true
			}
			e.off = false
		}
	}
	return false
}
