package condition

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

var berth = &schema.Table{Name: "berth", Columns: []schema.Column{
	{Name: "n", Type: value.Type{Kind: value.Int}},
	{Name: "depth", Type: value.Type{Kind: value.Fixed, Scale: 2}},
	{Name: "Quay", Type: value.Type{Kind: value.Text}},
	{Name: "open", Type: value.Type{Kind: value.Bool}},
	{Name: "since", Type: value.Type{Kind: value.Date}},
	{Name: "until", Type: value.Type{Kind: value.Date}},
	{Name: "load", Type: value.Type{Kind: value.Float}},
	{Name: "dues", Type: value.Type{Kind: value.Decimal}},
}}

// row is a berth by its cells, "COLUMN=VALUE" behind each other with semicolons; all others are NULL.
func row(t *testing.T, c *Condition, cells string) []*value.Column {
	t.Helper()
	all := make([]*value.Column, len(c.Columns))
	for i, name := range c.Columns {
		of := berth.Column(name).Type
		column := value.NewColumn(of)
		for cell := range strings.SplitSeq(cells, ";") {
			if which, text, _ := strings.Cut(cell, "="); which == name {
				require.NoError(t, value.Parse(&column, of, []byte(text)))
			}
		}
		if column.Len() == 0 {
			column.AppendState(value.Null)
		}
		all[i] = &column
	}
	return all
}

func TestConditionsThatSurelyHold(t *testing.T) {
	for _, c := range []struct {
		condition    string
		holds, asked []string // rows
	}{
		{"n < 10", []string{"n=9", ""}, []string{"n=10", "n=11"}},
		{"((10 > `n`))", []string{"n=9"}, []string{"n=10"}},
		{"NOT n >= -1.5", []string{"n=-2"}, []string{"n=-1"}},
		{"(depth > 2.5::numeric)", []string{"depth=2.51"}, []string{"depth=2.50"}},
		{"depth BETWEEN 1 AND 2", []string{"depth=1", "depth=2", ""}, []string{"depth=2.01", "depth=0.99"}},
		{"depth NOT BETWEEN 1 AND 2", []string{"depth=2.01"}, []string{"depth=1.5"}},
		{"n IN (1, 2) OR depth = n", []string{"n=2;depth=9", "n=3;depth=3.00", "depth=1"}, []string{"n=3;depth=1"}},
		{"n IS NULL AND depth IS NOT NULL", []string{"depth=1"}, []string{"n=1;depth=1", ""}},
		{"n = 1 AND depth = 1", []string{"n=1;depth=1", "depth=1"}, []string{"depth=2", "n=2"}},
		{`("Quay")::text = ANY ((ARRAY['N'::character varying, 'S'::character varying])::text[])`,
			[]string{"Quay=S"}, []string{"Quay=T", "Quay=É"}},
		{`"Quay" <> ALL (ARRAY['N'::text, 'S'::text])`, []string{"Quay=T"}, []string{"Quay=n", "Quay=É"}},
		{"quay in (_utf8mb4'it''s')", []string{"Quay=it's"}, []string{"Quay=its"}},
		{"[Quay] <> ''", []string{"Quay=x"}, []string{"Quay= "}},
		{"char_length(Quay) <= 2", []string{"Quay=ab"}, []string{"Quay=abc", "Quay=é"}},
		{"length(TRIM(Quay)) > 0", nil, []string{"Quay=ab"}},
		{"open", []string{"open=1"}, []string{"open=0"}},
		{"open = false", []string{"open=0"}, []string{"open=1"}},
		{"until >= since", []string{"since=2026-01-01;until=2026-01-01"},
			[]string{"since=2026-01-02;until=2026-01-01"}},
		{"since > '2026-01-01'::date", []string{"since=2026-01-02"}, []string{"since=2026-01-01"}},
		{"load >= 0", []string{"load=0"}, []string{"load=-0.5"}},
		{"dues >= 0.10", []string{"dues=0.1"}, []string{"dues=0.09", "dues=12345678901234567890"}},
		{"Quay > 'A'", nil, []string{"Quay=B"}},
		{"Quay LIKE 'A%' OR n = 1", nil, []string{"n=1;Quay=A"}},
		{"n + 1 < 3", nil, []string{"n=1"}},
		{"since::timestamp > '2026-01-01'", nil, []string{"since=2026-01-02"}},
	} {
		t.Run(c.condition, func(t *testing.T) {
			read := New(schema.Check{Condition: c.condition}, berth)
			require.NotNil(t, read)
			assert.Equal(t, c.holds != nil, read.Judges())
			for _, cells := range c.holds {
				assert.True(t, read.Holds(row(t, read, cells), 0), "%q", cells)
			}
			for _, cells := range c.asked {
				assert.False(t, read.Holds(row(t, read, cells), 0), "%q", cells)
			}
		})
	}
}

