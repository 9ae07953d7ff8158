package check

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/value"
)

func TestAnswersCompareAsNumbersWhereTheyAre(t *testing.T) {
	text := func(s string) *string {
		if s == "NULL" {
			return nil
		}
		return &s
	}
	for _, c := range []struct {
		a, b string
		same bool
	}{{"1203.5", "1203.50", true}, {"1e2", "100", true}, {"-0", "0", true}, {"NULL", "NULL", true},
		{"NULL", "0.00", true}, {"NULL", "1", false}, {"N1", "N1", true}, {"N1", "n1", false},
		{"1", "1.0000000000000000001", false}, {"", "0", false}, {"NaN", "NaN", true}, {"NaN", "0", false},
		{"2026-01-01", "2026-01-02", false}} {
		assert.Equal(t, c.same, sameCell(text(c.a), text(c.b)), "%s and %s", c.a, c.b)
		assert.Equal(t, c.same, sameCell(text(c.b), text(c.a)), "%s and %s", c.b, c.a)
	}
	assert.False(t, sameAnswer([]*string{text("1")}, []*string{text("1"), text("2")}))
}

func TestBoundsInWords(t *testing.T) {
	for want, c := range map[string]Claim{"2 or more": {Least: 2, Most: -1}, "4": {Least: 4, Most: 4},
		"3 or fewer": {Most: 3}, "1 to 3": {Least: 1, Most: 3}} {
		assert.Equal(t, want, c.bounds())
	}
}

func TestStatedTotals(t *testing.T) {
	assert.True(t, ControlTotal{Want: "10.50", Read: "10.5"}.Result().OK)
	r := ControlTotal{Input: "arrivals", Of: "Dues", Says: "10,60", Want: "10.60", Read: "10.5", Unread: 2}.Result()
	assert.Equal(t, Result{Check: "total", Claim: "Dues of arrivals: 10,60",
		Says: "the sender states 10.60, but 10.5 was read", Short: "arrivals Dues 10.5",
		Problems: []string{"2 cells of Dues could not be read"}}, r)
	var s Sum
	sum, n := s.Total()
	assert.Equal(t, "0", sum)
	assert.Zero(t, n)
	c := value.NewColumn(value.Type{Kind: value.Decimal})
	for _, d := range []string{"0.1", "0.2", "12345678901234567890.5"} {
		c.AppendBytes([]byte(d))
	}
	c.AppendState(value.Null)
	c.AppendState(value.Bad)
	s.Add(&c)
	sum, n = s.Total()
	assert.Equal(t, "12345678901234567890.8", sum)
	assert.Equal(t, int64(3), n)
}
