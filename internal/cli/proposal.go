package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/proposals"
	"greenlever.example/greenlever/internal/manage"
)

var _ = listed("change", (*session).proposalCommand)

func (s *session) proposalCommand() *cobra.Command {
	sign := s.ofProposal("sign", "Sign a proposal as it is now", func(cmd *cobra.Command, a *api, path string,
		v *manage.ProposalView) (any, error) {
		back, _ := cmd.Flags().GetBool("back")
		return nil, a.do(cmd.Context(), request{method: "POST", path: path + "/signatures",
			body: proposals.Sign{Digest: v.Digest, Back: back}}, nil)
	})
	sign.Flags().Bool("back", false, "take your signature back instead")
	withdraw := s.ofProposal("withdraw", "Give a proposal up", func(cmd *cobra.Command, a *api, path string,
		_ *manage.ProposalView) (any, error) {
		return nil, a.do(cmd.Context(), request{method: "POST", path: path + "/withdraw"}, nil)
	})
	apply := s.ofProposal("apply", "Make what is proposed, all at once", func(cmd *cobra.Command, a *api, path string,
		_ *manage.ProposalView) (any, error) {
		return nil, a.do(cmd.Context(), request{method: "POST", path: path + "/apply"}, nil)
	})
	return group("proposal", "Changes that others sign, and that are made later", s.proposalList(), s.proposalShow(),
		s.proposalEdit(), sign, s.proposalComment(), s.proposalTakeOut(), apply, withdraw)
}

// proposalAt finds a proposal by its id, the end of it, or its title.
func (s *session) proposalAt(ctx context.Context, named string) (*api, string, *manage.ProposalView, error) {
	a, path, err := s.inProject(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	var all struct{ Items []manage.ProposalLine }
	if err := a.do(ctx, request{method: "GET", path: path + "/proposals"}, &all); err != nil {
		return nil, "", nil, err
	}
	found := slices.DeleteFunc(all.Items, func(l manage.ProposalLine) bool {
		return l.ID != named && l.Title != named && (len(named) < 4 || !strings.HasSuffix(l.ID, named))
	})
	if open := slices.DeleteFunc(slices.Clone(found), func(l manage.ProposalLine) bool { return l.Ended > 0 }); len(
		found) > 1 && len(open) == 1 {
		found = open
	}
	switch len(found) {
	case 0:
		found = []manage.ProposalLine{{ID: named}} // the service says that there is none
	case 1:
	default:
		return nil, "", nil, coded(exitUsage, "%q are several proposals: name one by its id", named)
	}
	path += "/proposals/" + url.PathEscape(found[0].ID)
	var v manage.ProposalView
	return a, path, &v, a.do(ctx, request{method: "GET", path: path}, &v)
}

// ofProposal is a command that does something with a proposal and shows what became of it.
func (s *session) ofProposal(name, short string, do func(cmd *cobra.Command, a *api, path string,
	v *manage.ProposalView) (any, error)) *cobra.Command {
	return &cobra.Command{Use: name + " PROPOSAL", Short: short, Args: exactly("PROPOSAL"),
		Example: "  greenlever proposal " + name + " PROPOSAL",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, v, err := s.proposalAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if _, err := do(cmd, a, path, v); err != nil {
				return err
			}
			return s.shownProposal(cmd.Context(), a, path)
		}}
}

// shownProposal says how a proposal stands after something happened to it.
func (s *session) shownProposal(ctx context.Context, a *api, path string) error {
	var v manage.ProposalView
	if err := a.do(ctx, request{method: "GET", path: path}, &v); err != nil {
		return err
	}
	return s.show(v, func() { s.note("%s: %s", v.Title, s.stands(&v.ProposalLine)) })
}

