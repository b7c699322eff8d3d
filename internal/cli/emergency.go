package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"greenlever.example/core/flag"
	"greenlever.example/greenlever/internal/app/emergency"
	"greenlever.example/greenlever/internal/app/guard"
	"greenlever.example/greenlever/internal/app/orders"
	"greenlever.example/greenlever/internal/edge"
	"greenlever.example/greenlever/internal/wholefile"
)

var _ = listed("stop", (*session).emergencyCommand)

func (s *session) emergencyCommand() *cobra.Command {
	return group("emergency", "Stop flags by a signed order while the records are away",
		s.orderCommand(&cobra.Command{Use: "stop FLAG...",
			Short: "Sign an order that stops flags, and hand it out",
			Long:  "The order goes to every process of the service and every outpost that is named.",
			Example: "  greenlever emergency stop weather-holds --env production --key emergency.pem \\\n" +
				"    --to https://flags-1.pinecrest.example,https://flags-2.pinecrest.example"},
			func(o *flag.Order, names []string) { o.Flags = names }),
		s.orderCommand(&cobra.Command{Use: "lift STOP...", Short: "Sign an order that lifts stops, by their ids",
			Example: "  greenlever emergency lift 0d4b3a52-8a86-4f1c-9d1e-0f6ea1a2b3c4 --env production \\\n" +
				"    --key emergency.pem"},
			func(o *flag.Order, ids []string) { o.Lifts = ids }),
		s.emergencyKeyCommand())
}

// orderTime is how long a process may take over an order; they are asked all at once.
const orderTime = 10 * time.Second

// given is what came of an order at one address.
type given struct {
	To    string        `json:"to"`
	Taken *orders.Taken `json:"taken,omitempty"`
	Error string        `json:"error,omitempty"`
}

func (s *session) orderCommand(c *cobra.Command, about func(*flag.Order, []string)) *cobra.Command {
	var key string
	var to []string
	var life time.Duration
	var text bool
	c.Args = func(_ *cobra.Command, args []string) error {
		if len(args) == 0 {
			return coded(exitUsage, "say which: %s", c.Use)
		}
		return nil
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		all, err := readProfiles()
		if err != nil {
			return err
		}
		p := all[s.profile]
		project := cmp.Or(s.project, os.Getenv("GREENLEVER_PROJECT"), p.Project)
		env := cmp.Or(s.env, os.Getenv("GREENLEVER_ENV"), p.Env)
		if project == "" || env == "" {
			return coded(exitUsage, "say where: --project and --env, as they are called in the console's address")
		}
		path := cmp.Or(key, os.Getenv("GREENLEVER_EMERGENCY_KEY"))
		if path == "" {
			return coded(exitUsage, "--key or GREENLEVER_EMERGENCY_KEY names the file of the emergency key, which "+
				"the keeper got when the service was set up")
		}
		raw, err := s.readFile(path)
		if err != nil {
			return coded(exitUsage, "the emergency key: %w", err)
		}
		private, err := orders.ReadKey(raw)
		if err != nil {
			return coded(exitUsage, "%s: %w", path, err)
		}
		now := time.Now()
		o := &flag.Order{ID: uuid.NewString(), Of: project + "/" + env, Reason: s.because, Issued: now.UnixMilli(),
			Expires: now.Add(life).UnixMilli()}
		about(o, args)
		signed, err := o.Sign(private)
		if err != nil {
			return coded(exitInvalid, "%w", err)
		}
		if text {
			s.say("%s", signed)
			return nil
		}
		if len(to) == 0 {
			to = strings.Split(cmp.Or(os.Getenv("GREENLEVER_EMERGENCY_TO"), s.url, os.Getenv("GREENLEVER_URL"), p.URL),
				",")
		}
		to = slices.DeleteFunc(to, func(address string) bool { return strings.TrimSpace(address) == "" })
		if len(to) == 0 {
			return coded(exitUsage, "--to names the addresses of the service's processes and of outposts")
		}
		return s.gave(o, s.give(cmd.Context(), signed, to))
	}
	c.Flags().StringVar(&key, "key", "", "the file of the emergency key (default GREENLEVER_EMERGENCY_KEY)")
	c.Flags().StringSliceVar(&to, "to", nil, "addresses of processes of the service and of outposts, all that there "+
		"are (default GREENLEVER_EMERGENCY_TO, then the service's address)")
	c.Flags().DurationVar(&life, "for", time.Hour, "for how long the order is accepted; what it stops stays stopped")
	c.Flags().BoolVar(&text, "text", false, "print the order and hand it to nobody: whoever can reach a process "+
		"posts it to "+edge.EmergencyPath)
	return c
}

