package cli

import (
	"context"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/webhooks"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("places", (*session).webhookCommand)

func (s *session) webhooks(ctx context.Context) (*api, string, []manage.WebhookView, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	var all struct{ Items []manage.WebhookView }
	err = a.do(ctx, request{method: "GET", path: path + "/webhooks"}, &all)
	return a, path, all.Items, err
}

func (s *session) webhookCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "Whom webhooks tell of what, and how that goes", Args: exactly(),
		Example: "  greenlever webhook list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, _, all, err := s.webhooks(cmd.Context())
			if err != nil {
				return err
			}
			return s.show(all, func() {
				var rows [][]any
				for _, w := range all {
					rows = append(rows, []any{w.ID, w.Title, w.URL, strings.Join(w.Kinds, " "), w.Arrived, w.Waits,
						w.Parked})
				}
				s.rows([]any{"webhook", "name", "address", "of what", "told", "waits", "parked"}, rows)
			})
		}}
	return group("webhook", "Tell other systems of changes", list, s.webhookMake(), s.webhookEdit(), s.webhookEvents(),
		s.webhookDo("rotate", "Give a webhook a new secret; the old one signs for a day more", true),
		s.webhookReplay(), s.webhookDo("remove", "Take a webhook away, with what it was not told yet", false))
}

func webhookOptions(c *cobra.Command, w *app.Webhook) {
	f := c.Flags()
	f.StringVar(&w.Title, "name", w.Title, "what people call it")
	f.StringSliceVar(&w.Kinds, "kind", w.Kinds, "of what: flag.changed, release.*, ...; of everything if left out")
	f.StringSliceVar(&w.Environments, "in", w.Environments, "environments; all if left out")
	f.StringSliceVar(&w.Flags, "flag", w.Flags, "flags; all if left out")
	f.StringSliceVar(&w.Tags, "tag", w.Tags, "tags of flags; any if left out")
	f.BoolVar(&w.Off, "off", w.Off, "tell it nothing for now")
}

func (s *session) webhookMake() *cobra.Command {
	var w app.Webhook
	c := &cobra.Command{Use: "make URL", Short: "Make a webhook; the secret that signs is shown once",
		Args:    exactly("URL"),
		Example: "  greenlever webhook make https://tickets.pinecrest.example/told --name Tickets --kind 'release.*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			if w.URL = args[0]; w.Title == "" {
				w.Title = w.URL
			}
			var made webhooks.Saved
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/webhooks",
				body: map[string]any{"webhook": w, "reason": s.because}}, &made); err != nil {
				return err
			}
			return s.show(made, func() {
				s.say("%s", made.Secret)
				s.note("webhook %s is told from now on; keep the secret: it is shown once", made.ID)
			})
		}}
	webhookOptions(c, &w)
	return c
}

func (s *session) webhookEdit() *cobra.Command {
	var w app.Webhook
	var address string
	c := &cobra.Command{Use: "edit WEBHOOK", Short: "Change whom a webhook tells of what; what is not named stays",
		Args: exactly("WEBHOOK"), Example: "  greenlever webhook edit WEBHOOK --kind flag.stopped --kind flag.lifted",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, all, err := s.webhooks(cmd.Context())
			if err != nil {
				return err
			}
			for _, was := range all {
				if was.ID != args[0] {
					continue
				}
				now, set := was.Webhook, cmd.Flags().Changed
				for name, take := range map[string]func(){"name": func() { now.Title = w.Title },
					"kind": func() { now.Kinds = w.Kinds }, "in": func() { now.Environments = w.Environments },
					"flag": func() { now.Flags = w.Flags }, "tag": func() { now.Tags = w.Tags },
					"off": func() { now.Off = w.Off }, "address": func() { now.URL = address }} {
					if set(name) {
						take()
					}
				}
				var saved webhooks.Saved
				if err := a.do(cmd.Context(),
					request{method: "PUT", path: path + "/webhooks/" + url.PathEscape(was.ID),
						body: map[string]any{"webhook": now, "reason": s.because}}, &saved); err != nil {
					return err
				}
				return s.show(saved, func() { s.note("webhook %s is saved", saved.ID) })
			}
			return coded(exitNotFound, "there is no webhook %s: greenlever webhook list names those that there are",
				args[0])
		}}
	webhookOptions(c, &w)
	c.Flags().StringVar(&address, "address", "", "its address")
	return c
}

func (s *session) webhookEvents() *cobra.Command {
	return &cobra.Command{Use: "events WEBHOOK", Short: "What a webhook was told, newest first, and what waits",
		Args: exactly("WEBHOOK"), Example: "  greenlever webhook events WEBHOOK",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []app.Notice }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/webhooks/" + url.PathEscape(args[0]) +
				"/notices"}, &all); err != nil {
				return err
			}
			return s.show(all.Items, func() {
				var rows [][]any
				for _, n := range all.Items {
					stands := map[app.NoticeState]string{app.NoticeWaits: "waits", app.NoticeArrived: "told",
						app.NoticeParked: "parked"}[n.State]
					rows = append(rows, []any{n.Number, s.when(n.At), n.Action, n.Subject, stands, n.Attempts,
						n.Answer})
				}
				s.rows([]any{"event", "at", "what", "of", "stands", "tries", "last answer"}, rows)
			})
		}}
}

func (s *session) webhookReplay() *cobra.Command {
	return &cobra.Command{Use: "replay WEBHOOK [EVENT...]", Short: "Tell a webhook again: some events, or all that " +
		"were parked",
		Example: "  greenlever webhook replay WEBHOOK", Args: atLeastOne("WEBHOOK"),
		RunE: func(cmd *cobra.Command, args []string) error {
			numbers := []int64{}
			for _, arg := range args[1:] {
				n, err := strconv.ParseInt(arg, 10, 64)
				if err != nil {
					return coded(exitUsage, "EVENT is a number from webhook events, not %q", arg)
				}
				numbers = append(numbers, n)
			}
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var done webhooks.Replayed
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/webhooks/" + url.PathEscape(args[0]) +
				"/replay", body: map[string]any{"numbers": numbers, "reason": s.because}}, &done); err != nil {
				return err
			}
			return s.show(done, func() { s.note("%s told again", counted(int(done.Count), "event is", "events are")) })
		}}
}

func (s *session) webhookDo(do, short string, secret bool) *cobra.Command {
	return &cobra.Command{Use: do + " WEBHOOK", Short: short, Args: exactly("WEBHOOK"),
		Example: "  greenlever webhook " + do + " WEBHOOK",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var done webhooks.Saved
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/webhooks/" + url.PathEscape(args[0]) +
				"/" +
				do, body: map[string]any{"reason": s.because}}, &done); err != nil {
				return err
			}
			return s.show(done, func() {
				if secret {
					s.say("%s", done.Secret)
				}
			})
		}}
}
