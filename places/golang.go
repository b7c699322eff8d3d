package places

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path"
	"slices"
	"strconv"
	"strings"
)

// asks are functions and methods that ask a client for a flag by its key, with the place of the key among their
// arguments; -1 finds it wherever it is. Those of OpenFeature are among them.
var asks = map[string]int{"Bool": -1, "String": -1, "Number": -1, "Int": -1, "Object": -1, "ObjectIn": -1, "Answer": -1,
	"Ask": -1, "BooleanValue": 1, "StringValue": 1, "FloatValue": 1, "IntValue": 1, "ObjectValue": 1,
	"BooleanValueDetails": 1, "StringValueDetails": 1, "FloatValueDetails": 1, "IntValueDetails": 1,
	"ObjectValueDetails": 1, "Boolean": 1, "Float": 1, "Guard": -1}

// makers make handles of flags.
var makers = map[string]bool{"NewBoolFlag": true, "NewStringFlag": true, "NewNumberFlag": true, "NewIntFlag": true,
	"NewObjectFlag": true}

// sure are those whose names are so common that only a known key tells that a flag is asked for.
var common = map[string]bool{"Bool": true, "String": true, "Number": true, "Int": true, "Object": true, "Answer": true,
	"Ask": true, "Boolean": true, "Float": true, "Guard": true}

// goFile is a file of Go while it is looked at.
type goFile struct {
	source
	set       *token.FileSet
	tree      *ast.File
	dir       string
	generated bool
	names     map[string]string // import paths by the name under which they are used
}

// named is something that a package has: a constant, a handle or a function.
type named struct{ dir, name string }

// goCode is what is known of all of a repository's Go.
type goCode struct {
	*scanner
	files     []*goFile
	dirs      map[string][]string // import path's last part: folders
	constants map[named]string    // their values, where these are known keys
	handles   map[named]string    // keys of variables that are handles
	made      map[named]bool      // that were generated
	wrappers  map[named]int       // functions that hand a parameter on as a key: its place
}

// goFiles finds where Go asks.
func (s *scanner) goFiles(all []source) {
	g := &goCode{scanner: s, dirs: map[string][]string{}, constants: map[named]string{}, handles: map[named]string{},
		made: map[named]bool{}, wrappers: map[named]int{}}
	parsed := make([]*goFile, len(all))
	s.each(len(all), func(i int) {
		if strings.HasSuffix(all[i].path, ".go") {
			parsed[i] = parseGo(all[i])
		}
	})
	for _, f := range parsed {
		if f != nil {
			g.files = append(g.files, f)
			name := path.Base(f.dir)
			if !slices.Contains(g.dirs[name], f.dir) {
				g.dirs[name] = append(g.dirs[name], f.dir)
			}
		}
	}
	for _, f := range g.files {
		g.declared(f)
	}
	for range 5 { // wrappers of wrappers
		before := len(g.wrappers)
		for _, f := range g.files {
			g.wrapping(f)
		}
		if len(g.wrappers) == before {
			break
		}
	}
	s.each(len(g.files), func(i int) { g.uses(g.files[i]) })
}

func parseGo(src source) *goFile {
	f := &goFile{source: src, set: token.NewFileSet(), dir: path.Dir(src.path), names: map[string]string{}}
	tree, err := parser.ParseFile(f.set, src.path, src.text, parser.ParseComments|parser.SkipObjectResolution)
	if err != nil && tree == nil {
		return nil
	}
	f.tree, f.generated = tree, ast.IsGenerated(tree)
	for _, spec := range tree.Imports {
		at, err := strconv.Unquote(spec.Path.Value)
		if err != nil {
			continue
		}
		name := path.Base(at)
		if spec.Name != nil {
			name = spec.Name.Name
		}
		f.names[name] = at
	}
	return f
}

func literal(e ast.Expr) (string, bool) {
	lit, is := ast.Unparen(e).(*ast.BasicLit)
	if !is || lit.Kind != token.STRING {
		return "", false
	}
	s, err := strconv.Unquote(lit.Value)
	return s, err == nil
}