// give hands an order to all addresses at once.
func (s *session) give(ctx context.Context, signed string, to []string) []given {
	ctx, cancel := context.WithTimeout(ctx, orderTime)
	defer cancel()
	out, done := make([]given, len(to)), make([]<-chan struct{}, len(to))
	for i, address := range to {
		out[i] = given{To: strings.TrimRight(strings.TrimSpace(address), "/"), Error: "it was given up"}
		done[i] = guard.Go(slog.Default(), "hand an order to "+address, func() {
			taken, err := giveOne(ctx, out[i].To, signed)
			if out[i].Taken, out[i].Error = taken, ""; err != nil {
				out[i].Error = err.Error()
			}
		})
	}
	for _, one := range done {
		<-one
	}
	return out
}

func giveOne(ctx context.Context, address, signed string) (*orders.Taken, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address+edge.EmergencyPath,
		strings.NewReader(signed))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/jose")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, fmt.Errorf("cannot be reached: %w", err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return nil, fmt.Errorf("its answer breaks off: %w", err)
	}
	if res.StatusCode != http.StatusOK {
		var problem struct{ Title, Detail string }
		_ = json.Unmarshal(raw, &problem)
		return nil, fmt.Errorf("refused: %s", cmp.Or(problem.Detail, problem.Title, res.Status))
	}
	var taken orders.Taken
	return &taken, json.Unmarshal(raw, &taken)
}

// gave says what came of an order, address by address.
func (s *session) gave(o *flag.Order, all []given) error {
	took := 0
	unknown := map[string]bool{}
	for _, g := range all {
		if g.Taken != nil {
			took++
			for _, key := range g.Taken.Unknown {
				unknown[key] = true
			}
		}
	}
	err := s.show(struct {
		Order *flag.Order `json:"order"`
		Given []given     `json:"given"`
	}{o, all}, func() {
		s.say("%s", o.ID)
		var rows [][]any
		for _, g := range all {
			came := g.Error
			if g.Taken != nil {
				if came = "has it"; g.Taken.Again {
					came = "had it already"
				}
			}
			rows = append(rows, []any{g.To, came})
		}
		s.rows([]any{"address", "order"}, rows)
	})
	if err != nil {
		return err
	}
	for key := range unknown {
		s.note("there is no flag %s in %s", key, o.Of)
	}
	switch {
	case took == 0:
		return coded(exitNoConnection, "nobody has taken the order: try other addresses with --to")
	case len(unknown) == len(o.Flags) && len(o.Flags) > 0:
		return coded(exitNotFound, "none of these flags is known there: nothing is stopped")
	case took < len(all):
		return coded(exitUnsound, "%d of %d have the order: what follows the others decides as before, until they "+
			"have it too or the records are back", took, len(all))
	}
	if len(o.Flags) > 0 {
		s.note("who follows them has it within a second; it becomes an ordinary stop when the records are back")
		s.note("take it back:    greenlever emergency lift %s --env %s", o.ID, o.Of[strings.IndexByte(o.Of, '/')+1:])
	}
	return nil
}

func (s *session) emergencyKeyCommand() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "key",
		Short: "Make a new key for emergency orders",
		Long:  "The key that there was before is refused from then on.",
		Args:  exactly(), Example: "  greenlever emergency key --out emergency.pem",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if out == "" {
				return coded(exitUsage, "--out names the file for the private half: it is shown to nobody else, and "+
					"kept nowhere")
			}
			if _, err := os.Stat(out); err == nil {
				return coded(exitUsage, "%s is there already: name another file", out)
			}
			a, err := s.connect()
			if err != nil {
				return err
			}
			if !s.yes {
				answer, err := s.ask("Orders that are signed with the key of before will be refused, and all who " +
					"follow load their rulesets anew. Make a new key? [y/N] ")
				if err != nil {
					return coded(exitUsage, "add --yes to make a new key without a question")
				}
				if !strings.EqualFold(answer, "y") {
					return coded(exitFailed, "nothing was changed")
				}
			}
			var made emergency.Renewed
			if err := a.do(cmd.Context(), request{method: "POST", path: "/emergency-key",
				body: map[string]string{"reason": s.because}}, &made); err != nil {
				return err
			}
			if err := wholefile.Write(out, []byte(made.Private)); err != nil {
				return fmt.Errorf("the key was made and could not be written: make another one: %w", err)
			}
			made.Private = ""
			return s.show(made, func() {
				s.say("%s", made.Public)
				s.note("the private half is in %s: give it to whoever is on call, and keep a copy away from the "+
					"service", out)
			})
		}}
	c.Flags().StringVar(&out, "out", "", "the file for the private half")
	return c
}
