package notation

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/value"
)

func TestMonthsOfLanguages(t *testing.T) {
	for _, c := range []struct{ language, pattern, cell, want string }{
		{"fr", "d MMMM yyyy", "14 août 2026", "2026-08-14"}, {"fr", "d MMMM yyyy", "1 FÉVRIER 2026", "2026-02-01"},
		{"fr", "d MMM yyyy", "14 juil. 2026", "2026-07-14"}, {"fr", "d MMM yyyy", "14 juin 2026", "2026-06-14"},
		{"fr", "d MMM yyyy", "14 jui 2026", ""}, {"fr", "d MMMM yyyy", "14 août. 2026", ""}, {"fr", "d MMMM yyyy",
			"14 August 2026", ""},
		{"de", "d. MMMM yyyy", "3. März 2026", "2026-03-03"}, {"de-AT", "d. MMMM yyyy", "3. Jänner 2026", "2026-01-03"},
		{"de", "dd-MMM-yy", "03-Mrz-26", "2026-03-03"}, {"pl", "d MMMM yyyy", "5 października 2026", "2026-10-05"},
		{"cs", "d. MMM yyyy", "5. čvc 2026", "2026-07-05"}, {"ru", "d MMMM yyyy", "9 мая 2026", "2026-05-09"},
		{"tr", "d MMMM yyyy", "9 KASIM 2026", "2026-11-09"}, {"nl", "d MMM yyyy", "9 mrt 2026", "2026-03-09"},
		{"en", "d MMM yyyy", "9 Mar 2026", "2026-03-09"}, {"", "d MMM yyyy", "9 Mar 2026", "2026-03-09"},
	} {
		p, err := NewPatternIn(c.language, c.pattern, 1950)
		require.NoError(t, err)
		m, err := NewDates(p).Scan([]byte(c.cell))
		if c.want == "" {
			assert.Error(t, err, c.cell)
			continue
		}
		require.NoError(t, err, c.cell)
		assert.Equal(t, c.want, string(value.AppendMoment(nil, m)), c.cell)
	}
	for language := range monthNames {
		for _, pattern := range []string{"d MMMM yyyy", "d MMM yyyy"} {
			p, err := NewPatternIn(language, pattern, NoPivot)
			require.NoError(t, err)
			for i, forms := range p.months.full {
				for _, name := range forms {
					m, err := NewDates(p).Scan([]byte("2 " + name + " 2026"))
					require.NoError(t, err, "%s in %s", name, language)
					_, month, _ := value.Civil(m.Days)
					assert.Equal(t, int64(i+1), month, "%s in %s", name, language)
				}
			}
		}
	}
	_, err := NewPatternIn("xx", "d MMM yyyy", NoPivot)
	assert.ErrorContains(t, err, "write the code of a language: en, bg, ca")
	_, err = NewPatternIn("fr", "EEE d MMM yyyy", NoPivot)
	assert.ErrorContains(t, err, "the names of days are read in English only")
}

func TestDigitsOfOtherScripts(t *testing.T) {
	for _, c := range []struct{ example, cell, want string }{
		{"١٬٢٣٤٫٥٠", "٢٬٥٠٠٫٧٥", "2500.75"}, {"１，２３４．５", "９，８７６．５", "9876.5"}, {"१२३", "९०", "90"}, {"१२३", "90", "90"},
		{"123", "９", ""}, {"１２３", "９x", ""}, {"１２３", "－９", "-9"},
	} {
		n, err := NumberLike(c.example)
		require.NoError(t, err, c.example)
		d, _, err := n.Scan(nil, []byte(c.cell))
		if c.want == "" {
			assert.Error(t, err, c.cell)
			continue
		}
		require.NoError(t, err, c.cell)
		assert.Equal(t, c.want, string(d.Append(nil)))
	}
}

func TestPatternsThatCoverCells(t *testing.T) {
	for _, c := range []struct {
		cells   []string
		want    []string
		covered int
		unsure  bool
	}{
		{[]string{"2026-01-05", "2026-02-14", "25/03/2026"}, []string{"yyyy-MM-dd", "dd/MM/yyyy"}, 3, false},
		{[]string{"Jun 12 1998", "May 9 2001"}, []string{"MMM d yyyy"}, 2, false},
		{[]string{"June 12, 1998", "May 9, 2001"}, []string{"MMMM d, yyyy"}, 2, false},
		{[]string{"12 Jun 1998", "9 September 2001", "x"}, []string{"d MMM yyyy", "d MMMM yyyy"}, 2, false},
		{[]string{"03/04/2026", "05/06/2026"}, []string{"dd/MM/yyyy"}, 2, true},
		{[]string{"abc"}, nil, 0, false},
	} {
		patterns, covered, unsure := Covering(c.cells, 3)
		assert.Equal(t, c.want, patterns, c.cells)
		assert.Equal(t, c.covered, covered, c.cells)
		assert.Equal(t, c.unsure, unsure, c.cells)
	}
}