func (s *session) proposalList() *cobra.Command {
	var over, mine bool
	c := &cobra.Command{Use: "list", Short: "What is proposed in the project, and what it waits for", Args: exactly(),
		Example: "  greenlever proposal list\n  greenlever proposal list --for-me",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, path, err := s.inProject(cmd.Context())
			if err != nil {
				return err
			}
			var all struct{ Items []manage.ProposalLine }
			if err := a.do(cmd.Context(), request{method: "GET", path: path + "/proposals"}, &all); err != nil {
				return err
			}
			items := slices.DeleteFunc(all.Items, func(l manage.ProposalLine) bool {
				return !over && l.Ended > 0 || mine && !l.ForMe
			})
			return s.show(items, func() {
				for i := range items {
					l := &items[i]
					s.say("%s  %s", s.screen.paint(strong, l.Title), s.stands(l))
					s.say("  %s by %s, %s", counted(l.Changes, "change", "changes"), l.Author, s.when(l.Made))
					s.say("  %s", l.ID)
				}
				if len(items) == 0 {
					s.note("nothing is proposed")
				}
			})
		}}
	c.Flags().BoolVar(&over, "over", false, "those too that are made, withdrawn or expired")
	c.Flags().BoolVar(&mine, "for-me", false, "those alone that wait for your signature")
	return c
}

// stands says how a proposal stands, and what it lacks.
func (s *session) stands(l *manage.ProposalLine) string {
	says := string(l.State)
	tone := faint
	switch l.State {
	case app.ProposalOpen:
		says, tone = "○ open", waits
		for _, w := range l.Wants {
			if w.Has < w.Need {
				says += ", " + lacks(&w)
			}
		}
		if l.Refused != "" {
			says += ", " + l.Refused
		}
	case app.ProposalSigned:
		says, tone = "● signed", good
	case app.ProposalDue:
		says, tone = "● due at "+s.when(l.At), good
	case app.ProposalDone:
		says = "● made " + s.when(l.Ended)
	}
	if l.Waits != "" && l.Ended == 0 {
		says += "; could not be made: " + l.Waits
	}
	return s.screen.paint(tone, says)
}

func lacks(w *proposals.Want) string {
	where := cmp.Or(w.Environment, "the project")
	if w.Signing != nil {
		return fmt.Sprintf("%s wants %s, has %d", where, w.Signing, w.Has)
	}
	return fmt.Sprintf("%s wants a signature of one who may %s", where, w.Action)
}

func (s *session) proposalShow() *cobra.Command {
	return &cobra.Command{Use: "show PROPOSAL", Short: "What a proposal changes and moves, and what is said of it",
		Args: exactly("PROPOSAL"), Example: "  greenlever proposal show PROPOSAL",
		Long: "A proposal is named by its id, the end of its id, or its title.",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, v, err := s.proposalAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return s.show(v, func() { s.printProposal(v) })
		}}
}

func (s *session) printProposal(v *manage.ProposalView) {
	s.say("%s", s.screen.paint(strong, v.Title))
	s.say("%s", s.stands(&v.ProposalLine))
	s.say("by %s, %s", v.Author, s.when(v.Made))
	if v.Reason != "" && v.Reason != v.Title {
		s.say("%s", v.Reason)
	}
	for i := range v.Items {
		item := &v.Items[i]
		s.say("")
		s.say("%d  %s %s %s", i+1, item.What, s.screen.paint(strong, item.Of), item.Environment)
		if item.Moved {
			s.say("   %s", s.screen.paint(waits, map[bool]string{false: "carried over: others changed it meanwhile",
				true: "others changed it meanwhile, and this changes something else now"}[item.Changed]))
		}
		for _, l := range item.Says {
			for _, line := range l.Lines {
				s.say("   %s", said(line))
			}
		}
		if len(item.Was) > 0 {
			s.say("   before: %s", said(item.Was))
			s.say("   after:  %s", said(item.Is))
		}
		for _, c := range item.Conflicts {
			s.say("   %s", s.screen.paint(bad, "both changed "+c.Place))
			s.say("     it was %s, is now %s, and is proposed as %s", c.Base, c.Theirs, c.Ours)
		}
	}
	for _, p := range v.Previews {
		s.say("")
		s.say("in %s", p.Environment)
		for _, line := range s.previewLines(p.Preview, nil) {
			s.say("  %s", line)
		}
	}
	for _, n := range v.Notes {
		s.say("%s", said(n))
	}
	if v.Blocked != "" {
		s.say("%s", s.screen.paint(bad, "it could not be made now: "+v.Blocked))
	}
	for _, one := range v.Signatures {
		s.say("signed by %s, %s", one.Name, s.when(one.At))
	}
	for _, one := range v.Comments {
		s.say("%s, %s: %s", one.Name, s.when(one.At), one.Text)
	}
	if v.Could["sign"] {
		s.note("sign it: %s", s.next("proposal", "sign", v.ID))
	}
	if v.Could["apply"] {
		s.note("make it: %s", s.next("proposal", "apply", v.ID))
	}
}

