package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/docs"
)

var _ = listed("look", (*session).wordsCommand)

func (s *session) wordsCommand() *cobra.Command {
	all := ""
	for _, w := range docs.Words() {
		all += fmt.Sprintf("\n  %-22s %s", w.Name, strings.ReplaceAll(w.Says, "*", ""))
	}
	return &cobra.Command{Use: "words [WORD...]", Short: "What the product's words mean",
		Long:    "What the product's words mean:\n" + all,
		Example: "  greenlever words\n  greenlever words lever end",
		RunE: func(_ *cobra.Command, args []string) error {
			var found []docs.Word
			for _, w := range docs.Words() {
				if len(args) == 0 {
					found = append(found, w)
				}
				for _, a := range args {
					if strings.Contains(w.Name, a) {
						found = append(found, w)
					}
				}
			}
			if len(found) == 0 {
				return coded(exitUsage, "none of these is a word of ours: `greenlever words` lists them")
			}
			return s.show(found, func() {
				for _, w := range found {
					s.say("%-22s %s", w.Name, wrap(strings.ReplaceAll(w.Says, "*", ""), s.wide(), 23))
				}
			})
		}}
}
