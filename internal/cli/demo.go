package cli

import (
	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/sim"
)

var _ = listed("run", (*session).demoCommand)

func (s *session) demoCommand() *cobra.Command {
	var c sim.Config
	cmd := &cobra.Command{Use: "demo", Short: "Run the service with made-up data and live traffic", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c.Out = s.out
			return sim.Run(cmd.Context(), c)
		}}
	f := cmd.Flags()
	f.StringVar(&c.Dir, "dir", ".demo", "directory of the demo's data and keys")
	f.StringVar(&c.Listen, "listen", env("GREENLEVER_DEMO_LISTEN", "127.0.0.1:8090"), "address to listen on")
	f.BoolVar(&c.Quiet, "quiet", false, "no live traffic, and no releases")
	f.Uint64Var(&c.Seed, "seed", 0, "makes the people and what befalls them; 0 is the usual one")
	f.BoolVar(&c.RealTime, "real-time", false, "the stages of releases take a day each, not half a minute")
	return cmd
}
