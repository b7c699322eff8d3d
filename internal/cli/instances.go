package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"greenlever.example/core/wire"
	"greenlever.example/core/words"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/delivery"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("stop", (*session).instancesCommand)

func (s *session) instancesCommand() *cobra.Command {
	c := &cobra.Command{Use: "instances", Short: "Which process has which revision, and which are lost",
		Args: exactly(), RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, _, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			var d manage.Instances
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/instances"}, &d); err != nil {
				return err
			}
			return s.show(d, func() { s.printInstances(&d) })
		}}
	var silent bool
	gone := &cobra.Command{Use: "gone [INSTANCE]", Short: "Vouch for lost processes: they decide no more",
		Long: "Takes a process that fell silent off the list of the lost, or with --all-silent all of them. Silence " +
			"alone\nproves nothing, so a person says that they decide no more, with a reason, and the audit keeps " +
			"who said so.",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 || (len(args) == 1) == silent {
				return coded(exitUsage, "name one process, or all that are silent with --all-silent; see %s --help",
					cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, env, err := s.inEnvironment(cmd.Context())
			if err != nil {
				return err
			}
			who, at := "all instances that are silent decide", path+"/instances/gone"
			if !silent {
				id, err := s.instanceLike(cmd.Context(), a, path, args[0])
				if err != nil {
					return err
				}
				who, at = "instance "+id+" decides", path+"/instances/"+url.PathEscape(id)+"/gone"
			}
			if err := s.confirm([]words.Said{words.Plain(who + " no more")}, env.AskFirst); err != nil {
				return err
			}
			var out delivery.AccountedFor
			if err := a.do(cmd.Context(), request{method: "POST", path: at,
				body: map[string]string{"reason": s.because}}, &out); err != nil {
				return err
			}
			return s.show(out, func() {
				for _, i := range out.Instances {
					s.note("%s %s %s is counted as gone", i.Application, i.Version, i.ID)
				}
				if more := out.Gone - len(out.Instances); more > 0 {
					s.note("and %d more", more)
				}
			})
		}}
	gone.Flags().BoolVar(&silent, "all-silent", false, "vouch for all that are silent")
	c.AddCommand(gone)
	return s.watched(c)
}

func (s *session) printInstances(d *manage.Instances) {
	s.say("revision %d of %s: delivered to %d of %d, %d lost", d.Revision, s.env, d.Delivered, d.Alive, len(d.Lost))
	if n := d.Newest; n != nil && n.Expected > 0 {
		s.say("of %d that were there when it was saved %d have it: %s", n.Expected, n.Reached, spreadWords(n))
	}
	if d.Streams+d.Pollers > 0 {
		s.say("beside them about %d streams of changes, of browsers and others, and %d units for which all answers "+
			"were asked for lately", d.Streams, d.Pollers)
	}
	outposts := map[string]string{}
	for _, i := range slices.Concat(d.Instances, d.Lost) {
		if i.Kind == wire.AnOutpost {
			outposts[i.ID] = i.Application
		}
	}
	var rows [][]any
	add := func(stands string, i *app.Instance) {
		via := "the service"
		if i.Via != "" {
			via = cmp.Or(outposts[i.Via], i.Via)
		}
		if i.Source != "service" {
			via = i.Source + ", " + via
		}
		name := i.Application
		if i.Kind == wire.AnOutpost {
			name += " (outpost)"
		}
		rows = append(rows, []any{state(stands), strings.TrimSpace(name + " " + i.Version), s.short(i.ID),
			i.Revision, via,
			s.when(i.Seen)})
	}
	for i := range d.Lost {
		add("lost", &d.Lost[i])
	}
	for i := range d.Instances {
		if x := &d.Instances[i]; x.Other {
			add("other history", x)
		} else if x.Epoch == d.Epoch && x.Revision >= d.Revision {
			add("has it", x)
		} else {
			add("not yet", x)
		}
	}
	for i := range d.Nodes {
		n := &d.Nodes[i]
		stands := state("serves")
		if n.Silent > 0 {
			stands = "serves no more"
		}
		rows = append(rows, []any{stands, strings.TrimSpace("greenlever " + n.Version), s.short(n.ID),
			n.NodePlace.Revision, "",
			""})
	}
	if len(rows) > 0 {
		s.rows([]any{"state", "application", "instance", "revision", "through", "last report"}, rows)
	}
}

// shortID is how much of an instance's id tells it from others, as a rule.
const shortID = 8

// short cuts an id on a screen, where nobody reads more of it.
func (s *session) short(id string) string {
	if s.screen.wide == 0 || strings.HasPrefix(id, "node-") {
		return id
	}
	return id[:min(shortID, len(id))]
}

// instanceLike gives the id of the instance that begins with what was typed.
func (s *session) instanceLike(ctx context.Context, a *api, path, typed string) (string, error) {
	var all manage.Instances
	if err := a.do(ctx, request{method: "GET", path: path + "/instances"}, &all); err != nil {
		return "", err
	}
	var like []string
	for _, i := range slices.Concat(all.Lost, all.Instances) {
		if strings.HasPrefix(i.ID, typed) {
			like = append(like, i.ID)
		}
	}
	switch len(like) {
	case 0:
		return typed, nil // the service says what it knows
	case 1:
		return like[0], nil
	}
	return "", coded(exitUsage, "%d instances begin with %s: %s", len(like), typed, strings.Join(like, ", "))
}

// spreadWords says how long a revision took.
func spreadWords(d *app.Delivery) string {
	var parts []string
	for _, t := range []struct {
		what  string
		after int64
	}{{"half", d.Half}, {"99 %", d.Most}, {"all", d.All}} {
		if t.after >= 0 {
			parts = append(parts, fmt.Sprintf("%s after %v", t.what, time.Duration(t.after)*time.Millisecond))
		}
	}
	if len(parts) == 0 {
		return "fewer than half"
	}
	return strings.Join(parts, ", ")
}
