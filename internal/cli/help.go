package cli

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/term"
)

func asksHelp(word string) bool { return word == "help" || word == "--help" || word == "-h" }

// help shows the help of the program, or of the command that is named behind it.
func help(all []*command, arguments []string) error {
	s := term.NewScreen(term.Stdout)
	switch len(arguments) {
	case 0, 1:
		showOverview(s, all)
		return nil
	case 2:
		c, err := find(all, arguments[1])
		if err != nil {
			return err
		}
		showHelp(s, c)
		return nil
	}
	return fault.New(fault.Wrong, "help takes the name of one command", "write: ladle help COMMAND")
}

// exitStatuses are what the exit statuses mean, for help and the manual page.
var exitStatuses = []struct {
	status int
	means  string
}{
	{done, "done"},
	{refused, "the data is refused or differs; nothing was changed"},
	{wrong, "the command line or the ladle file is wrong, or you said no; nothing was changed"},
	{failed, "a file, the database or the network failed; nothing was changed"},
	{incomplete, "done, but some lines were set aside"},
	{unknown, "the connection was lost during the commit, and the outcome is unknown"},
	{unfinished, "of a load in parts, some parts are loaded and the others are not"},
	{interrupted, "interrupted; nothing was changed"},
}

const (
	summary = "load CSV files and workbooks into related tables that already hold rows"
	promise = "Ladle reads the files, cleans the values, adds lookup rows before the rows that refer to them, adds " +
		"nothing twice, and checks before it commits that every cell in the database is what the files say. A load " +
		"either holds to the last cell and commits, or changes nothing and says why; with --in-parts, each part does."
)

// showOverview shows what ladle is for, and all commands.
func showOverview(s *term.Screen, all []*command) {
	s.Line("ladle: %s", summary)
	s.Line("")
	s.Line("  ladle COMMAND [OPTIONS]")
	s.Line("  ladle help COMMAND      everything about one command")
	s.Line("")
	s.Text(promise)
	for _, phase := range phases {
		s.Title("%s", phase)
		for _, c := range all {
			if c.phase == phase {
				s.Entry(14, c.name, c.does)
			}
		}
	}
	s.Title("Options")
	s.Entry(14, "--version", "print the version")
	s.Entry(14, "--licences", "print the licences of the modules that are part of ladle")
	s.Title("Exit status")
	for _, e := range exitStatuses {
		s.Entry(14, fmt.Sprint(e.status), e.means)
	}
	s.Line("")
	s.Line("Start with: ladle demo")
}

// showHelp shows everything about a command.
func showHelp(s *term.Screen, c *command) {
	s.Text("ladle " + c.name + ": " + c.does)
	s.Line("")
	s.Entry(0, "", c.usage())
	for _, paragraph := range strings.Split(c.about, "\n\n") {
		if paragraph != "" {
			s.Line("")
			s.Text(paragraph)
		}
	}
	for _, group := range groups {
		showOptions(s, c, group)
	}
	s.Title("Examples")
	for _, e := range c.examples {
		s.Line("  %s:", e.what)
		s.Line("    %s", e.line)
	}
}

// showOptions shows the options of a command that belong to a group.
func showOptions(s *term.Screen, c *command, group string) {
	if !slices.ContainsFunc(c.options, func(o option) bool { return o.group == group }) {
		return
	}
	s.Title("%s", group)
	for i := range c.options {
		if o := &c.options[i]; o.group == group {
			name := o.written()
			if o.short != "" {
				name = "-" + o.short + ", " + name
			}
			s.Entry(24, name, o.full())
		}
	}
}

// full is what the option does, with what help adds to it.
func (o *option) full() string {
	words := o.does
	if o.fallback != "" {
		words += " (default: " + o.fallback + ")"
	}
	if o.variable != "" {
		words += " (or set " + o.variable + ")"
	}
	if o.list {
		words += "; may be given several times"
	}
	return words
}
