package judge

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/plan"
	"ladle/internal/core/schema"
)

func TestRejectionsAreKeptByTheirWords(t *testing.T) {
	r := &Rejections{}
	for line := range int64(3000) {
		r.AddLine(2, line, fmt.Sprintf("reason %d", line))
	}
	r.AddLine(2, 5, "reason 4")
	step := func(n int) *Step { return &Step{Step: &plan.Step{Number: n, Table: &schema.Table{}}} }
	assert.Len(t, r.lines[2].texts, mostTexts)
	var words []string
	for _, p := range r.in(step(2), nil, 4, 3) {
		words = append(words, fmt.Sprintf("%d %s", p.line, p.why.Words()))
	}
	const before = "the database rejects the row: "
	assert.Equal(t, []string{"0 " + before + "reason 4", "1 " + before + "reason 4", "1 " + before + "reason 5",
		"2 " + before + "reason 6"}, words)
	assert.Len(t, r.in(step(2), nil, 2500, 2), 2, "no line is lost where there are too many reasons")
	assert.Empty(t, r.in(step(1), nil, 4, 3), "of another step")
}

func TestTalliesAddUp(t *testing.T) {
	var tally Tally
	for _, v := range []Verdict{Added, Same, Same, Repeated, SetAside} {
		tally.Count(v)
	}
	assert.Equal(t, Tally{Read: 5, Added: 1, Same: 2, Repeated: 1, SetAside: 1}, tally)
	assert.True(t, tally.Balanced())
	tally.Same--
	assert.False(t, tally.Balanced())
}

func TestNewRowsSayWhoAddsThem(t *testing.T) {
	for n := range int64(5) {
		assert.Equal(t, []any{n, true}, []any{newOfLookup(int(n)).Number(), newOfLookup(int(n)).OfLookup()})
		assert.Equal(t, []any{n, false}, []any{newOfStep(n).Number(), newOfStep(n).OfLookup()})
	}
}
