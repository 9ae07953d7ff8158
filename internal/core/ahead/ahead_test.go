package ahead

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOf(t *testing.T) {
	broken := errors.New("broken")
	for name, c := range map[string]struct {
		breaks func(n int) error // of use
		ends   error             // of produce
		want   int               // things that are used
		err    error
	}{
		"all":             {want: 100},
		"use fails":       {breaks: func(n int) error { return map[bool]error{true: broken}[n == 7] }, want: 8, err: broken},
		"produce fails":   {ends: broken, want: 100, err: broken},
		"the first fails": {breaks: func(int) error { return broken }, ends: errors.New("other"), want: 1, err: broken},
	} {
		used, produced := 0, false
		err := Of(func(give func(int) error) error {
			defer func() { produced = true }()
			for n := range 100 {
				if err := give(n); err != nil {
					return err
				}
			}
			return c.ends
		}, func(n int) error {
			assert.Equal(t, used, n, name)
			used++
			if c.breaks != nil {
				return c.breaks(n)
			}
			return nil
		})
		assert.Equal(t, c.err, err, name)
		assert.Equal(t, c.want, used, name)
		assert.True(t, produced, "%s: both are done", name)
	}
	err := Of(func(give func(int) error) error {
		none := make([]int, 0)
		return give(none[len(none)]) // a fault of the program
	}, func(int) error { return nil })
	assert.ErrorContains(t, err, "ladle itself has a fault, in ladle/internal/core/ahead.TestOf")
}
