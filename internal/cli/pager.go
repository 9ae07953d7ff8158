package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"ladle/internal/core/changes"
	"ladle/internal/term"
)

// errEnough ends the showing of changes.
var errEnough = errors.New("the person has seen enough")

// askSeeing asks a yes-or-no question whose subject can be looked at first, row by row.
func askSeeing(ctx context.Context, question string, each changes.Walk, choose chooser) (bool, error) {
	for {
		answer, err := choose(ctx, question, "y/N/s/?")
		switch {
		case err != nil:
			return false, err
		case answer == "s" || answer == "see":
			if err := showChanges(ctx, each, choose); err != nil {
				return false, err
			}
		case slices.Contains([]string{"y", "yes", "n", "no", ""}, answer):
			return answer == "y" || answer == "yes", nil
		default:
			fmt.Fprintln(os.Stderr, "  y  do it\n  n  leave everything as it is\n"+
				"  s  see what becomes of each row, page by page\n  ?  show this")
		}
	}
}

// showChanges shows what becomes of each row, page by page.
func showChanges(ctx context.Context, each changes.Walk, choose chooser) error {
	s, height := term.NewScreen(os.Stderr), max(term.Height()-2, 5)
	shown := 0
	err := each(func(r changes.Record) error {
		if shown > 0 && shown%height == 0 {
			answer, err := choose(ctx, "More?", "Y/q")
			if err != nil {
				return err
			}
			if answer == "q" || answer == "n" {
				return errEnough
			}
		}
		shown++
		s.Line("%s", changeWords(r))
		return nil
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	if shown == 0 {
		s.Note("No row is added, changed or removed.")
	}
	return err
}

// changeWords are a change in one line: vessel changed: reg A1: name "Tern" becomes "Rail" (in.csv:2).
func changeWords(r changes.Record) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s: %s", r.Table, r.What, r.Key)
	cell := func(c *string) string {
		if c == nil {
			return "NULL"
		}
		return fmt.Sprintf("%q", *c)
	}
	switch {
	case r.Column == "":
	case r.What == changes.Added:
		fmt.Fprintf(&b, ": %s %s", r.Column, cell(r.After))
	case r.What == changes.Differs:
		fmt.Fprintf(&b, ": %s stays %s, %s in the file", r.Column, cell(r.Before), cell(r.After))
	default:
		fmt.Fprintf(&b, ": %s %s becomes %s", r.Column, cell(r.Before), cell(r.After))
	}
	if r.Line > 0 {
		fmt.Fprintf(&b, " (%s:%d)", r.File, r.Line)
	}
	return b.String()
}
