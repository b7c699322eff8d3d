package cli

import (
	"cmp"
	"errors"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/outpost"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/web"
)

var _ = listed("run", (*session).outpostCommand)

func (s *session) outpostCommand() *cobra.Command {
	c := outpost.Config{Limits: web.DefaultLimits(), Version: server.Version()}
	var file string
	var log logs
	cmd := &cobra.Command{Use: "outpost", Short: "Serve decisions near those who ask, also without the service",
		Args: exactly(),
		Long: `Follows environments of a service and serves them on: remote evaluation for programs in any
language, the feed for Go clients, and browsers, with the same addresses and the same access
keys as the service. It goes on answering while the service cannot be reached, and starts from
its copy on disk. Its page, on --admin, says what it follows and who is behind it.

Every option can also be set by an environment variable, such as GREENLEVER_OUTPOST_LISTEN for
--listen, or in a YAML file named by --config. The access keys are secrets: better name them in
GREENLEVER_OUTPOST_KEY or the file than on the command line.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := fill(cmd.Flags(), "OUTPOST", &file); err != nil {
				return err
			}
			var err error
			if c.Log, err = s.logger(log); err != nil {
				return err
			}
			c.URL = cmp.Or(s.url, os.Getenv("GREENLEVER_OUTPOST_URL"), os.Getenv("GREENLEVER_URL"))
			if key := os.Getenv("GREENLEVER_KEY"); len(c.Keys) == 0 && key != "" {
				c.Keys = []string{key}
			}
			c.AdminElsewhere = !cmd.Flags().Changed("admin")
			tracer, sent, err := tracing(cmd.Context(), "greenlever-outpost")
			if err != nil {
				return err
			}
			defer sent()
			c.Tracer = tracer
			o, err := outpost.Start(cmd.Context(), c)
			if err != nil {
				return &codedError{exitUsage, err}
			}
			c.Log.Info("operators are listened to", "url", o.AdminURL())
			c.Log.Info("the outpost listens", "url", o.URL(), "follows", c.URL)
			select {
			case <-cmd.Context().Done():
				c.Log.Info("the outpost stops")
			case err = <-o.Failed():
			}
			return errors.Join(err, o.Stop())
		}}
	f := cmd.Flags()
	f.StringVar(&c.Listen, "listen", "127.0.0.1:8095", "address to listen on")
	f.StringVar(&c.Admin, "admin", "127.0.0.1:8096", "address of what operators watch: its own page, and /metrics; "+
		"not for strangers; empty: none")
	f.StringSliceVar(&c.Keys, "key", nil, "access key of kind service; once for each environment (GREENLEVER_KEY)")
	f.StringVar(&c.Dir, "dir", filepath.Join(defaultDir(), "outpost"), "directory of its copies")
	f.StringVar(&c.Name, "name", "outpost", "by which the service lists it")
	f.StringVar(&file, "config", "", "YAML file with these options")
	f.DurationVar(&c.Drain, "drain", 0, "how long /readyz says that the outpost ends before it takes no more requests")
	log.options(f, &c.LogOneOf)
	f.Int64Var(&c.Limits.Body, "limit-body", c.Limits.Body, "bytes of a request's body")
	f.IntVar(&c.Limits.Streams, "limit-streams", c.Limits.Streams, "open at once")
	f.Float64Var(&c.Limits.KeyRate, "limit-key-rate", c.Limits.KeyRate,
		"remote evaluations a second with one access key")
	browserLimits(f, &c.Limits)
	return cmd
}