func TestWhatOnlyAWrittenRowTells(t *testing.T) {
	for _, condition := range []string{"", "port.deep_enough(n)", "deep_enough(n)", "n < (SELECT 3)",
		"n OPERATOR(public.<) 3",
		"n < 'open", `Quay <> 'a\'b'`, `"lower"(Quay) = Quay`} {
		assert.Nil(t, New(schema.Check{Condition: condition}, berth), condition)
	}
}

// FuzzCondition reads any text, and judges a row of every value by it.
func FuzzCondition(f *testing.F) {
	for _, seed := range []string{"n < 10 AND NOT (depth IN (1, 2.5))", `"Quay"::text = ANY (ARRAY['N'::text])`,
		"since BETWEEN '2026-01-01' AND until OR open", "length(Quay) > -3 IS NOT NULL"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, condition string) {
		c := New(schema.Check{Condition: condition}, berth)
		if c == nil {
			return
		}
		for _, cells := range []string{"n=5;depth=1.5;Quay=N;open=1;since=2026-01-01;until=2026-02-01;load=1.5;dues=3",
			""} {
			c.Holds(row(t, c, cells), 0)
		}
	})
}

func TestListsOfTexts(t *testing.T) {
	for condition, want := range map[string][]string{
		"Quay IN ('N', 'it''s')":      {"N", "it's"},
		"((`Quay` in ('N','S')))":     {"N", "S"},
		"\"Quay\" = ANY (ARRAY['N'])": {"N"},
		`(("Quay")::text = ANY ((ARRAY['N'::character varying, 'S'::character varying])::text[]))`: {"N", "S"},
		"Quay NOT IN ('N', 'S')":                nil,
		`"Quay" <> ALL (ARRAY['N'::text])`:      nil,
		"Quay IN ('N') OR n = 1":                nil,
		"Quay IN ('N') OR Quay > 'P'":           nil,
		"(Quay IN ('N', 'S')) IN ('N')":         nil,
		"Quay > 'N'":                            nil,
		"n IN (1, 2)":                           nil,
		"since IN ('2026-03-01')":               nil,
		"length(Quay) IN (1, 2)":                nil,
		"Quay IN ('N', Quay)":                   nil,
		"Quay IN ('N') AND Quay IN ('N', 'S')":  nil,
		"Quay IN (SELECT name FROM quay)":       nil,
		"Quay IN ('N', upper('s'))":             nil,
		"CASE WHEN Quay IN ('N') THEN TRUE END": nil,
		"Quay IN ('N') IS NOT NULL":             nil,
	} {
		table := *berth
		table.Checks = []schema.Check{{Condition: "n > 0"}, {Condition: condition}}
		assert.Equal(t, want, Allowed(&table, table.Column("Quay")), condition)
		assert.Nil(t, Allowed(&table, table.Column("n")), condition)
	}
}

func TestLimitsOfNumbers(t *testing.T) {
	says := func(l *Limit) string {
		if l == nil {
			return ""
		}
		return map[bool]string{true: "over ", false: "from "}[l.Open] + l.Number
	}
	for condition, want := range map[string][2]string{
		"depth > 0":                         {"over 0", ""},
		"(depth >= (-1.5)::numeric)":        {"from -1.5", ""},
		"10 > depth":                        {"", "over 10"},
		"depth BETWEEN 1 AND 2.5":           {"from 1", "from 2.5"},
		"((depth >= 1) AND (depth <= 2))":   {"from 1", "from 2"},
		"depth > 0 AND depth >= 0":          {"over 0", ""},
		"depth < 9 AND depth < 7 AND 3 < 4": {"", ""},
		"depth < 9 AND depth < 7":           {"", "over 7"},
		"depth > 0 OR depth < -1":           {"", ""},
		"NOT depth > 0":                     {"", ""},
		"depth NOT BETWEEN 1 AND 2":         {"", ""},
		"depth > n":                         {"", ""},
		"depth > 0 AND n > 0":               {"", ""},
		"depth = 1":                         {"", ""},
		"depth IN (1, 2)":                   {"", ""},
		"depth + 1 > 0":                     {"", ""},
		"length(Quay) > 2":                  {"", ""},
	} {
		table := *berth
		table.Checks = []schema.Check{{Condition: condition}}
		least, most := Within(&table, table.Column("depth"))
		assert.Equal(t, want, [2]string{says(least), says(most)}, condition)
		least, most = Within(&table, table.Column("Quay"))
		assert.Nil(t, least, condition)
		assert.Nil(t, most, condition)
	}
}
