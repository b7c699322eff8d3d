package remove

import (
	"go/ast"
	"go/constant"
	"go/token"
	"go/types"
	"slices"

	"golang.org/x/tools/go/packages"
)

// rewrite finds where a package asks for the flag, and cuts.
func (r *remover) rewrite(p *packages.Package) {
	for _, f := range r.order {
		if f.pkg != p {
			continue
		}
		w := &walker{remover: r, f: f, info: p.TypesInfo, done: map[ast.Node]bool{}}
		ast.PreorderStack(f.tree, nil, func(n ast.Node, stack []ast.Node) bool {
			w.visit(n, stack)
			return true
		})
	}
	for _, f := range r.order {
		if f.pkg == p && !f.made {
			r.drop(f)
		}
	}
}

// walker looks through one file.
type walker struct {
	*remover
	f    *file
	info *types.Info
	done map[ast.Node]bool // expressions and conditions that were rewritten
}

func (w *walker) at(p token.Pos) int { return w.set.Position(p).Offset }

func (w *walker) visit(n ast.Node, stack []ast.Node) {
	switch x := n.(type) {
	case *ast.CallExpr:
		switch {
		case w.asks(w.info, x):
			w.out.Asked++
			w.ask(x, stack)
		case w.makes(w.info, x), w.done[x]:
		case slices.ContainsFunc(x.Args, func(a ast.Expr) bool { return w.isKey(w.info, a) }):
			w.out.Asked++
			w.left(w.f, x.Pos(), "the key is handed to something else than a question for the value")
		}
	case *ast.SelectorExpr:
		if obj := w.info.Uses[x.Sel]; w.handles[obj] != nil && w.loose(x, stack) {
			w.left(w.f, x.Pos(), "the handle is handed on")
		}
	case *ast.Ident:
		if obj := w.info.Uses[x]; w.handles[obj] != nil && w.loose(x, stack) {
			w.left(w.f, x.Pos(), "the handle is handed on")
		}
	}
}

// loose tells whether a handle is named other than to ask it.
func (w *walker) loose(e ast.Expr, stack []ast.Node) bool {
	parent := stack[len(stack)-1]
	sel, is := parent.(*ast.SelectorExpr)
	if is && sel.Sel == e {
		return false // told of with the selector
	}
	if is && sel.X == e && len(stack) > 1 {
		call, is := stack[len(stack)-2].(*ast.CallExpr)
		return !is || !w.asks(w.info, call)
	}
	return true
}

// ask rewrites what stands around a question for the flag.
func (w *walker) ask(call *ast.CallExpr, stack []ast.Node) {
	if w.f.made {
		w.left(w.f, call.Pos(), "the file is generated: make it anew")
		return
	}
	if !w.fits(w.info.TypeOf(call)) {
		w.left(w.f, call.Pos(), "it is asked for as another type than the value has")
		return
	}
	top, up := ast.Expr(call), len(stack)-1
	for ; up >= 0; up-- {
		e, is := stack[up].(ast.Expr)
		if !is || !logical(e) {
			break
		}
		top = e
	}
	if w.done[top] {
		return
	}
	w.done[top] = true
	e := &edit{line: w.set.Position(call.Pos()).Line}
	value := w.simplify(top, e)
	parent := stack[up]
	switch x := parent.(type) {
	case *ast.IfStmt:
		if value != nil && x.Cond == top {
			if why := w.branch(x, constant.BoolVal(value), stack[:up], e); why != "" {
				w.left(w.f, call.Pos(), why)
				return
			}
			w.f.edits = append(w.f.edits, e)
			return
		}
	case *ast.SwitchStmt:
		if value != nil && x.Tag == top {
			if why := w.choose(x, value, stack[:up], e); why != "" {
				w.left(w.f, call.Pos(), why)
				return
			}
			w.f.edits = append(w.f.edits, e)
			return
		}
	case *ast.CaseClause:
		w.left(w.f, call.Pos(), "it is one of the cases of a switch")
		return
	case *ast.ForStmt:
		w.left(w.f, call.Pos(), "a loop goes on for as long as it says")
		return
	case *ast.ExprStmt:
		w.left(w.f, call.Pos(), "nothing is done with the value")
		return
	case *ast.GoStmt, *ast.DeferStmt:
		w.left(w.f, call.Pos(), "it is asked for behind go or defer")
		return
	}
	if value != nil {
		e.cuts = []cut{{w.at(top.Pos()), w.at(top.End()), w.written(top, value)}}
	}
	w.f.edits = append(w.f.edits, e)
}

// written is a value as Go writes it in place of an expression.
func (w *walker) written(of ast.Expr, v constant.Value) string {
	if v.Kind() == constant.Bool {
		if constant.BoolVal(v) {
			return "true"
		}
		return "false"
	}
	return w.literal(w.info.TypeOf(of))
}

