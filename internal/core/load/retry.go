package load

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
)

// retry does what takes locks, and does it again where others stood in the way. A commit of which nothing is known is
// never done again.
func (r *run) retry(ctx context.Context, what func(context.Context) error) error {
	for {
		err := what(ctx)
		if r.failed >= r.retries(err) || fault.ClassOf(err) == fault.Unknown {
			return err
		}
		r.failed++
		r.why = fault.ProblemsOf(err)[0].What
		if r.Retrying != nil {
			r.Retrying(r.failed, err)
		}
		select { // not in step with others that wait in the same way
		case <-time.After(time.Duration(rand.Int64N(int64(min(r.failed, mostSteps)) * int64(retryStep)))):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// The longest wait before a transaction is done anew grows by a step each time, up to so many of them.
const (
	retryStep = time.Second
	mostSteps = 10
)

// usualRetries is how often a transaction is done anew that can't keep others out, where nobody says how often.
const usualRetries = 10

// retries is how often what ended with an error is done again.
func (r *run) retries(err error) int {
	switch {
	case !errors.Is(err, engine.ErrContended):
		return 0
	case r.Retries < 0 && errors.Is(err, engine.ErrOvertaken):
		return usualRetries
	}
	return max(r.Retries, 0)
}

// noteRetries tells how often it was tried.
func (r *run) noteRetries() {
	if r.failed > 0 {
		r.report.Notes = append(r.report.Notes, fmt.Sprintf("%s before this one failed, the last one because %s",
			reason.Plural(int64(r.failed), "attempt"), r.why))
	}
}
