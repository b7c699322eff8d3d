package cli

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app/ledger"
)

// metricSend sends measurements from a script or a cron job.
func (s *session) metricSend() *cobra.Command {
	var unit, value, at, id, file string
	var set []string
	c := &cobra.Command{Use: "send [METRIC]", Short: "Send what was measured, from a script or a cron job",
		Long: "Send takes an access key of kind ingest, or service, in GREENLEVER_INGEST_KEY or GREENLEVER_KEY. It " +
			"sends one event, or a file with one JSON object in each line, such as\n" +
			`  {"metric": "door-open-ms", "context": {"targetingKey": "dell"}, "value": 850}` +
			"\nIt sends a batch again until it knows that it was taken: each counts once.",
		Args: cobra.MaximumNArgs(1),
		Example: "  greenlever metric send door-open-failed --unit recipient-17 --value true\n  greenlever metric " +
			"send -f events.jsonl",
		RunE: func(cmd *cobra.Command, args []string) error {
			var events []ledger.Event
			var err error
			switch {
			case file != "" && len(args) == 0:
				events, err = s.readEvents(file)
			case file == "" && len(args) == 1 && unit != "" && value != "":
				events, err = oneEvent(args[0], unit, set, value, at, id)
			default:
				return coded(exitUsage, "say METRIC with --unit and --value, or -f FILE; see --help")
			}
			if err != nil {
				return err
			}
			return s.sendEvents(cmd.Context(), events)
		}}
	f := c.Flags()
	f.StringVar(&unit, "unit", "", "whose it is: a targeting key")
	f.StringArrayVar(&set, "set", nil, "NAME=VALUE: what else the unit is told by, such as site.id=site-12")
	f.StringVar(&value, "value", "", "a number; of a rate true or false")
	f.StringVar(&at, "at", "", "when it happened, such as 2026-12-01T08:00:00+01:00; now if left out")
	f.StringVar(&id, "id", "", "tells it from another one where it is sent twice")
	f.StringVarP(&file, "file", "f", "", "a file with an event in each line; - is standard input")
	return c
}

func oneEvent(metric, unit string, set []string, value, at, id string) ([]ledger.Event, error) {
	c, err := contextOf([]string{unit}, set)
	if err != nil {
		return nil, err
	}
	e := ledger.Event{Metric: metric, ID: id}
	if e.Context, err = json.Marshal(c); err != nil {
		return nil, err
	}
	if e.Value = json.RawMessage(value); !json.Valid(e.Value) {
		return nil, coded(exitUsage, "--value takes a number, or true or false, not %q", value)
	}
	if at != "" {
		e.At, err = json.Marshal(at)
	}
	return []ledger.Event{e}, err
}

// readEvents reads a file with an event in each line.
func (s *session) readEvents(file string) (out []ledger.Event, err error) {
	raw, err := s.readFile(file)
	if err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		var e ledger.Event
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return nil, coded(exitInvalid, "%s: line %d: is no event: %v", file, n, err)
		}
		out = append(out, e)
	}
	if err := lines.Err(); err != nil {
		return nil, coded(exitInvalid, "%s: %v", file, err)
	}
	if len(out) == 0 {
		return nil, coded(exitInvalid, "%s has no events", file)
	}
	return out, nil
}

// sendEvents sends events in batches. A part of a batch that is refused is said, and fails the command.
func (s *session) sendEvents(ctx context.Context, events []ledger.Event) error {
	s.measures = true
	a, err := s.connect()
	if err != nil {
		return err
	}
	if a.Token = os.Getenv("GREENLEVER_INGEST_KEY"); a.Token == "" {
		a.Token = os.Getenv("GREENLEVER_KEY")
	}
	if a.Token == "" {
		return coded(exitRefused, "set GREENLEVER_INGEST_KEY to an access key of kind ingest: greenlever key make "+
			"--kind ingest")
	}
	run, sent, refused := rand.Text(), 0, 0
	for at := 0; at < len(events); at += ledger.MaxEvents {
		some := events[at:min(at+ledger.MaxEvents, len(events))]
		var told ledger.Told
		r := request{method: "POST", path: "/events", base: "/ingest/v1", body: ledger.Batch{
			Batch: fmt.Sprint("cli ", run, " ", at), Application: "script", Events: some}}
		if err := a.do(ctx, r, &told); err != nil {
			return err
		}
		sent += told.Events
		for _, no := range told.Refused {
			refused += no.Count
			s.note("event %d: %s (%d of them)", at+no.Event+1, no.Why, no.Count)
		}
		if len(events) > ledger.MaxEvents {
			s.note("%d of %d events", at+len(some), len(events))
		}
	}
	if err := s.show(map[string]int{"sent": sent, "refused": refused}, func() {
		s.say("sent %d, refused %d", sent, refused)
	}); err != nil {
		return err
	}
	if refused > 0 {
		return coded(exitInvalid, "%d events are refused", refused)
	}
	return nil
}
