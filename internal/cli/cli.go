// Package cli is the command line: `greenlever serve` runs the service, every other
// command is a client of it and asks the management API alone.
//
// Data goes to standard output, everything else to standard error. The exit code tells
// what kind of thing went wrong; see [ExitCode].
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"greenlever.example/core/words"
)

// Exit codes.
const (
	exitFailed       = 1
	exitUsage        = 2
	exitRefused      = 3 // not signed in, or no right to do it
	exitNotFound     = 4
	exitConflict     = 5 // changed meanwhile, or the records say no
	exitNoConnection = 6
	exitInvalid      = 7 // a field cannot be taken
	exitUnsound      = 8 // a verification found something
)

// codedError carries an exit code.
type codedError struct {
	code int
	err  error
}

func (e *codedError) Error() string { return e.err.Error() }
func (e *codedError) Unwrap() error { return e.err }

func coded(code int, format string, args ...any) error {
	return &codedError{code, fmt.Errorf(format, args...)}
}

// ExitCode is the exit code for an error of a command: 0 for none, 2 for wrong use, 3
// refused, 4 not found, 5 conflict, 6 no connection, 7 invalid, 8 unsound, 1 for the rest.
func ExitCode(err error) int {
	var c *codedError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &c):
		return c.code
	}
	return exitFailed
}

// session is what one run of the program knows.
type session struct {
	in          io.Reader
	out, err    io.Writer
	screen      screen
	interactive bool // somebody can be asked
	measures    bool // it is done with an access key, and not in anybody's name

	profile, url, project, env, output, because string
	yes                                         bool
	units                                       int64  // confirmed before everybody gets something else; -1: not said
	key                                         string // of a change that is asked for again
	propose                                     string // changes, in place of making them: new, or an id
	force                                       bool   // have policies overruled
	try                                         bool   // show what would change and change nothing
}

