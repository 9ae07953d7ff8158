package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/report"
	"ladle/internal/term"
)

// mostSimilar is the number of names that are asked about one by one.
const mostSimilar = 10

// namesHelp says what the answers about a name mean.
const namesHelp = `  y  add it: it is another name
  n  don't add it: the lines that have it are set aside
  a  add it, and all others that look like another name
  q  stop here: nothing is changed
  ?  show this`

// chooser puts a question to a person who answers with one of some letters; "" is no answer.
type chooser func(ctx context.Context, question, letters string) (string, error)

// askSimilar asks whether names that look like others are added: one by one, and when there are many, once for all
// others.
func askSimilar(choose chooser) func(context.Context, judge.SimilarQuestion) (bool, error) {
	asked, others, settled := 0, false, false
	return func(ctx context.Context, p judge.SimilarQuestion) (bool, error) {
		if settled {
			return others, nil
		}
		asked++
		question, letters := nameQuestion(p), "y/N/a/q/?"
		if asked > mostSimilar {
			question, letters = fmt.Sprintf("There are more such names; the next is %q.\nAdd them all?", p.Name),
				"y/N/q/?"
		}
		for {
			answer, err := choose(ctx, term.Safe(question), letters)
			switch {
			case err != nil:
				return false, err
			case answer == "q" || answer == "quit":
				return false, judge.ErrStopped
			case !slices.Contains([]string{"y", "yes", "a", "all", "n", "no", ""}, answer):
				fmt.Fprintln(os.Stderr, namesHelp)
				continue
			}
			yes := slices.Contains([]string{"y", "yes", "a", "all"}, answer)
			if asked > mostSimilar || answer == "a" || answer == "all" {
				settled, others = true, yes
			}
			return yes, nil
		}
	}
}

// nameQuestion is the question about a name.
func nameQuestion(p judge.SimilarQuestion) string {
	which := "is in the table"
	if p.IsNew {
		which = fmt.Sprintf("is new too (%s)", plural(p.LikeLines, "line"))
	}
	return fmt.Sprintf("%q (%s) would be a new name in %s, but looks like %q, which %s.\nAdd it?", p.Name,
		plural(p.Lines, "line"), p.Table, p.Like, which)
}

// showSimilar shows the names that look like others and are added all the same, and how to say so for good.
func showSimilar(s *term.Screen, table string, accepted []judge.Similar) {
	if len(accepted) == 0 {
		return
	}
	var names []string
	for _, p := range accepted {
		s.Item(term.Dot, "%s: %q is added although it looks like %q", table, p.Name, p.Like)
		names = append(names, p.Name)
	}
	s.Note("To be asked no more: similar_names: {accept: %s}", ladlefile.Flow(names))
}

// showNewKeys shows the new keys of steps that look like others, and those that were not held against others.
func showNewKeys(s *term.Screen, r *report.Report) {
	for _, step := range r.Steps {
		showSimilar(s, strings.Join(append([]string{step.Table}, step.Key...), "."), step.Similar)
		if step.Unheld > 0 {
			s.Item(term.Dot, "%s: too many to look for names that look alike: %s", step.Step,
				plural(step.Unheld, "new key"))
		}
	}
}
