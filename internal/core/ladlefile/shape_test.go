package ladlefile

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/source"
)

// withInput decodes a ladle file whose input has the given keys, on line 5.
func withInput(keys string) (*File, error) {
	return Decode("f", []byte("ladle: 1\ninputs:\n  in:\n    file: in.csv\n    "+keys+
		"\ntables: {t: {from: in, columns: {a: Cell}}}\n"))
}

func TestShapesAreDecoded(t *testing.T) {
	f, err := withInput(`columns_to_rows: {columns: [Jan, Feb], heading: Month, value: Tons, blanks: keep}
    parts_to_rows: {column: Cargo, at: ";", number: Part}`)
	require.NoError(t, err)
	c, p := f.Inputs[0].Shape.Columns, f.Inputs[0].Shape.Parts
	assert.Equal(t, []string{"Jan", "Feb", "Month", "Tons"}, []string{c.Names[0].Text, c.Names[1].Text, c.Heading.Text,
		c.Value.Text})
	assert.True(t, c.Blanks)
	assert.Equal(t, []string{"Cargo", ";", "Part"}, []string{p.Column.Text, p.At, p.Number.Text})
	assert.Equal(t, []int{5, 22}, []int{c.At.Line, c.At.Column})

	f, err = withInput(`columns_to_rows: {columns: {from: Jan, to: Dec}, heading: Month, value: Tons}
    parts_to_rows: {column: Cargo}`)
	require.NoError(t, err)
	c = f.Inputs[0].Shape.Columns
	assert.Equal(t, []string{"Jan", "Dec"}, []string{c.From.Text, c.To.Text})
	assert.False(t, c.Blanks)
	assert.Empty(t, f.Inputs[0].Shape.Parts.At)

	f, err = withInput(`columns_to_rows: {heading: Year, values: {Tons: '^(\d+) tons$', Dues: '^(\d+) dues$'}}`)
	require.NoError(t, err)
	c = f.Inputs[0].Shape.Columns
	assert.Equal(t, []string{"2026 tons", "2026"}, c.Values[0].Pattern.FindStringSubmatch("2026 tons"))
	assert.Equal(t, "Dues", c.Values[1].Name.Text)
}

func TestWaysToReadAreDecoded(t *testing.T) {
	f, err := withInput(`escape: '\'
    comment: "#"
    short_lines: accept
    widths: [4, 10]
    member: answer.calls`)
	require.NoError(t, err)
	assert.Equal(t, source.ReadOptions{Escape: `\`, Comment: "#", ShortLines: true, Widths: "4, 10",
		Member: "answer.calls"}, f.Inputs[0].Asked)
}

func TestShapesAreToldWhereTheyAreWrong(t *testing.T) {
	for keys, want := range map[string]string{
		"columns_to_rows: {columns: [Jan], value: Tons}":    "needs heading:",
		"columns_to_rows: {columns: [Jan], heading: Month}": "needs columns: and value:, or values:",
		"columns_to_rows: {heading: Month, value: Tons}":    "needs columns: and value:, or values:",
		"columns_to_rows: {columns: [Jan], heading: M, values: {a: b}}": "values: says by itself " +
			"which columns become lines",
		"columns_to_rows: {columns: {regex: '('}, heading: M, value: T}": "5:40: regex: is not a " +
			"regular expression: missing closing )",
		"columns_to_rows: {columns: {regex: '(a)(b)'}, heading: M, value: T}": "has several groups",
		"columns_to_rows: {columns: [Jan], heading: M, value: T, blanks: " +
			"drop}": `blanks: can't be "drop"; there are: keep, leave_out`,
		"columns_to_rows: {columns: [Jan], heading: M, value: T, names: x}": `columns_to_rows: has no key "names"`,
		"columns_to_rows: {columns: {regex: a, from: b}, heading: M, value: T}": "needs columns: and " +
			"value:, or values:",
		"parts_to_rows: {at: ';'}":                "parts_to_rows: needs column:",
		"parts_to_rows: {column: Cargo, at: ''}":  "needs column:, and at: with what stands between the parts",
		"escape: ab":                              `escape: can't be "ab"`,
		"short_lines: yes":                        `short_lines: can't be "yes"; write accept`,
		"widths: [4, x]":                          `widths: can't be "4, x"`,
		"{}\n    delimiter: ';'\n    widths: [4]": "5:",
		"columns: {Day: {date: {pattern: d MMMM yyyy, language: " +
			"xx}}}": `language: can't be "xx"; write the code of a language: en, bg`,
		"columns: {Day: {date: {language: fr}}}": "date: needs pattern:",
		"columns: {Day: {if_blank: [above, {formula: x, as_in_lines_with_same: y}]}}": "if_blank: needs above, " +
			"formula: or",
		"columns: {Day: {date: [{pattern: EEE d MMMM yyyy, language: fr}, dd.MM.yyyy]}}": "the names of days are " +
			"read in English only",
	} {
		_, err := withInput(keys)
		assert.ErrorContains(t, err, want, keys)
	}
}