func (s *session) proposalEdit() *cobra.Command {
	var title, at, latest string
	var take, byHand bool
	c := &cobra.Command{Use: "edit PROPOSAL", Short: "Say otherwise what a proposal is for, or when it is made",
		Args: exactly("PROPOSAL"),
		Example: "  greenlever proposal edit PROPOSAL --at 2026-12-07T08:00:00+01:00\n" +
			"  greenlever proposal edit PROPOSAL --take",
		Long: "What it changes is edited by proposing it again: the same command with --propose=PROPOSAL.",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, v, err := s.proposalAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			in := proposals.Edit{Take: take}
			if cmd.Flags().Changed("title") {
				in.Title = &title
			}
			if s.because != "" {
				in.Reason = &s.because
			}
			for _, one := range []struct {
				text string
				into **int64
			}{{at, &in.At}, {latest, &in.Latest}} {
				if one.text == "" {
					continue
				}
				t, err := parseTime(one.text)
				if err != nil {
					return coded(exitUsage, "%q is no time: write 2026-12-23, or 2026-12-23T16:00:00+01:00", one.text)
				}
				ms := t.UnixMilli()
				*one.into = &ms
			}
			if byHand {
				in.At = new(int64)
			}
			if in == (proposals.Edit{}) {
				return coded(exitUsage, "say what to edit: --title, --because, --at, --by-hand, --latest or --take")
			}
			if err := a.do(cmd.Context(), request{method: "PATCH", path: path, body: in, version: v.Version},
				nil); err != nil {
				return err
			}
			return s.shownProposal(cmd.Context(), a, path)
		}}
	c.Flags().StringVar(&title, "title", "", "what it is called")
	c.Flags().StringVar(&at, "at", "", "when it is made by itself, if it has its signatures then")
	c.Flags().BoolVar(&byHand, "by-hand", false, "it is made when somebody says so")
	c.Flags().StringVar(&latest, "latest", "", "when it is not made any more; a week after its time if left out")
	c.Flags().BoolVar(&take, "take", false, "become its author, in whose right it is made; signatures fall")
	return c
}

func (s *session) proposalComment() *cobra.Command {
	return &cobra.Command{Use: "comment PROPOSAL TEXT", Short: "Say something of a proposal", Args: exactly("PROPOSAL",
		"TEXT"), Example: "  greenlever proposal comment PROPOSAL 'please leave the night crews out'",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, _, err := s.proposalAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: path + "/comments",
				body: proposals.Say{Text: args[1]}}, nil); err != nil {
				return err
			}
			return s.shownProposal(cmd.Context(), a, path)
		}}
}

func (s *session) proposalTakeOut() *cobra.Command {
	return &cobra.Command{Use: "take-out PROPOSAL NUMBER", Short: "Take a change out of a proposal", Args: exactly(
		"PROPOSAL", "NUMBER"), Example: "  greenlever proposal take-out PROPOSAL 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, path, v, err := s.proposalAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(args[1])
			if err != nil || n < 1 || n > len(v.Items) {
				return coded(exitUsage, "%q is no number of one of its %d changes", args[1], len(v.Items))
			}
			if err := a.do(cmd.Context(), request{method: "POST", path: fmt.Sprintf("%s/items/%d/remove", path, n),
				version: v.Version}, nil); err != nil {
				return err
			}
			return s.shownProposal(cmd.Context(), a, path)
		}}
}

// proposed ends a command whose change was proposed in place of being made.
type proposed struct {
	id    string
	title string
}

func (p *proposed) Error() string { return "proposed as " + p.id }

// sayProposed says where what was proposed went.
func (s *session) sayProposed(p *proposed) {
	if s.output == "json" {
		_ = s.show(map[string]string{"id": p.id, "title": p.title}, func() {})
		return
	}
	s.say("%s", p.id)
	s.note("proposed: %s", p.title)
	s.note("look at it: %s", s.next("proposal", "show", p.id))
}