// next is a command that may be run next: with the options that this one was given, and words in
// quotes where a shell needs some, so that it runs when it is pasted.
func (s *session) next(args ...string) string {
	for _, o := range []struct{ name, value, env string }{
		{"--project", s.project, os.Getenv("GREENLEVER_PROJECT")}, {"--env", s.env, os.Getenv("GREENLEVER_ENV")},
		{"--url", s.url, os.Getenv("GREENLEVER_URL")}, {"--profile", s.profile, env("GREENLEVER_PROFILE", "default")},
	} {
		if o.value != "" && o.value != o.env && !slices.Contains(args, o.name) {
			args = append(args, o.name, o.value)
		}
	}
	words := []string{"greenlever"}
	for _, a := range args {
		if !plainWord.MatchString(a) {
			a = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
		words = append(words, a)
	}
	return strings.Join(words, " ")
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_./:=@%+-]+$`)

// Main runs the program and gives its exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends the program at once
	s := &session{in: os.Stdin, out: os.Stdout, err: os.Stderr, screen: screenOf(os.Stdout, os.Getenv),
		interactive: term.IsTerminal(int(os.Stdin.Fd()))}
	if s.screen.ascii {
		s.out = asciiWriter{os.Stdout}
	}
	return s.run(ctx, os.Args[1:])
}

// Run runs the program with arguments and streams of the caller's; nobody is asked.
func Run(ctx context.Context, args []string, in io.Reader, out, err io.Writer) int {
	s := &session{in: in, out: out, err: err}
	return s.run(ctx, args)
}

func (s *session) run(ctx context.Context, args []string) int {
	root := s.root()
	root.SetArgs(args)
	root.SetIn(s.in)
	root.SetOut(s.out)
	root.SetErr(s.err)
	err := root.ExecuteContext(ctx)
	if p := new(proposed); errors.As(err, &p) {
		s.sayProposed(p)
		return 0
	}
	if err != nil {
		s.note("greenlever: %v", err)
		if strings.HasPrefix(err.Error(), unknownCommand) {
			err = &codedError{exitUsage, err}
		}
		if like := meant(root, err); len(like) > 0 {
			fmt.Fprintf(s.err, "Did you mean %s?\n", strings.Join(like, " or "))
		}
	}
	return ExitCode(err)
}

// unknownCommand begins what cobra says of a command that there is not.
const unknownCommand = "unknown command "

// meant names commands that are like one that there is not. What stops something for everybody is
// nothing to come to by a mistyped word.
func meant(root *cobra.Command, err error) []string {
	quoted, is := strings.CutPrefix(err.Error(), unknownCommand)
	if !is {
		return nil
	}
	word, err := strconv.QuotedPrefix(quoted)
	if err != nil {
		return nil
	}
	if word, err = strconv.Unquote(word); err != nil {
		return nil
	}
	return slices.DeleteFunc(root.SuggestionsFor(word), func(name string) bool { return name == "stop" })
}

func (s *session) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "greenlever",
		Short: "Decide feature flags consistently, change them safely, and know who changed what",
		Long: `Green Lever decides feature flags consistently inside services, changes them safely,
and knows who changed what.

  greenlever serve                       run the service
  greenlever init                        in an application's folder: sign in, and decide a first flag
  greenlever board                       what is on where
  greenlever why one-touch-open recipient-17 --env production
  greenlever stop one-touch-open --env production`,
		SilenceUsage: true, SilenceErrors: true, DisableSuggestions: true, SuggestionsMinimumDistance: 2, // see meant
	}
	root.SetFlagErrorFunc(wrongOption)
	p := root.PersistentFlags()
	p.StringVar(&s.profile, "profile", env("GREENLEVER_PROFILE", "default"), "which kept address and token to use")
	p.StringVar(&s.url, "url", "", "the service's address (GREENLEVER_URL)")
	p.StringVar(&s.project, "project", "", "the project's key (GREENLEVER_PROJECT); the only one if there is one")
	p.StringVarP(&s.env, "env", "e", "", "the environment's key (GREENLEVER_ENV)")
	p.StringVarP(&s.output, "output", "o", "table", "table, json or yaml")
	p.StringVar(&s.because, "because", "", "why, in one sentence; environments that ask first want it")
	p.BoolVarP(&s.yes, "yes", "y", false, "do not ask before a change")
	p.StringVar(&s.propose, "propose", "", "propose a change in place of making it; or, with =PROPOSAL, into one")
	p.Lookup("propose").NoOptDefVal = "new"
	p.BoolVar(&s.force, "force", false, "have policies overruled, as a keeper of the installation, with --because")
	p.BoolVar(&s.try, "try", false, "show what a change would move, and change nothing")
	p.StringVar(&s.key, "idempotency-key", "", "asks for a change that was asked for under this key before, and "+
		"does nothing twice")
	p.Int64Var(&s.units, "units", -1, "how many units a change takes from the resting variant in one step, or at "+
		"most where that cannot be counted")
	s.addCommands(root)
	exemplify(root)
	s.completion(root)
	s.helps(root)
	each(root, wrongArguments)
	return root
}

// wrongOption says which options there are that are like the one that there is not.
func wrongOption(c *cobra.Command, err error) error {
	unknown := new(pflag.NotExistError)
	if !errors.As(err, &unknown) {
		return &codedError{exitUsage, err}
	}
	name := unknown.GetSpecifiedName()
	said := "--" + name
	if unknown.GetSpecifiedShortnames() != "" {
		said = "-" + name
	}
	var like []string
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if len(name) > 1 && (strings.HasPrefix(f.Name, name) || strings.HasPrefix(name, f.Name) ||
			strings.HasPrefix(f.Name, name[:2])) {
			like = append(like, "--"+f.Name)
		}
	})
	mend := ""
	if len(like) > 0 {
		mend = ", but " + strings.Join(like, ", ")
	}
	return coded(exitUsage, "%s has no option %s%s; see %s --help", c.CommandPath(), said, mend, c.CommandPath())
}

// wrongArguments has a command say what it takes where it gets something else.
func wrongArguments(c *cobra.Command) {
	check := c.Args
	if check == nil || !c.Runnable() {
		return
	}
	c.Args = func(c *cobra.Command, args []string) error {
		err := check(c, args)
		if known := new(codedError); err == nil || errors.As(err, &known) || strings.HasPrefix(err.Error(),
			unknownCommand) {
			return err
		}
		_, takes, _ := strings.Cut(c.Use, " ")
		return coded(exitUsage, "%s takes %s, not %d arguments; see %s --help", c.CommandPath(), takes, len(args),
			c.CommandPath())
	}
}

// groups are those in which the help lists the commands.
var groups = []cobra.Group{
	{ID: "first", Title: "First steps:"},
	{ID: "stop", Title: "When something is wrong:"},
	{ID: "change", Title: "Define and change:"},
	{ID: "look", Title: "Look:"},
	{ID: "code", Title: "In code:"},
	{ID: "places", Title: "Projects, people and access:"},
	{ID: "run", Title: "Run it:"},
}

// commands make the commands, by group. Each file lists its own in it.
var commands = map[string][]func(*session) *cobra.Command{}

// listed adds a command to a group.
func listed(group string, command func(*session) *cobra.Command) struct{} {
	commands[group] = append(commands[group], command)
	return struct{}{}
}

func (s *session) addCommands(root *cobra.Command) {
	for id := range commands {
		if !slices.ContainsFunc(groups, func(g cobra.Group) bool { return g.ID == id }) {
			panic("there is no group " + id + " of commands")
		}
	}
	for i := range groups {
		root.AddGroup(&groups[i])
		for _, command := range commands[groups[i].ID] {
			c := command(s)
			c.GroupID = groups[i].ID
			root.AddCommand(c)
		}
	}
}

func env(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

// exactly checks the number of arguments and says what they are.
func exactly(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return coded(exitUsage, "%s takes %s; see %s --help", cmd.CommandPath(), strings.Join(names, " "),
				cmd.CommandPath())
		}
		return nil
	}
}

func atLeastOne(name string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return coded(exitUsage, "%s takes at least one %s; see %s --help", cmd.CommandPath(), name,
				cmd.CommandPath())
		}
		return nil
	}
}

// group is a command that only holds others.
func group(use, short string, children ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return coded(exitUsage, "%s has no command %q; see %s --help", cmd.CommandPath(), args[0],
				cmd.CommandPath())
		}
		return nil
	}, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(children...)
	return c
}

// ask puts a question to who sits at the terminal.
func (s *session) ask(question string) (string, error) {
	if !s.interactive {
		return "", coded(exitUsage, "nobody can be asked: %s", strings.TrimRight(question, ": "))
	}
	fmt.Fprint(s.err, question)
	line, err := bufio.NewReader(s.in).ReadString('\n')
	if err != nil {
		return "", err
	}
	return strings.TrimSpace(line), nil
}

// askSecret is ask without showing what is typed.
func (s *session) askSecret(question string) (string, error) {
	f, ok := s.in.(*os.File)
	if !ok || !s.interactive {
		return "", coded(exitUsage, "nobody can be asked: %s", strings.TrimRight(question, ": "))
	}
	fmt.Fprint(s.err, question)
	raw, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(s.err)
	return string(raw), err
}

// confirm shows what would change and asks, if the environment asks first.
func (s *session) confirm(difference []words.Said, askFirst bool) error {
	for _, line := range difference {
		fmt.Fprintln(s.err, "  "+said(line))
	}
	if !askFirst {
		return nil
	}
	if s.because == "" {
		why, err := s.ask(fmt.Sprintf("%s asks first. Why? ", s.env))
		if err != nil {
			return coded(exitUsage, "environment %s asks first: say why with --because %q", s.env, "...")
		}
		s.because = why
	}
	if s.yes {
		return nil
	}
	answer, err := s.ask(fmt.Sprintf("Change %s? [y/N] ", s.env))
	if err != nil {
		return coded(exitUsage, "environment %s asks first: add --yes to go on without a question", s.env)
	}
	if !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return coded(exitFailed, "nothing was changed")
	}
	return nil
}
