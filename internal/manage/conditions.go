package manage

import (
	"errors"
	"strings"

	"greenlever.example/core/condition"
	"greenlever.example/core/flag"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/expr"
)

var _ = listed(
	op[conditionText, ConditionView]("POST", "/conditions/read", "Read a condition from its text",
		(*call).readCondition),
	op[conditionTree, ConditionView]("POST", "/conditions/write", "Write a condition as text",
		(*call).writeCondition),
	op[none, listOf[string]]("GET", "/conditions/functions", "The functions of the text form, each as an example",
		(*call).conditionFunctions),
)

type conditionText struct {
	Text string `json:"text"`
}

// ConditionView is a condition in all of its forms.
type ConditionView struct {
	When  *condition.Node `json:"when,omitempty"`
	Text  string          `json:"text"`
	Words words.Said      `json:"words"`
}

func viewCondition(n *condition.Node) (*ConditionView, error) {
	text, err := expr.Print(n)
	if err != nil {
		return nil, app.InvalidField("when", "%s", err.Error())
	}
	return &ConditionView{n, text, n.Said(nil)}, nil
}

func (c *call) readCondition(in *conditionText) (any, error) {
	if strings.TrimSpace(in.Text) == "" {
		return viewCondition(nil)
	}
	n, err := expr.Parse(in.Text)
	var syntax *expr.SyntaxError
	if errors.As(err, &syntax) {
		return nil, &app.Fault{Kind: app.Invalid, Detail: "the text is no condition",
			More:   map[string]any{"line": syntax.Line, "column": syntax.Column},
			Fields: []flag.Problem{{Place: "text", Mend: syntax.Error()}}}
	}
	if err != nil {
		return nil, err
	}
	return viewCondition(n)
}

type conditionTree struct {
	When *condition.Node `json:"when,omitempty"`
}

func (c *call) writeCondition(in *conditionTree) (any, error) {
	if in.When == nil {
		return viewCondition(nil)
	}
	var found []flag.Problem
	in.When.Check("when", func(place, mend string) {
		if !strings.HasSuffix(place, ".part.salt") {
			found = append(found, flag.Problem{Place: place, Mend: mend})
		}
	})
	if len(found) > 0 {
		return nil, app.InvalidFields(found)
	}
	return viewCondition(in.When.Canonical())
}

func (c *call) conditionFunctions(*none) (any, error) {
	return listOf[string]{expr.Usage()}, nil
}
