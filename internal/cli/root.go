// Package cli is the command line: it asks and prints, and computes nothing.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/fault"
	"ladle/internal/term"
)

// Version is the version of the program, stamped by the build.
var Version = "unversioned"

const interrupted = 130

// Main runs the command line and gives the exit status.
func Main(arguments []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	go func() {
		<-ctx.Done()
		stop() // a second interrupt ends the program at once; the database takes an open transaction back
	}()
	asJSON := false
	err := root(&asJSON).Run(ctx, arguments)
	return written(status(err, asJSON, ctx.Err() != nil))
}

// written changes the status of a command whose output could not be written. One that changed the database keeps its own.
func written(status int) int {
	err := term.Stdout.Err()
	if err == nil {
		return status
	}
	do := "make room, or send the output somewhere else"
	if changed {
		do = "the database was changed all the same: see ladle runs"
	}
	fmt.Fprintf(os.Stderr, "ladle: the output can't be written: %s\n    %s\n", term.Safe(err.Error()), do)
	if changed || status != 0 {
		return status
	}
	return int(fault.Failed)
}

// changed tells whether the command committed something.
var changed bool

func root(asJSON *bool) *cli.Command {
	return &cli.Command{
		Name:      "ladle",
		Usage:     "put CSV files and workbooks into related tables that already hold rows",
		UsageText: "ladle COMMAND [OPTIONS]",
		Description: "ladle reads files, cleans their values, puts lookup rows in before the rows that point at them, adds\n" +
			"nothing twice, and proves before it commits that what is in the database is what was in the files.\n" +
			"A load either balances to the last cell and commits, or changes nothing and says why.\n\n" +
			"Exit status: 0 done; 1 the data is refused, nothing changed; 2 the command line or the ladle file is\n" +
			"wrong, or you said no; 3 a file or the database failed, nothing changed; 4 loaded, with lines set\n" +
			"aside; 5 the outcome of the commit is unknown; 130 interrupted, nothing changed.",
		Version:         Version,
		HideHelpCommand: true,

		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden, c.Usage = false, "print a script with which bash, zsh or fish completes commands and options"
			c.UsageText = "ladle completion bash|zsh|fish|pwsh"
			c.OnUsageError = usageError
		},

		Commands:       []*cli.Command{surveyCommand(asJSON), tablesCommand(asJSON), draftCommand(asJSON), demoCommand(), prepareCommand(asJSON), tryCommand(asJSON), loadCommand(asJSON), verifyCommand(asJSON), runsCommand(asJSON), undoCommand(asJSON), schemaCommand(), manualCommand()},
		Writer:         term.Stdout,
		ErrWriter:      os.Stderr,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError:   usageError,
		Action: func(_ context.Context, c *cli.Command) error {
			if name := c.Args().First(); name != "" {
				return unknownCommand(c, name)
			}
			return cli.ShowAppHelp(c)
		},
	}
}

func unknownCommand(c *cli.Command, name string) error {
	var names []string
	for _, sub := range c.Commands {
		names = append(names, sub.Name)
	}
	return fault.New(fault.Wrong, fmt.Sprintf("there is no command %q", name), fault.DidYouMean(name, names))
}

func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	return fault.Because(fault.Wrong, err, fault.Problem{What: err.Error(), Do: "see " + c.FullName() + " --help"})
}

// exit is the error of a command that has said everything and only has a status left.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

// status tells what went wrong and gives the exit status.
func status(err error, asJSON, stopped bool) int {
	var done exit
	switch {
	case err == nil:
		return 0
	case errors.As(err, &done):
		return int(done)
	case stopped && (errors.Is(err, context.Canceled) || fault.ClassOf(err) == fault.Failed):
		fmt.Fprintln(os.Stderr, "ladle: interrupted, nothing was changed")
		return interrupted
	}
	code := int(fault.ClassOf(err))
	problems := fault.ProblemsOf(err)
	if asJSON {
		_ = printJSON(term.Stdout, map[string]any{"outcome": "failed", "status": code, "problems": problems})
	}
	for _, p := range problems {
		do := p.Do
		p.Do = ""
		fmt.Fprintln(os.Stderr, term.Safe("ladle: "+p.String()))
		if do != "" {
			fmt.Fprintln(os.Stderr, term.Safe("    "+strings.ReplaceAll(do, "\n", "\n    ")))
		}
	}
	return code
}

func printJSON(out io.Writer, v any) error {
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
