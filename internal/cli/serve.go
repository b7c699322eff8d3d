package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"go.yaml.in/yaml/v4"
	"greenlever.example/greenlever/internal/identity"
	"greenlever.example/greenlever/internal/server"
	"greenlever.example/greenlever/internal/web"
)

var _ = listed("run", (*session).serveCommand)

func (s *session) serveCommand() *cobra.Command {
	var c server.Config
	var file, dsnFile, identityFile string
	var log logs
	var proxies, hooked []string
	keep, connections := map[string]*int{}, map[string]*int{}
	c.Connections = server.UsualConnections()
	c.Limits = web.DefaultLimits()
	cmd := &cobra.Command{Use: "serve", Short: "Run the service", Args: exactly(),
		Long: `Runs the service. Every option can also be set by an environment variable, such as
GREENLEVER_SERVE_LISTEN for --listen, or in a YAML file named by --config, such as listen: 127.0.0.1:8090.
An option counts before the variable, the variable before the file.

Without --dsn the service starts a MariaDB server of its own on loopback, with its data in --dir.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := fill(cmd.Flags(), "SERVE", &file); err != nil {
				return err
			}
			var err error
			if c.Log, err = s.logger(log); err != nil {
				return err
			}
			if c.Proxies, err = networks(proxies); err != nil {
				return err
			}
			if c.WebhookNetworks, err = networks(hooked); err != nil {
				return err
			}
			if c.DSN, err = secret("dsn", c.DSN, dsnFile); err != nil {
				return err
			}
			if c.Identity, err = providersIn(identityFile); err != nil {
				return err
			}
			c.AdminElsewhere = !cmd.Flags().Changed("admin") // two on one machine are no mistake
			for name, most := range connections {
				if *most < 1 {
					return coded(exitUsage, "--connections-%s: there must be one at least", name)
				}
				c.Connections[name] = *most
			}
			c.Keep = map[string]int{}
			for option, days := range keep {
				c.Keep[option] = *days
			}
			tracer, sent, err := tracing(cmd.Context(), "greenlever")
			if err != nil {
				return err
			}
			defer sent()
			c.Tracer = tracer
			srv, err := server.Start(cmd.Context(), c)
			if err != nil {
				return err
			}
			c.Log.Info("operators are listened to", "url", srv.AdminURL())
			c.Log.Info("the service listens", "url", srv.URL())
			if srv.SetUpCode != "" {
				s.note("\nThere is no account yet. Open this address to make the first one:\n\n  "+
					"%s/set-up?code=%s\n",
					srv.URL(), srv.SetUpCode)
			}
			select {
			case <-cmd.Context().Done():
				c.Log.Info("the service stops")
			case err = <-srv.Failed():
			}
			return errors.Join(err, srv.Stop())
		}}
	f := cmd.Flags()
	f.StringVar(&c.Listen, "listen", "127.0.0.1:8090", "address to listen on")
	f.StringVar(&c.Admin, "admin", "127.0.0.1:8091", "address of what operators watch, /metrics; not for "+
		"strangers; "+
		"empty: none")
	f.BoolVar(&c.Restored, "restored", false, "the records were restored from a backup: begin with a new epoch "+
		"(once, at the first start after it)")
	f.StringSliceVar(&proxies, "trusted-proxies", nil, "networks of proxies that are believed about whom they pass "+
		"on, such as 10.0.0.0/8")
	f.StringSliceVar(&hooked, "webhook-networks", nil,
		"private networks that webhooks may be in, such as 10.20.0.0/16")
	f.StringVar(&c.Heads, "heads", "", "where signed heads of the audit are copied to: a file, or an address that "+
		"takes them by POST")
	f.StringVar(&c.DSN, "dsn", "", "an existing MariaDB database, user:password@tcp(host:port)/greenlever; "+
		"empty: a "+
		"private server")
	f.StringVar(&c.Dir, "dir", defaultDir(), "directory of configuration, and of data without --dsn")
	f.StringVar(&file, "config", "", "YAML file with these options")
	f.StringVar(&identityFile, "identity", "", "YAML file of the providers with which people sign in (OpenID "+
		"Connect)")
	f.StringVar(&dsnFile, "dsn-file", "", "file that holds --dsn, which has a password")
	f.DurationVar(&c.Drain, "drain", 0, "how long /readyz says that the service ends before it takes no more "+
		"requests")
	f.DurationVar(&c.Settles, "settled-after", 30*24*time.Hour, "for how long one variant must have been given "+
		"to all "+
		"before a flag can be retired")
	f.DurationVar(&c.Idle, "unasked-after", 14*24*time.Hour, "for how long no process may have asked for a flag "+
		"that is "+
		"still in the code before it can be retired")
	f.DurationVar(&c.ReadyStale, "ready-stale", 30*time.Second, "how long /readyz says yes where revisions cannot "+
		"be read although the records can be reached")
	log.options(f, &c.LogOneOf)
	f.BoolVar(&c.Secure, "secure-cookies", false, "everything is reached over TLS only: strict cookies, and "+
		"browsers are told so")
	f.Int64Var(&c.Limits.Body, "limit-body", c.Limits.Body, "bytes of a request's body")
	f.DurationVar(&c.Limits.Time, "limit-time", c.Limits.Time, "of a request that is no stream")
	f.IntVar(&c.Limits.Streams, "limit-streams", c.Limits.Streams, "open at once")
	f.Float64Var(&c.Limits.Rate, "limit-rate", c.Limits.Rate, "requests a second of one person")
	f.Float64Var(&c.Limits.KeyRate, "limit-key-rate", c.Limits.KeyRate,
		"remote evaluations a second with one access key")
	f.Int64Var(&c.Limits.ReportBody, "limit-report", c.Limits.ReportBody, "bytes of a client's report")
	f.Int64Var(&c.Limits.ListBody, "limit-list", c.Limits.ListBody, "bytes of a list of units")
	f.Float64Var(&c.Limits.SignIns, "limit-sign-ins", c.Limits.SignIns, "tries a minute to sign in from one address")
	browserLimits(f, &c.Limits)
	for name, most := range c.Connections {
		connections[name] = f.Int("connections-"+name, most, connectionsFor[name])
	}
	for option, days := range server.KeepDays() {
		keep[option] = f.Int(option, days, "days; see the operator's guide")
	}
	return cmd
}

// connectionsFor says what connections to the records are for, so that none waits for what matters less.
var connectionsFor = map[string]string{
	"changes": "to the records at once, for what people change",
	"door":    "to the records at once, for who asks",
	"feed":    "to the records at once, for the revisions",
	"pages":   "to the records at once, for what is shown",
	"work":    "to the records at once, for reports and what is done behind",
}

// browserLimits are the options that bound what pages may take.
func browserLimits(f *pflag.FlagSet, l *web.Limits) {
	f.IntVar(&l.Browsers, "limit-browsers", l.Browsers, "streams of browsers open at once")
	f.IntVar(&l.KeyStreams, "limit-key-streams", l.KeyStreams, "streams with one browser key open at once")
	f.IntVar(&l.Address, "limit-address-streams", l.Address, "streams of browsers from one address open at once")
}

// networks reads networks of proxies; an address by itself is a network of one.
func networks(texts []string) (all []netip.Prefix, err error) {
	for _, t := range texts {
		p, err := netip.ParsePrefix(t)
		if ip, e := netip.ParseAddr(t); e == nil {
			p, err = netip.PrefixFrom(ip, ip.BitLen()), nil
		}
		if err != nil {
			return nil, coded(exitUsage, "--trusted-proxies: %q is no network such as 10.0.0.0/8", t)
		}
		all = append(all, p)
	}
	return all, nil
}

// logs are the options of what is logged, and how.
type logs struct{ format, level string }

func (l *logs) options(f *pflag.FlagSet, oneOf *int) {
	f.StringVar(&l.format, "log-format", "text", "text or json")
	f.StringVar(&l.level, "log-level", "info", "debug, info, warn or error")
	f.IntVar(oneOf, "log-requests", 0, "of how many requests that went well one is logged; 0: none. Those that "+
		"fail "+
		"here and slow ones always are")
}

func (s *session) logger(l logs) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(l.level)); err != nil {
		return nil, coded(exitUsage, "--log-level must be debug, info, warn or error, not %q", l.level)
	}
	options := &slog.HandlerOptions{Level: level}
	switch l.format {
	case "json":
		return slog.New(slog.NewJSONHandler(s.err, options)), nil
	case "text":
		return slog.New(slog.NewTextHandler(s.err, options)), nil
	}
	return nil, coded(exitUsage, "--log-format must be text or json")
}

// secret reads what may stand in a file of its own instead of an option.
func secret(option, text, file string) (string, error) {
	switch {
	case file == "":
		return text, nil
	case text != "":
		return "", coded(exitUsage, "give --%s or --%s-file, not both", option, option)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", coded(exitUsage, "--%s-file: %v", option, err)
	}
	return strings.TrimSpace(string(raw)), nil
}

func defaultDir() string {
	if dir, err := os.UserConfigDir(); err == nil {
		return filepath.Join(dir, "greenlever")
	}
	return ".greenlever"
}

// fill sets the options that were not given from the environment and the file.
func fill(f *pflag.FlagSet, command string, file *string) error {
	variable := func(name string) string {
		return "GREENLEVER_" + command + "_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
	}
	if *file == "" {
		*file = os.Getenv(variable("config"))
	}
	kept := map[string]any{}
	if *file != "" {
		raw, err := os.ReadFile(*file)
		if err != nil {
			return fmt.Errorf("the configuration: %w", err)
		}
		if err := yaml.Unmarshal(raw, &kept); err != nil {
			return fmt.Errorf("the configuration %s: %w", *file, err)
		}
		for name := range kept {
			if f.Lookup(name) == nil && f.Lookup("listen") != nil {
				return coded(exitUsage, "%s: there is no option %q", *file, name)
			}
		}
	}
	var err error
	f.VisitAll(func(o *pflag.Flag) {
		if o.Changed || err != nil || o.Name == "config" {
			return
		}
		if v := os.Getenv(variable(o.Name)); v != "" {
			if e := o.Value.Set(v); e != nil {
				err = coded(exitUsage, "%s: %w", variable(o.Name), e)
			}
		} else if v, ok := kept[o.Name]; ok {
			text := fmt.Sprint(v)
			if list, ok := v.([]any); ok {
				parts := make([]string, len(list))
				for i, one := range list {
					parts[i] = fmt.Sprint(one)
				}
				text = strings.Join(parts, ",")
			}
			if e := o.Value.Set(text); e != nil {
				err = coded(exitUsage, "%s: %s: %w", *file, o.Name, e)
			}
		}
	})
	return err
}

// providersIn reads with which providers people sign in.
func providersIn(path string) (c identity.Config, err error) {
	if path == "" {
		return c, nil
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return c, coded(exitUsage, "--identity: %v", err)
	}
	if err := yaml.Load(raw, &c, yaml.WithKnownFields()); err != nil {
		return c, coded(exitUsage, "%s: %v", path, err)
	}
	if err := c.Check(); err != nil {
		return c, coded(exitUsage, "%s: %v", path, err)
	}
	return c, nil
}