// logical tells whether an expression only says something of what it holds.
func logical(e ast.Expr) bool {
	switch x := e.(type) {
	case *ast.ParenExpr:
		return true
	case *ast.UnaryExpr:
		return x.Op == token.NOT
	case *ast.BinaryExpr:
		return x.Op == token.LAND || x.Op == token.LOR || x.Op == token.EQL || x.Op == token.NEQ
	}
	return false
}

// simplify gives the value of an expression where it has one now, and else cuts out of it what has.
func (w *walker) simplify(e ast.Expr, into *edit) constant.Value {
	switch x := e.(type) {
	case *ast.ParenExpr:
		w.done[x] = true
		return w.simplify(x.X, into)
	case *ast.UnaryExpr:
		if x.Op != token.NOT {
			return nil
		}
		w.done[x] = true
		if v := w.simplify(x.X, into); v != nil {
			return constant.MakeBool(!constant.BoolVal(v))
		}
		return nil
	case *ast.BinaryExpr:
		return w.binary(x, into)
	case *ast.CallExpr:
		if w.asks(w.info, x) && w.fits(w.info.TypeOf(x)) {
			w.done[x] = true
			return w.value(x)
		}
	}
	return w.info.Types[e].Value
}

// value is the flag's value, of the type of an expression.
func (w *walker) value(of ast.Expr) constant.Value {
	switch v := w.Value.(type) {
	case bool:
		return constant.MakeBool(v)
	case string:
		return constant.MakeString(v)
	default:
		return constant.ToFloat(constant.MakeFloat64(v.(float64)))
	}
}

func (w *walker) binary(x *ast.BinaryExpr, into *edit) constant.Value {
	left, right := &edit{}, &edit{}
	a, b := w.simplify(x.X, left), w.simplify(x.Y, right)
	w.done[x] = true
	keep := func(e *edit) constant.Value { into.cuts = append(into.cuts, e.cuts...); return nil }
	switch x.Op {
	case token.EQL, token.NEQ:
		if a != nil && b != nil {
			return constant.MakeBool(constant.Compare(a, x.Op, b))
		}
		// Compared with what is not known: the value stands in its place.
		for _, side := range []struct {
			e ast.Expr
			v constant.Value
			c *edit
		}{{x.X, a, left}, {x.Y, b, right}} {
			if side.v != nil && w.info.Types[side.e].Value == nil {
				side.c.cuts = []cut{{w.at(side.e.Pos()), w.at(side.e.End()), w.written(side.e, side.v)}}
			}
		}
		keep(left)
		return keep(right)
	case token.LAND, token.LOR:
	default:
		keep(left)
		return keep(right)
	}
	decides := x.Op == token.LOR // the value that settles it whatever the other side is
	switch {
	case a != nil && constant.BoolVal(a) == decides:
		return a
	case a != nil && b != nil:
		return b
	case a != nil: // what is left is the right side
		into.cuts = append(into.cuts, cut{w.at(x.X.Pos()), w.at(x.Y.Pos()), ""})
		return keep(right)
	case b != nil && constant.BoolVal(b) != decides:
		into.cuts = append(into.cuts, cut{w.at(x.X.End()), w.at(x.Y.End()), ""})
		return keep(left)
	case b != nil && w.calm(x.X): // the left side does nothing that would be missed
		return b
	case b != nil:
		into.cuts = append(into.cuts, cut{w.at(x.Y.Pos()), w.at(x.Y.End()), w.written(x.Y, b)})
		return keep(left)
	}
	keep(left)
	return keep(right)
}

// calm tells whether an expression does nothing but have a value.
func (w *walker) calm(e ast.Expr) bool {
	calm := true
	ast.Inspect(e, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.CallExpr:
			calm = calm && w.asks(w.info, x)
		case *ast.UnaryExpr:
			calm = calm && x.Op != token.ARROW
		case *ast.StarExpr, *ast.IndexExpr, *ast.TypeAssertExpr, *ast.FuncLit:
			calm = false
		}
		return calm
	})
	return calm
}

// branch keeps one branch of an if. It gives the reason where that is not sure.
func (w *walker) branch(x *ast.IfStmt, is bool, stack []ast.Node, e *edit) (why string) {
	if x.Init != nil {
		return "the condition begins with a statement"
	}
	e.cuts = nil
	var kept ast.Stmt = x.Body
	if !is {
		kept = x.Else
	}
	parent := stack[len(stack)-1]
	if outer, chained := parent.(*ast.IfStmt); chained && outer.Else == x { // else if
		switch {
		case kept == nil:
			e.cuts = append(e.cuts, cut{w.at(outer.Body.End()), w.at(x.End()), ""})
		default:
			e.cuts = append(e.cuts, cut{w.at(x.Pos()), w.at(kept.Pos()), ""}, cut{w.at(kept.End()), w.at(x.End()), ""})
		}
		return ""
	}
	if _, labelled := parent.(*ast.LabeledStmt); labelled {
		return "it has a label"
	}
	if kept == nil {
		e.cuts = append(e.cuts, w.line(x))
		return ""
	}
	if chain, is := kept.(*ast.IfStmt); is { // the else if becomes the if
		e.cuts = append(e.cuts, cut{w.at(x.Pos()), w.at(chain.Pos()), ""})
		return ""
	}
	w.keep(x, kept.(*ast.BlockStmt), e)
	return ""
}

