package cli

import (
	"fmt"
	"slices"
	"strings"
)

// manual is the manual page, in the man macros of troff (groff_man(7)).
func manual(all []*command) string {
	var b strings.Builder
	line := func(words ...string) { b.WriteString(strings.Join(words, " ") + "\n") }
	line(`.TH LADLE 1 "" "ladle ` + roff(Version) + `" "User Commands"`)
	line(".SH NAME")
	line(roff("ladle - " + summary))
	line(".SH SYNOPSIS")
	line(".B ladle")
	line(roff("COMMAND [OPTIONS]"))
	line(".SH DESCRIPTION")
	line(roff(promise))
	line(".SH COMMANDS")
	for _, c := range all {
		commandPage(line, c)
	}
	line(".SH EXIT STATUS")
	for _, e := range exitStatuses {
		line(".TP")
		line(fmt.Sprint(e.status))
		line(roff(e.means))
	}
	line(".SH ENVIRONMENT")
	for _, v := range [][2]string{{"LADLE_DB", "the database, where --db doesn't give one"},
		{"NO_COLOR", "no colour, whatever its value"}} {
		line(".TP")
		line(v[0])
		line(roff(v[1]))
	}
	return b.String()
}

func commandPage(line func(...string), c *command) {
	line(".SS " + roff(c.name))
	line(roff(c.does + "."))
	line(".PP")
	line(".B " + roff(c.usage()))
	for _, paragraph := range strings.Split(c.about, "\n\n") {
		if paragraph != "" {
			line(".PP")
			line(roff(paragraph))
		}
	}
	options := slices.Clone(c.options)
	slices.SortStableFunc(options, func(a, b option) int {
		return slices.Index(groups, a.group) - slices.Index(groups, b.group)
	})
	for i := range options {
		o := &options[i]
		line(".TP")
		name := o.written()
		if o.short != "" {
			name = "-" + o.short + ", " + name
		}
		line(".B " + roff(name))
		line(roff(o.full()))
	}
	line(".PP")
	line("Examples:")
	for _, e := range c.examples {
		line(".TP")
		line(roff(e.what))
		line(roff(e.line))
	}
}

// roff keeps words from being taken for commands of troff.
func roff(words string) string {
	words = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(words)
	if strings.HasPrefix(words, ".") || strings.HasPrefix(words, "'") {
		words = `\&` + words
	}
	return words
}