// callee is the name of what is called, and of the package or value that it is of.
func callee(e ast.Expr) (of, name string) {
	switch f := ast.Unparen(e).(type) {
	case *ast.Ident:
		return "", f.Name
	case *ast.SelectorExpr:
		if x, is := f.X.(*ast.Ident); is {
			of = x.Name
		}
		return of, f.Sel.Name
	case *ast.IndexExpr: // of a generic function
		return callee(f.X)
	case *ast.IndexListExpr:
		return callee(f.X)
	}
	return "", ""
}

// declared notes constants, handles and what was generated.
func (g *goCode) declared(f *goFile) {
	for _, d := range f.tree.Decls {
		gen, is := d.(*ast.GenDecl)
		if !is || gen.Tok != token.CONST && gen.Tok != token.VAR {
			continue
		}
		for _, spec := range gen.Specs {
			v, is := spec.(*ast.ValueSpec)
			if !is {
				continue
			}
			for i, name := range v.Names {
				if i >= len(v.Values) {
					break
				}
				at := named{f.dir, name.Name}
				if text, is := literal(v.Values[i]); is && g.keys[text] {
					g.constants[at] = text
				}
				call, is := ast.Unparen(v.Values[i]).(*ast.CallExpr)
				if !is {
					continue
				}
				if _, maker := callee(call.Fun); makers[maker] && len(call.Args) > 0 {
					if key, is := g.keyOf(f, call.Args[0]); is {
						g.handles[at], g.made[at] = key, f.generated
					}
				}
			}
		}
	}
}

// keyOf is the key that an expression is: a text, or a constant of this package or of another.
func (g *goCode) keyOf(f *goFile, e ast.Expr) (string, bool) {
	if text, is := literal(e); is {
		return text, true
	}
	for _, at := range g.pointsTo(f, e) {
		if key, is := g.constants[at]; is {
			return key, true
		}
	}
	return "", false
}

// pointsTo are what of this repository's packages an expression may name.
func (g *goCode) pointsTo(f *goFile, e ast.Expr) (out []named) {
	switch x := ast.Unparen(e).(type) {
	case *ast.Ident:
		return []named{{f.dir, x.Name}}
	case *ast.SelectorExpr:
		of, is := x.X.(*ast.Ident)
		if !is {
			return nil
		}
		at, is := f.names[of.Name]
		if !is {
			return nil
		}
		for _, dir := range g.dirs[path.Base(at)] {
			if strings.HasSuffix("/"+at, "/"+dir) || strings.HasSuffix("/"+dir, "/"+path.Base(at)) || dir == "." {
				out = append(out, named{dir, x.Sel.Name})
			}
		}
	}
	return out
}

// wrapping notes functions that hand one of their parameters on as the key of a flag.
func (g *goCode) wrapping(f *goFile) {
	for _, d := range f.tree.Decls {
		fn, is := d.(*ast.FuncDecl)
		if !is || fn.Body == nil {
			continue
		}
		params := map[string]int{}
		n := 0
		for _, field := range fn.Type.Params.List {
			for _, name := range field.Names {
				if t, is := field.Type.(*ast.Ident); is && t.Name == "string" {
					params[name.Name] = n
				}
				n++
			}
			if len(field.Names) == 0 {
				n++
			}
		}
		if len(params) == 0 {
			continue
		}
		ast.Inspect(fn.Body, func(node ast.Node) bool {
			call, is := node.(*ast.CallExpr)
			if !is {
				return true
			}
			for _, arg := range g.keyArgs(f, call) {
				if id, is := ast.Unparen(arg).(*ast.Ident); is {
					if at, is := params[id.Name]; is {
						g.wrappers[named{f.dir, fn.Name.Name}] = at
					}
				}
			}
			return true
		})
	}
}

// keyArgs are the arguments of a call that may be the key of a flag.
func (g *goCode) keyArgs(f *goFile, call *ast.CallExpr) []ast.Expr {
	_, name := callee(call.Fun)
	if makers[name] && len(call.Args) > 0 {
		return call.Args[:1]
	}
	if at, is := asks[name]; is && len(call.Args) > 0 {
		switch {
		case at >= 0 && at < len(call.Args):
			return call.Args[at : at+1]
		case at < 0 && len(call.Args) <= 5:
			return call.Args[:min(3, len(call.Args))]
		}
	}
	if at, is := g.wrapper(f, call.Fun); is && at < len(call.Args) {
		return call.Args[at : at+1]
	}
	return nil
}

