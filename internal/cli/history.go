package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("look", (*session).historyCommand)

func parseWhen(text string) (int64, error) {
	if ms, err := strconv.ParseInt(text, 10, 64); err == nil {
		return ms, nil
	}
	t, err := parseTime(text)
	if err != nil {
		return 0, coded(exitUsage, "%q is no time: write 2026-11-23T08:00:00Z", text)
	}
	return t.UnixMilli(), nil
}

// historyPage is a page of the history as the API answers it.
type historyPage struct {
	Items  []manage.HistoryEntry `json:"items"`
	Cursor string                `json:"cursor,omitempty"`
}

func (s *session) historyCommand() *cobra.Command {
	var flagKey, person, from, to string
	var limit int
	var access bool
	c := &cobra.Command{Use: "history", Short: "Who changed what, when, why and through what", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			var a *api
			var path string
			var err error
			if access {
				a, err = s.connect()
			} else {
				a, path, err = s.inProject(cmd.Context())
			}
			if err != nil {
				return err
			}
			if strings.Contains(person, "@") {
				if person, err = s.personOf(cmd.Context(), a, path, person); err != nil {
					return err
				}
			}
			q := url.Values{"limit": {strconv.Itoa(min(limit, 200))}}
			for name, v := range map[string]string{"environment": s.env, "flag": flagKey, "person": person,
				"from": from, "to": to} {
				if v != "" && !(access && name == "environment") {
					q.Set(name, v)
				}
			}
			var all historyPage
			for {
				var page historyPage
				if err := a.do(cmd.Context(), request{method: "GET", path: path + "/history?" + q.Encode()},
					&page); err != nil {
					return err
				}
				all.Items = append(all.Items, page.Items...)
				if page.Cursor == "" || len(all.Items) >= limit {
					break
				}
				q.Set("cursor", page.Cursor)
			}
			return s.show(all.Items, func() {
				for i := range all.Items {
					s.printEntry(&all.Items[i])
				}
			})
		}}
	f := c.Flags()
	f.StringVar(&flagKey, "flag", "", "only what changed this flag")
	f.StringVar(&person, "person", "", "only what this person did: an e-mail address, or an account's id")
	f.StringVar(&from, "from", "", "from this time on")
	f.StringVar(&to, "to", "", "before this time")
	f.IntVar(&limit, "limit", 20, "how many entries")
	f.BoolVar(&access, "access", false, "the chain of accounts, keys and sign-ins instead")
	return s.watched(c)
}

func (s *session) printEntry(e *manage.HistoryEntry) {
	who := e.Name
	if who == "" {
		who = e.Actor.Kind
	}
	where := e.Environment
	if e.Revision > 0 {
		where += fmt.Sprintf(" revision %d", e.Revision)
	}
	s.say("%s  %s  %s  %s  by %s through %s", s.screen.paint(faint, s.when(e.At)), s.screen.paint(strong, e.Action),
		e.Subject, where, who, e.Actor.Through)
	for _, line := range e.Difference {
		s.say("    %s", wrap(said(line), s.wide(), 4))
	}
	if e.Reason != "" {
		s.say("    because %s", wrap(e.Reason, s.wide(), 12))
	}
	s.say("    %s", s.screen.paint(faint, "change "+e.Change))
}

func parseTime(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	return time.ParseInLocation(time.DateOnly, text, time.Local)
}

// personOf is the account's id of an e-mail address: of the project's people everybody may find it.
func (s *session) personOf(ctx context.Context, a *api, path, email string) (string, error) {
	var all struct{ Items []manage.Person }
	if path != "" {
		if err := a.do(ctx, request{method: "GET", path: path + "/people"}, &all); err != nil {
			return "", err
		}
	}
	for _, p := range all.Items {
		if strings.EqualFold(p.Email, email) {
			return p.Account, nil
		}
	}
	return a.account(ctx, email)
}
