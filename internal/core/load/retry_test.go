package load

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/report"
)

// TestRetry: what others stood in the way of is done again as often as somebody says, and what may have been committed never.
func TestRetry(t *testing.T) {
	failure := fault.New(fault.Failed, "a table is locked", "wait")
	for name, c := range map[string]struct {
		retries int
		err     error
		fails   int // times, and is done then
		tried   int
	}{
		"nothing in the way":                       {-1, nil, 0, 1},
		"another failure":                          {5, failure, 9, 1},
		"a lock, and nobody says":                  {-1, engine.Contended(failure), 9, 1},
		"a lock":                                   {2, engine.Contended(failure), 1, 2},
		"overtaken, and nobody says":               {-1, engine.Overtaken(failure), 1, 2},
		"overtaken, and not to be done again":      {0, engine.Overtaken(failure), 9, 1},
		"a commit of which nothing is known":       {5, engine.Unanswered(engine.Overtaken(failure)), 9, 1},
		"a commit that is known to have failed":    {1, fault.OfClass(fault.Failed, engine.Unanswered(engine.Overtaken(failure))), 1, 2},
		"somebody ends it while it waits for more": {9, context.Canceled, 9, 1},
	} {
		t.Run(name, func(t *testing.T) {
			r := &run{Options: Options{Retries: c.retries}, report: &report.Report{}}
			tried := 0
			err := r.retry(t.Context(), func(context.Context) error {
				if tried++; tried > c.fails {
					return nil
				}
				return c.err
			})
			assert.Equal(t, c.tried, tried)
			assert.Equal(t, tried <= c.fails, err != nil && errors.Is(err, c.err))
			r.noteRetries()
			if tried > 1 {
				assert.Equal(t, []string{"1 attempt before this one failed, the last one because a table is locked"}, r.report.Notes)
			} else {
				assert.Empty(t, r.report.Notes)
			}
		})
	}
}
