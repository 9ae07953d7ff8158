// Package cli is the command line: it asks and prints, and computes nothing.
//
// Each command is described by a command value, which says what it does, what it takes and how it runs. Main finds the
// command, tells what is wrong with its arguments, and has it run.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/term"
	"ladle/licences"
)

// Version is the version of the program, stamped by the build.
var Version = "unversioned"

// The exit statuses of the program.
const (
	done        = 0
	refused     = 1 // the data is refused or differs; nothing was changed
	wrong       = 2 // the command line or the ladle file is wrong, or the person said no
	failed      = 3 // a file, the database or the network failed; nothing was changed
	incomplete  = 4 // loaded, with lines set aside
	unknown     = 5 // the connection was lost during the commit, and the outcome can't be asked
	unfinished  = 6 // of a load in parts, some are loaded and the others are not
	interrupted = 130
)

var statuses = map[fault.Class]int{fault.Refused: refused, fault.Wrong: wrong, fault.Failed: failed,
	fault.Unknown: unknown, fault.Partly: unfinished}

// commands are all commands, by the phase of the work and in the order in which they are used.
func commands() []*command {
	return []*command{surveyCommand(), lookCommand(), compareCommand(), tablesCommand(), dictionaryCommand(),
		draftCommand(), proposeCommand(), templateCommand(), prepareCommand(), rightsCommand(), scriptCommand(), bundleCommand(),
		tryCommand(), loadCommand(), inboxCommand(),
		verifyCommand(), runsCommand(), undoCommand(),
		demoCommand(), schemaCommand(), manualCommand(), completionCommand()}
}

// Main runs the command line and returns the exit status.
func Main(arguments []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	go func() {
		<-ctx.Done()
		stop() // a second interrupt ends the program at once; the database takes an open transaction back
		time.Sleep(interruptWait)
		if !committing.Load() { // it waits for something that can't be interrupted, such as a pipe
			os.Exit(status("", context.Canceled, slices.Contains(arguments, "--json"), true))
		}
	}()
	defer closeBundles()
	all := commands()
	name, err := run(ctx, all, arguments)
	return written(status(name, err, slices.Contains(arguments, "--json"), ctx.Err() != nil))
}

// run finds the command and runs it. It returns the name of the command too, where there is one.
func run(ctx context.Context, all []*command, arguments []string) (name string, err error) {
	defer fault.Recover(&err)
	arguments = arguments[1:]
	if len(arguments) == 0 || asksHelp(arguments[0]) {
		return "", help(all, arguments)
	}
	switch name = arguments[0]; {
	case name == "--version":
		_, err := fmt.Fprintln(term.Stdout, "ladle version", Version)
		return "", err
	case name == "--licences" || name == "--licenses":
		_, err := fmt.Fprint(term.Stdout, licences.Text)
		return "", err
	case strings.HasPrefix(name, "-"):
		return "", fault.New(fault.Wrong, fmt.Sprintf("%s is no option of ladle", name),
			"the options of a command come after its name; see: ladle help")
	}
	c, err := find(all, name)
	if err != nil {
		return "", err
	}
	if slices.ContainsFunc(arguments[1:], func(a string) bool { return a == "--help" || a == "-h" }) {
		showHelp(term.NewScreen(term.Stdout), c)
		return name, nil
	}
	if err := c.inspect(arguments[1:]); err != nil {
		return name, err
	}
	return name, c.parser().Run(ctx, arguments)
}

// find returns the command with a name.
func find(all []*command, name string) (*command, error) {
	var names []string
	for _, c := range all {
		if c.name == name {
			return c, nil
		}
		names = append(names, c.name)
	}
	return nil, fault.New(fault.Wrong, fmt.Sprintf("there is no command %q", name), fault.DidYouMean(name, names))
}

// usageError is what the library says of arguments that inspect found nothing wrong with.
func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	return fault.Because(fault.Wrong, err, fault.Problem{What: err.Error(), Do: "see: ladle help " + c.Name})
}

// asOption puts the name of an option before what is wrong with its value.
func asOption(name string, err error) error {
	var invalid fault.InvalidValue
	if errors.As(err, &invalid) {
		return fault.New(fault.Wrong, "--"+name+" "+invalid.What, invalid.Do)
	}
	return err
}

// committing reports whether a commit has begun, which has an end of its own.
var committing atomic.Bool

// interruptWait is how long the program may take to end by itself after an interrupt.
const interruptWait = 1800 * time.Millisecond

// exit is the error of a command that has said everything and only has a status left.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

// changed reports whether the command committed something.
var changed bool

// written changes the status of a command whose output could not be written. One that changed the database keeps its
// own.
func written(status int) int {
	err := term.Stdout.Err()
	if err == nil {
		return status
	}
	do := "free some space, or send the output somewhere else"
	if changed {
		do = "the database was changed all the same: see ladle runs"
	}
	fmt.Fprintf(os.Stderr, "ladle: the output can't be written: %s\n    %s\n", term.Safe(err.Error()), do)
	if changed || status != 0 {
		return status
	}
	return statuses[fault.Failed]
}

// status says what went wrong, and returns the exit status.
func status(command string, err error, asJSON, stopped bool) int {
	var ended exit
	switch {
	case err == nil:
		return done
	case errors.As(err, &ended):
		return int(ended)
	case stopped && !changing(err) && (errors.Is(err, context.Canceled) || fault.ClassOf(err) == fault.Failed):
		fmt.Fprintln(os.Stderr, "ladle: interrupted, nothing was changed")
		if asJSON {
			_ = printFailure(command, "interrupted", interrupted, nil)
		}
		return interrupted
	}
	code := statuses[fault.ClassOf(err)]
	problems := fault.ProblemsOf(err)
	if asJSON {
		_ = printFailure(command, "failed", code, problems)
	}
	said := false
	for _, p := range problems {
		showProblem(p)
		said = said || strings.Contains(p.Do, unchanged)
	}
	if code == failed && !changed && !said && (command == "load" || command == "undo") {
		fmt.Fprintln(os.Stderr, "    "+unchanged)
	}
	return code
}

// changing reports whether something may have been changed before an error.
func changing(err error) bool {
	class := fault.ClassOf(err)
	return class == fault.Unknown || class == fault.Partly
}

// unchanged is what a failure of a command that writes says, unless its cause does.
const unchanged = "nothing was changed"

// showProblem says what is wrong, and below it what to do.
func showProblem(p fault.Problem) {
	do := p.Do
	p.Do = ""
	fmt.Fprintln(os.Stderr, term.Safe("ladle: "+p.String()))
	if do != "" {
		fmt.Fprintln(os.Stderr, term.Safe("    "+strings.ReplaceAll(do, "\n", "\n    ")))
	}
	if hint := hints[p.Hint]; hint != "" {
		fmt.Fprintln(os.Stderr, "    "+hint)
	}
}
