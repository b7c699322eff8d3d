package cli

import (
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// helpWide is how wide help is at most, and where it goes to no terminal.
const helpWide = 80

// helps has help fit the screen. Cobra's own has lines as long as what is said of an option, and
// repeats the options of all commands below each.
func (s *session) helps(root *cobra.Command) {
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { s.paged(func() { s.help(c) }) })
	root.SetUsageFunc(func(c *cobra.Command) error {
		s.usage(c)
		return nil
	})
	hide := func(c *cobra.Command) { c.DisableFlagsInUseLine = true }
	for _, c := range root.Commands() {
		each(c, hide)
	}
}

func each(c *cobra.Command, do func(*cobra.Command)) {
	do(c)
	for _, child := range c.Commands() {
		each(child, do)
	}
}

func (s *session) helpWide() int {
	if s.screen.wide == 0 {
		return helpWide
	}
	return min(max(s.screen.wide, 40), 100)
}

func (s *session) help(c *cobra.Command) {
	says := c.Long
	if says == "" {
		says = c.Short
	}
	s.say("%s\n", layOut(says, s.helpWide()))
	s.usage(c)
}

func (s *session) usage(c *cobra.Command) {
	wide := s.helpWide()
	title := func(t string) { s.say("%s", s.screen.paint(strong, t)) }
	title("Usage:")
	if c.Runnable() && !c.HasSubCommands() {
		use := c.UseLine()
		if c.HasAvailableLocalFlags() {
			use += " [OPTIONS]"
		}
		s.say("  %s", wrap(use, wide, 4))
	}
	if c.HasSubCommands() {
		s.say("  %s COMMAND", c.CommandPath())
	}
	if c.Example != "" {
		s.say("")
		title("Examples:")
		for line := range strings.Lines(c.Example) {
			s.say("%s", foldLine(strings.TrimRight(line, "\n"), wide))
		}
	}
	s.commandList(c, wide, title)
	if local := c.NonInheritedFlags(); c.HasParent() && !c.HasSubCommands() && local.HasAvailableFlags() {
		s.options("\nOptions:", local, wide)
	}
	s.say("")
	if !c.HasParent() {
		s.options("Options of all commands:", c.PersistentFlags(), wide)
		s.say("\n%s", wrap("`greenlever COMMAND --help` explains a command, `greenlever words` our words.", wide, 0))
		return
	}
	var all []string
	c.InheritedFlags().VisitAll(func(f *pflag.Flag) { all = append(all, "--"+f.Name) })
	s.say("%s", wrap("Options of all commands, see greenlever --help: "+strings.Join(all, ", "), wide, 2))
}

// commandList lists the commands below one, by group.
func (s *session) commandList(c *cobra.Command, wide int, title func(string)) {
	const column = 15
	list := func(of func(*cobra.Command) bool, called string) {
		all := slices.DeleteFunc(slices.Clone(c.Commands()), func(x *cobra.Command) bool {
			return !x.IsAvailableCommand() && x.Name() != "help" || !of(x)
		})
		if len(all) == 0 {
			return
		}
		s.say("")
		title(called)
		for _, x := range all {
			s.say("  %-*s%s", column-2, x.Name(), wrap(x.Short, wide, column))
		}
	}
	for _, g := range c.Groups() {
		list(func(x *cobra.Command) bool { return x.GroupID == g.ID }, g.Title)
	}
	called := "Commands:"
	if len(c.Groups()) > 0 {
		called = "Beside them:"
	}
	list(func(x *cobra.Command) bool { return x.GroupID == "" }, called)
}

// taken is what an option takes, by its type in Go; a boolean takes nothing.
var taken = map[string]string{"string": "TEXT", "strings": "TEXT,...", "stringSlice": "TEXT,...",
	"stringArray": "TEXT ...", "int": "NUMBER", "int64": "NUMBER", "duration": "TIME"}

// nothing are values of options that are left out which say nothing.
var nothing = []string{"", "false", "0", "-1", "[]", "0s"}

// options lists options: what each takes, and what it does.
func (s *session) options(title string, all *pflag.FlagSet, wide int) {
	type line struct{ takes, does string }
	var lines []line
	column := 0
	all.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		takes := "      --" + f.Name
		if f.Shorthand != "" {
			takes = "  -" + f.Shorthand + ", --" + f.Name
		}
		does := f.Usage
		if what := taken[f.Value.Type()]; what != "" {
			takes += " " + what
		}
		if d := f.DefValue; !slices.Contains(nothing, d) {
			does += " (" + d + " if left out)"
		}
		lines = append(lines, line{takes, does})
		if n := len(takes) + 3; n > column && n <= wide/2 {
			column = n
		}
	})
	for i, l := range lines {
		if i == 0 {
			s.say("%s", s.screen.paint(strong, title))
		}
		if len(l.takes)+3 > column {
			s.say("%s\n%s%s", l.takes, strings.Repeat(" ", column), wrap(l.does, wide, column))
			continue
		}
		s.say("%-*s%s", column, l.takes, wrap(l.does, wide, column))
	}
}

// tabular is a line that has a word, and what is said of it further right.
var tabular = regexp.MustCompile(`^( *\S+(?: \S+)* {2,})(\S.*)$`)

// layOut breaks paragraphs into lines, and leaves tables as they are.
func layOut(says string, wide int) string {
	var out []string
	paragraph := ""
	end := func() {
		if paragraph != "" {
			out = append(out, wrap(paragraph, wide, 0))
		}
		paragraph = ""
	}
	for line := range strings.Lines(says) {
		line = strings.TrimRight(line, "\n")
		switch m := tabular.FindStringSubmatch(line); {
		case m != nil:
			end()
			out = append(out, m[1]+wrap(m[2], wide, len([]rune(m[1]))))
		case line == "", strings.HasPrefix(line, " "):
			end()
			out = append(out, line)
		case paragraph == "":
			paragraph = line
		default:
			paragraph += " " + line
		}
	}
	end()
	return strings.Join(out, "\n")
}

// foldLine breaks a line of a shell at spaces outside of quotes, so that it can still be pasted.
func foldLine(line string, wide int) string {
	const more, indent = ` \`, "      "
	out := ""
	for {
		if len(line) <= wide {
			return out + line
		}
		at, quote := 0, byte(0)
		for i := len(indent); i < len(line) && i <= wide-len(more); i++ {
			switch {
			case quote == 0 && (line[i] == '\'' || line[i] == '"'):
				quote = line[i]
			case line[i] == quote:
				quote = 0
			case quote == 0 && line[i] == ' ':
				at = i
			}
		}
		if at <= len(indent) {
			return out + line // one word that is longer than the screen
		}
		out += line[:at] + more + "\n"
		line = indent + line[at+1:]
	}
}
