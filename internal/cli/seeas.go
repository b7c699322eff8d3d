package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"
	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/seeas"
)

var _ = listed("code", (*session).seeAsCommand)

func (s *session) seeAsCommand() *cobra.Command {
	var minutes int64
	c := &cobra.Command{Use: "see-as FLAG=VARIANT...", Short: "Get a signed override for your own session; it " +
		"touches no rule", Args: atLeastOne("FLAG=VARIANT"), RunE: func(cmd *cobra.Command, args []string) error {
		a, path, _, err := s.inEnvironment(cmd.Context())
		if err != nil {
			return err
		}
		variants := map[string]string{}
		for _, pair := range args {
			key, variant, ok := strings.Cut(pair, "=")
			if !ok {
				return coded(exitUsage, "write FLAG=VARIANT, not %q", pair)
			}
			variants[key] = variant
		}
		var out seeas.Issued
		if err := a.do(cmd.Context(), request{method: "POST", path: path + "/see-as",
			body: map[string]any{"variants": variants, "minutes": minutes, "reason": s.because}}, &out); err != nil {
			return err
		}
		return s.show(out, func() {
			s.say("%s: %s", flag.SeeAsHeader, out.Token)
			s.note("good until %s; send it as this header, or as the cookie %s",
				time.UnixMilli(out.Until).Local().Format("15:04"), flag.SeeAsCookie)
		})
	}}
	c.Flags().Int64Var(&minutes, "minutes", 60, "that it lasts, 480 at most")
	return c
}
