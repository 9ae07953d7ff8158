package cli

import (
	"context"
	"errors"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/propose"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

// settled plans tables for surveyed files, and asks about what is uncertain where a person is there: each answer may
// lead to other tables, which are planned anew with it.
func settled(ctx context.Context, c *cli.Command, s *survey.Survey, o propose.Options) (*propose.Proposal, error) {
	asks := term.Interactive() && !c.Bool("json") && !c.Bool("no-questions") && !c.Bool("yes")
	before := []propose.Answers{o.Answers}
	for {
		o.Answers = before[len(before)-1]
		p, err := propose.Make(s, o)
		if err != nil || !asks || len(p.Questions) == 0 {
			return p, err
		}
		q := p.Questions[0]
		m := menu{title: q.Where, why: q.Why, back: len(before) > 1}
		for _, choice := range q.Choices {
			m.choices = append(m.choices, menuChoice{says: choice.Says})
		}
		switch n, _, err := m.ask(ctx); {
		case errors.Is(err, errBack):
			before = before[:len(before)-1]
		case errors.Is(err, errQuit):
			return p, nil
		case err != nil:
			return nil, err
		default:
			before = append(before, o.Answers.With(q, n))
		}
	}
}