// keep keeps the statements of a block in place of a whole statement: with its braces where it declares names, since
// those may stand beside the same ones outside.
func (w *walker) keep(x ast.Stmt, b *ast.BlockStmt, e *edit) {
	if declares(b.List) || len(b.List) == 0 && len(w.comments(b)) > 0 {
		e.cuts = append(e.cuts, cut{w.at(x.Pos()), w.at(b.Pos()), ""}, cut{w.at(b.End()), w.at(x.End()), ""})
		return
	}
	if len(b.List) == 0 {
		e.cuts = append(e.cuts, w.line(x))
		return
	}
	e.cuts = append(e.cuts, cut{w.at(x.Pos()), w.at(b.Lbrace) + 1, ""}, cut{w.at(b.Rbrace), w.at(x.End()), ""})
}

func (w *walker) comments(b *ast.BlockStmt) (in []*ast.CommentGroup) {
	for _, c := range w.f.tree.Comments {
		if b.Pos() < c.Pos() && c.End() < b.End() {
			in = append(in, c)
		}
	}
	return in
}

// declares tells whether statements declare names of their own.
func declares(list []ast.Stmt) bool {
	return slices.ContainsFunc(list, func(s ast.Stmt) bool {
		switch x := s.(type) {
		case *ast.DeclStmt, *ast.LabeledStmt:
			return true
		case *ast.AssignStmt:
			return x.Tok == token.DEFINE
		}
		return false
	})
}

// line is a statement with the rest of its lines, where nothing else stands on them.
func (w *walker) line(x ast.Node) cut {
	from, to := w.at(x.Pos()), w.at(x.End())
	start, end := from, to
	for start > 0 && (w.f.text[start-1] == ' ' || w.f.text[start-1] == '\t') {
		start--
	}
	for end < len(w.f.text) && (w.f.text[end] == ' ' || w.f.text[end] == '\t') {
		end++
	}
	if (start == 0 || w.f.text[start-1] == '\n') && end < len(w.f.text) && w.f.text[end] == '\n' {
		return cut{start, end + 1, ""}
	}
	return cut{from, to, ""}
}

// choose keeps one case of a switch. It gives the reason where that is not sure.
func (w *walker) choose(x *ast.SwitchStmt, value constant.Value, stack []ast.Node, e *edit) (why string) {
	if x.Init != nil {
		return "the switch begins with a statement"
	}
	if _, labelled := stack[len(stack)-1].(*ast.LabeledStmt); labelled {
		return "it has a label"
	}
	e.cuts = nil
	var chosen, rest *ast.CaseClause
	for _, s := range x.Body.List {
		c := s.(*ast.CaseClause)
		if c.List == nil {
			rest = c
		}
		for _, one := range c.List {
			v := w.info.Types[one].Value
			if v == nil {
				return "a case is no constant"
			}
			if chosen == nil && constant.Compare(v, token.EQL, value) {
				chosen = c
			}
		}
	}
	if chosen == nil {
		chosen = rest
	}
	if chosen == nil {
		e.cuts = append(e.cuts, w.line(x))
		return ""
	}
	if why := leaves(chosen.Body); why != "" {
		return why
	}
	if len(chosen.Body) == 0 {
		e.cuts = append(e.cuts, w.line(x))
		return ""
	}
	open, shut := "", ""
	if declares(chosen.Body) {
		open, shut = "{", "\n}"
	}
	e.cuts = append(e.cuts, cut{w.at(x.Pos()), w.at(chosen.Colon) + 1, open},
		cut{w.at(chosen.Body[len(chosen.Body)-1].End()), w.at(x.End()), shut})
	return ""
}

// leaves tells whether statements of a case leave the switch, or go on to the next case.
func leaves(list []ast.Stmt) (why string) {
	for _, s := range list {
		ast.Inspect(s, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.ForStmt, *ast.RangeStmt, *ast.SwitchStmt, *ast.TypeSwitchStmt, *ast.SelectStmt, *ast.FuncLit:
				return false // a break in there leaves that
			case *ast.BranchStmt:
				if x.Tok == token.FALLTHROUGH {
					why = "a case goes on to the next one"
				} else if x.Tok == token.BREAK && x.Label == nil {
					why = "a case leaves the switch with break"
				}
			}
			return true
		})
	}
	return why
}
