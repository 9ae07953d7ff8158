package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
)

// command is a command of the program. Help, completion, the manual page, and what is said of wrong options and
// arguments come from it.
type command struct {
	name     string
	phase    string // of the work, by which help groups commands
	does     string // in one line
	takes    operands
	instead  []string // the options that do in place of operands
	about    string   // paragraphs, parted by empty lines
	options  []option
	examples []example
	run      func(context.Context, *cli.Command) error
}

// The phases of the work.
const (
	looking    = "Look"
	getReady   = "Prepare"
	doLoad     = "Load"
	afterwards = "Afterwards"
	aboutLadle = "Learn and set up"
)

var phases = []string{looking, getReady, doLoad, afterwards, aboutLadle}

// operands are what a command takes besides options.
type operands struct {
	shown       string // as usage shows them: FILE...
	what        string // in words, for one: a ladle file
	least, most int
}

const many = 1 << 20 // operands without a limit

// option is an option of a command.
type option struct {
	name, short string
	value       string // what help calls its value; "" for a switch
	does        string
	group       string
	list        bool     // it may be given several times
	choose      []string // the values that it takes; nil for any
	fallback    string   // the value that it has when it isn't given
	variable    string   // of the environment, which is used when it isn't given
	check       func(value string) error
	needed      bool // the command can't do without it
}

// The groups of options.
const (
	groupDatabase = "Database"
	groupInput    = "Input"
	groupAsk      = "Questions"
	groupProof    = "Safety"
	groupOutput   = "Output"
)

var groups = []string{groupDatabase, groupInput, groupAsk, groupProof, groupOutput}

// example is a command line, and what it is good for.
type example struct{ what, line string }

// written is how the option stands on a command line.
func (o *option) written() string {
	if o.value == "" {
		return "--" + o.name
	}
	return "--" + o.name + " " + o.value
}

// flag is the option as the library parses it.
func (o *option) flag() cli.Flag {
	var aliases []string
	if o.short != "" {
		aliases = []string{o.short}
	}
	var sources cli.ValueSourceChain
	if o.variable != "" {
		sources = cli.EnvVars(o.variable)
	}
	switch {
	case o.value == "":
		return &cli.BoolFlag{Name: o.name, Aliases: aliases}
	case o.list:
		return &cli.StringSliceFlag{Name: o.name, Aliases: aliases}
	}
	return &cli.StringFlag{Name: o.name, Aliases: aliases, Value: o.fallback, Sources: sources}
}

// parser is the command as the library parses it.
func (c *command) parser() *cli.Command {
	p := &cli.Command{Name: c.name, HideHelp: true, Action: c.run, OnUsageError: usageError}
	for i := range c.options {
		p.Flags = append(p.Flags, c.options[i].flag())
	}
	return p
}

// usage is the command line with all options.
func (c *command) usage() string {
	words := []string{"ladle", c.name}
	if c.takes.shown != "" {
		words = append(words, c.takes.shown)
	}
	for i := range c.options {
		o := &c.options[i]
		word := o.written()
		if !o.needed {
			word = "[" + word + "]"
		}
		if o.list {
			word += "..."
		}
		words = append(words, word)
	}
	return strings.Join(words, " ")
}

// option finds an option by its name, or by its letter.
func (c *command) option(name string) *option {
	i := slices.IndexFunc(c.options, func(o option) bool { return o.name == name || o.short != "" && o.short == name })
	if i < 0 {
		return nil
	}
	return &c.options[i]
}

// wrongUsage is an error of a command line, with the line that would do.
func (c *command) wrongUsage(what string) error {
	return fault.New(fault.Wrong, what, "write: "+shortUsage(c))
}

// shortUsage is the command line with what the command needs.
func shortUsage(c *command) string {
	line := "ladle " + c.name
	if c.takes.shown != "" {
		line += " " + c.takes.shown
	}
	for i := range c.options {
		if o := &c.options[i]; o.needed {
			line += " " + o.written()
		}
	}
	return line
}

