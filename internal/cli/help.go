package cli

import (
	"context"
	"fmt"

	documents "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"

	"ladle/docs"
	"ladle/internal/core/fault"
	"ladle/internal/term"
)

func schemaCommand() *cli.Command {
	return &cli.Command{
		Name:      "schema",
		Usage:     "print the JSON Schema of ladle files, with which editors complete and check them",
		UsageText: "ladle schema > ladle-file.schema.json",
		Description: "An editor that speaks YAML takes it by a first line in the ladle file:\n" +
			"# yaml-language-server: $schema=ladle-file.schema.json",
		OnUsageError: usageError,
		Action: func(_ context.Context, c *cli.Command) error {
			if err := takesNothing(c); err != nil {
				return err
			}
			_, err := fmt.Fprint(term.Stdout, docs.Schema)
			return err
		},
	}
}

func manualCommand() *cli.Command {
	return &cli.Command{
		Name:         "manual",
		Usage:        "print the manual page, for man",
		UsageText:    "ladle manual > ladle.1",
		OnUsageError: usageError,
		Action: func(_ context.Context, c *cli.Command) error {
			if err := takesNothing(c); err != nil {
				return err
			}
			page, err := documents.ToManWithSection(c.Root(), 1)
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(term.Stdout, page)
			return err
		},
	}
}

func takesNothing(c *cli.Command) error {
	if c.Args().Len() > 0 {
		return fault.New(fault.Wrong, fmt.Sprintf("%s takes no %q", c.Name, c.Args().First()), "write: "+c.UsageText)
	}
	return nil
}