// wrapper is the place of the key among the parameters of a function that hands it on.
func (g *goCode) wrapper(f *goFile, fun ast.Expr) (int, bool) {
	for _, at := range g.pointsTo(f, fun) {
		if n, is := g.wrappers[at]; is {
			return n, true
		}
	}
	if sel, is := ast.Unparen(fun).(*ast.SelectorExpr); is { // a method of a type of this package
		if of, is := sel.X.(*ast.Ident); !is || f.names[of.Name] == "" {
			n, is := g.wrappers[named{f.dir, sel.Sel.Name}]
			return n, is
		}
	}
	return 0, false
}

// uses finds where a file asks.
func (g *goCode) uses(f *goFile) {
	if f.generated {
		return // what was generated is asked elsewhere
	}
	place := func(key, how string, at token.Pos) {
		line := f.set.Position(at).Line
		g.add(Place{key, f.path, line, how, lineOf(f.text, line)})
	}
	taken := map[ast.Node]bool{} // literals and names that were told of, or that declare
	for _, spec := range f.tree.Imports {
		taken[spec.Path] = true
	}
	ast.Inspect(f.tree, func(node ast.Node) bool {
		switch n := node.(type) {
		case *ast.CallExpr:
			g.call(f, n, taken, place)
		case *ast.ValueSpec:
			for i, name := range n.Names {
				taken[name] = true
				if i < len(n.Values) {
					if _, is := literal(n.Values[i]); is && g.constants[named{f.dir, name.Name}] != "" {
						taken[ast.Unparen(n.Values[i])] = true // it is asked by where it is used
					}
				}
			}
		case *ast.Field:
			if n.Tag != nil {
				taken[n.Tag] = true
			}
		case *ast.KeyValueExpr:
			if id, is := n.Key.(*ast.Ident); is {
				taken[id] = true
			}
		case *ast.SelectorExpr:
			g.named(f, n, taken, place)
			taken[n.Sel] = true
		case *ast.Ident:
			g.named(f, n, taken, place)
		case *ast.BasicLit:
			if text, is := literal(n); is && g.keys[text] && !taken[n] {
				place(text, Text, n.Pos())
			}
		}
		return true
	})
}

// call finds whether a call asks.
func (g *goCode) call(f *goFile, call *ast.CallExpr, taken map[ast.Node]bool, place func(key, how string,
	at token.Pos)) {
	_, name := callee(call.Fun)
	_, wraps := g.wrapper(f, call.Fun)
	how := Call
	switch {
	case makers[name]:
		how = Handle
	case wraps:
		how = Wrapper
	}
	for _, arg := range g.keyArgs(f, call) {
		arg = ast.Unparen(arg)
		if text, is := literal(arg); is {
			if !g.keys[text] && (common[name] && !wraps && !whole(call, arg) || !keyLike(text)) {
				continue
			}
			taken[arg] = true
			place(text, how, arg.Pos())
			return
		}
		if key, is := g.keyOf(f, arg); is {
			taken[arg] = true
			if sel, is := arg.(*ast.SelectorExpr); is {
				taken[sel.Sel] = true
			}
			place(key, Constant, arg.Pos())
			return
		}
	}
}

// whole tells whether a call has all that a question to a client has: a context, a key, a unit and a fallback. What else
// is called so has fewer.
func whole(call *ast.CallExpr, key ast.Expr) bool {
	if len(call.Args) != 4 || ast.Unparen(call.Args[1]) != key {
		return false
	}
	_, text := literal(call.Args[0])
	return !text
}

// named finds whether a name is a handle, or a constant of a key.
func (g *goCode) named(f *goFile, e ast.Expr, taken map[ast.Node]bool, place func(key, how string, at token.Pos)) {
	if taken[e] {
		return
	}
	for _, at := range g.pointsTo(f, e) {
		if key, is := g.handles[at]; is {
			how := Handle
			if g.made[at] {
				how = Accessor
			}
			place(key, how, e.Pos())
			return
		}
		if key, is := g.constants[at]; is {
			place(key, Constant, e.Pos())
			return
		}
	}
}

// keyLike tells whether a text looks like the key of a flag.
func keyLike(s string) bool {
	if s == "" || len(s) > 100 {
		return false
	}
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_.", r)) {
			return false
		}
	}
	return true
}