// inspect returns what is wrong with the arguments of the command, in words of ours: options that there aren't, a
// number of operands that it doesn't take, values that aren't there or can't be.
func (c *command) inspect(arguments []string) error {
	given := map[*option][]string{}
	var others []string
	for i := 0; i < len(arguments); i++ {
		word := arguments[i]
		if word == "--" {
			others = append(others, arguments[i+1:]...)
			break
		}
		if word == "-" || !strings.HasPrefix(word, "-") {
			others = append(others, word)
			continue
		}
		name, value, assigned := strings.Cut(word, "=")
		o, err := c.named(name)
		if err != nil {
			return err
		}
		switch {
		case o.value == "" && assigned:
			return c.wrongUsage(fmt.Sprintf("--%s takes no value", o.name))
		case o.value != "" && !assigned:
			if i++; i == len(arguments) {
				return c.wrongUsage(fmt.Sprintf("%s needs a value", name))
			}
			value = arguments[i]
			if next, err := c.named(value); strings.HasPrefix(value, "--") && err == nil {
				return c.wrongUsage(fmt.Sprintf("%s needs a value, but is followed by --%s", name, next.name))
			}
		}
		given[o] = append(given[o], value)
	}
	instead := slices.ContainsFunc(c.instead, func(name string) bool { return given[c.option(name)] != nil })
	if err := c.count(others, instead); err != nil {
		return err
	}
	for i := range c.options {
		o := &c.options[i]
		if o.needed && given[o] == nil && (o.variable == "" || os.Getenv(o.variable) == "") {
			return c.lacks(o)
		}
		if err := o.judge(given[o]); err != nil {
			return err
		}
	}
	return nil
}

// lacks is the error of an option that the command needs and that is missing.
func (c *command) lacks(o *option) error {
	if o.variable != "" {
		return fault.New(fault.Wrong, "no database is named", "give it with "+o.written()+", or set "+o.variable)
	}
	return c.wrongUsage(fmt.Sprintf("%s needs %s", c.name, o.written()))
}

// named is the option that a word of the command line names.
func (c *command) named(word string) (*option, error) {
	name := strings.TrimLeft(word, "-")
	long := strings.HasPrefix(word, "--")
	if o := c.option(name); o != nil && (long == (name == o.name)) {
		return o, nil
	}
	var names []string
	for i := range c.options {
		names = append(names, c.options[i].name)
	}
	do := "see: ladle help " + c.name
	if others := having(name); others != nil {
		do = fmt.Sprintf("--%s is an option of %s", name, strings.Join(others, ", "))
	}
	if near := nearestOption(name, names); near != "" {
		do = fmt.Sprintf("did you mean --%s?", near)
	}
	return nil, fault.New(fault.Wrong, fmt.Sprintf("%s is no option of %s", word, c.name), do)
}

// having lists the commands that have an option.
func having(name string) (all []string) {
	for _, c := range commands() {
		if o := c.option(name); o != nil && o.name == name {
			all = append(all, c.name)
		}
	}
	return all
}

// namesOf are the names of an option that takes several, with commas between them; nil where it isn't given.
func namesOf(c *cli.Command, option string) (all []string) {
	if text := c.String(option); text != "" {
		for name := range strings.SplitSeq(text, ",") {
			all = append(all, strings.TrimSpace(name))
		}
	}
	return all
}

// count holds the number of operands against what the command takes.
func (c *command) count(others []string, instead bool) error {
	t := c.takes
	switch n := len(others); {
	case n < t.least && !instead:
		return c.wrongUsage(fmt.Sprintf("%s needs %s", c.name, t.what))
	case n > t.most && t.most == 0:
		return c.wrongUsage(fmt.Sprintf("%s takes no %q", c.name, others[0]))
	case n > t.most:
		return c.wrongUsage(fmt.Sprintf("%s takes %s; %q is one too many", c.name, t.what, others[t.most]))
	}
	return nil
}

// judge returns what is wrong with the values of the option.
func (o *option) judge(values []string) error {
	if len(values) > 1 && !o.list && o.value != "" {
		return fault.New(fault.Wrong, fmt.Sprintf("--%s is given %d times", o.name, len(values)), "give it once")
	}
	for _, v := range values {
		if o.choose != nil && !slices.Contains(o.choose, v) {
			return fault.New(fault.Wrong, fmt.Sprintf("--%s can't be %q", o.name, v), fault.DidYouMean(v, o.choose))
		}
		if o.value != "" && v == "" {
			return fault.New(fault.Wrong, fmt.Sprintf("--%s has an empty value", o.name),
				"give it one, or leave the option out")
		}
		if o.check == nil {
			continue
		}
		if err := o.check(v); err != nil {
			return asOption(o.name, err)
		}
	}
	return nil
}
