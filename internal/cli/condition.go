package cli

import (
	"context"
	"encoding/json"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/core/condition"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).conditionCommand)

// readCondition reads a condition that is written as text, or as JSON.
func (s *session) readCondition(ctx context.Context, text string) (*condition.Node, error) {
	if strings.HasPrefix(strings.TrimSpace(text), "{") {
		n := &condition.Node{}
		if err := json.Unmarshal([]byte(text), n); err != nil {
			return nil, coded(exitUsage, "the condition is no JSON: %w", err)
		}
		return n, nil
	}
	a, err := s.connect()
	if err != nil {
		return nil, err
	}
	var v manage.ConditionView
	if err := a.do(ctx, request{method: "POST", path: "/conditions/read", body: map[string]any{"text": text}},
		&v); err != nil {
		return nil, err
	}
	return v.When, nil
}

func (s *session) conditionCommand() *cobra.Command {
	return &cobra.Command{Use: "condition TEXT", Short: "Read a condition and say it in words, as text and as JSON",
		Args: exactly("TEXT"),
		Example: "  greenlever condition 'version(firmware) >= version(\"4.2.0\") && !inSegment(\"staff\")'\n  " +
			"greenlever condition help",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.connect()
			if err != nil {
				return err
			}
			if args[0] == "help" {
				var all struct{ Items []string }
				if err := a.do(cmd.Context(), request{method: "GET", path: "/conditions/functions"},
					&all); err != nil {
					return err
				}
				return s.show(all.Items, func() {
					for _, u := range all.Items {
						s.say("%s", u)
					}
				})
			}
			var v manage.ConditionView
			if err := a.do(cmd.Context(), request{method: "POST", path: "/conditions/read",
				body: map[string]any{"text": args[0]}}, &v); err != nil {
				return err
			}
			return s.show(v, func() {
				s.say("%s", v.Words)
				s.say("%s", v.Text)
			})
		}}
}
