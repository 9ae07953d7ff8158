package fault

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestProblemsNameTheirPlace(t *testing.T) {
	assert.Equal(t, "f:3:5: wrong; correct it", Problem{File: "f", Line: 3, Column: 5, What: "wrong",
		Do: "correct it"}.String())
	assert.Equal(t, "f:3: wrong", Problem{File: "f", Line: 3, What: "wrong"}.String())
	assert.Equal(t, "wrong", Problem{What: "wrong", Line: 3}.String())
}

func TestFaultsAreFoundInOtherErrors(t *testing.T) {
	wrapped := fmt.Errorf("step x: %w", Because(Refused, io.ErrUnexpectedEOF, Problem{What: "cut off"}))
	assert.Equal(t, Refused, ClassOf(wrapped))
	assert.Equal(t, []Problem{{What: "cut off"}}, ProblemsOf(wrapped))
	assert.ErrorIs(t, wrapped, io.ErrUnexpectedEOF)
	assert.Equal(t, Failed, ClassOf(errors.New("plain")))
	assert.Equal(t, []Problem{{What: "plain"}}, ProblemsOf(errors.New("plain")))
}

func TestNear(t *testing.T) {
	names := []string{"vessel", "vessel_type", "port_call"}
	assert.Equal(t, `did you mean "vessel"?`, DidYouMean("vesel", names))
	assert.Equal(t, `did you mean "port_call"?`, DidYouMean("PORT_CALLS", names))
	assert.Equal(t, "there are: vessel, vessel_type, port_call", DidYouMean("something else", names))
	assert.Empty(t, DidYouMean("x", nil))
	many := make([]string, 20)
	for i := range many {
		many[i] = fmt.Sprintf("a_long_name_%d", i)
	}
	assert.Contains(t, DidYouMean("z", many), "and 8 more")
}
