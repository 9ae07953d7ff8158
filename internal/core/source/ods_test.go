package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ods writes a workbook with the given markup in its spreadsheet element; more are further parts.
func ods(t testing.TB, tables string, more map[string]string) string {
	all := map[string]string{
		"mimetype": "application/vnd.oasis.opendocument.spreadsheet",
		"content.xml": `<?xml version="1.0"?><office:document-content><office:automatic-styles>` +
			`<style:style style:name="ta2" style:family="table"><style:table-properties table:display="false"/></style:style>` +
			`</office:automatic-styles><office:body><office:spreadsheet>` + tables +
			`</office:spreadsheet></office:body></office:document-content>`,
	}
	for name, content := range more {
		all[name] = content
	}
	return parts(t, "in.ods", all)
}

// text is a cell with a text, cells those of a table with the header a, b, c.
func textCell(s string) string {
	return `<table:table-cell office:value-type="string"><text:p>` + s + `</text:p></table:table-cell>`
}

func odsTable(rows string) string {
	return `<table:table table:name="Calls"><table:table-column table:number-columns-repeated="3"/><table:table-row>` +
		textCell("a") + textCell("b") + textCell("c") + `</table:table-row>` + rows + `</table:table>`
}

func TestCellsOfODS(t *testing.T) {
	row := func(cells string) string { return odsTable(`<table:table-row>` + cells + `</table:table-row>`) }
	cases := []struct{ name, table, want string }{
		{"texts in several parts", row(textCell(`one <text:span>two</text:span> <text:a>three</text:a>`)),
			"2: one two three||"},
		{"paragraphs, blanks, tabs and line ends",
			row(`<table:table-cell office:value-type="string"><text:p>a<text:s text:c="3"/>b<text:s/>c</text:p><text:p/><text:p>d<text:tab/>e<text:line-break/>f</text:p></table:table-cell>`),
			"2: a   b c\n\nd\te\nf||"},
		{"markup that is indented", row("<table:table-cell office:value-type=\"string\">\n  <text:p>two\n    " +
			"words</text:p>\n</table:table-cell>"), "2: two words||"},
		{"annotations, shapes and readings aside are no text",
			row(`<table:table-cell office:value-type="string"><office:annotation><dc:date>2026</dc:date><text:p>note</text:p></office:annotation>` +
				`<draw:frame><draw:text-box><text:p>shape</text:p></draw:text-box></draw:frame><text:p>real<text:ruby><text:ruby-base>base</text:ruby-base><text:ruby-text>aside</text:ruby-text></text:ruby></text:p></table:table-cell>`),
			"2: realbase||"},
		{"an attribute instead of a paragraph",
			row(`<table:table-cell office:value-type="string" office:string-value="held &amp; kept"><text:p>shown</text:p></table:table-cell>`), "2: held & kept||"},
		{"entities", row(textCell("&lt;&#65;&quot;&gt;")), `2: <A">||`},
		{"numbers as they are held",
			row(`<table:table-cell office:value-type="percentage" office:value="0.125"><text:p>13%</text:p></table:table-cell>` +
				`<table:table-cell office:value-type="currency" office:value="1234.5"><text:p>1.235 €</text:p></table:table-cell><table:table-cell office:value-type="float" office:value="1.5E-3"/>`), "2: 0.125|1234.5|0.0015"},
		{"a number that is none", row(`<table:table-cell office:value-type="float" office:value="x"/>`),
			"2: x|| (0 is stored as a number, but is not one)"},
		{"dates and times", row(
			`<table:table-cell office:value-type="date" office:date-value="2026-03-31"/><table:table-cell office:value-type="date" office:date-value="2026-03-31T15:04:05.500000000"/>` +
				`<table:table-cell office:value-type="time" office:time-value="PT26H30M00S"/>`),
			"2: 2026-03-31|2026-03-31 15:04:05.5|26:30:00"},
		{"a time that is none", row(`<table:table-cell office:value-type="time" office:time-value="soon"/>`),
			"2: soon|| (0 is stored as a time, but is not one)"},
		{"truth", row(`<table:table-cell office:value-type="boolean" office:boolean-value="true"/><table:table-cell office:value-type="boolean" office:boolean-value="false"/>`), "2: true|false|"},
		{"errors of formulas",
			row(`<table:table-cell table:formula="of:=1/0" office:value-type="string" calcext:value-type="error"><text:p>#DIV/0!</text:p></table:table-cell>` +
				`<table:table-cell table:formula="of:=x" office:value-type="float" office:value="0"><text:p>Err:508</text:p></table:table-cell><table:table-cell table:formula="of:=1"/>`),
			"2: #DIV/0!|Err:508| (0 is an error, not a value) (1 is an error, not a value) (2 holds a formula whose " +
				"result is not stored; open the workbook and save it)"},
		{"a text that only looks like an error", row(textCell("#N/A")), "2: #N/A||"},
		{"cells that are repeated",
			row(`<table:table-cell table:number-columns-repeated="2" office:value-type="float" office:value="7"/>` +
				textCell("x")), "2: 7|7|x"},
		{"blank cells that are repeated to the end", row(textCell("x") +
			`<table:table-cell table:number-columns-repeated="16383"/>`), "2: x||"},
		{"cells that are covered",
			row(`<table:table-cell table:number-columns-spanned="2" office:value-type="string"><text:p>wide</text:p></table:table-cell><table:covered-table-cell/>` + textCell("x")), "2: wide||x"},
		{"rows that are repeated", odsTable(`<table:table-row table:number-rows-repeated="2">` + textCell("x") +
			`</table:table-row><table:table-row>` + textCell("y") + `</table:table-row>`), "2: x|| / 3: x|| / 4: y||"},
		{"a million blank rows between",
			odsTable(`<table:table-row table:number-rows-repeated="1000000"><table:table-cell/></table:table-row><table:table-row>` + textCell("x") + `</table:table-row>`), "1000002: x||"},
		{"rows in groups", odsTable(`<table:table-row-group><table:table-header-rows><table:table-row>` +
			textCell("x") + `</table:table-row></table:table-header-rows></table:table-row-group>`), "2: x||"},
		{"text around comments and CDATA",
			odsTable(`<table:table-row><table:table-cell office:value-type="string"><text:p>a<!-- b --><![CDATA[<c>]]>d</text:p></table:table-cell></table:table-row>`), "2: a<c>d||"},
		{"comments and CDATA",
			odsTable(`<!-- </table:table> --><table:table-row><table:table-cell office:value-type="string"><text:p><![CDATA[<x>]]></text:p></table:table-cell></table:table-row>`), "2: <x>||"},
		{"another prefix", strings.NewReplacer("table:", "t:").Replace(odsTable(`<table:table-row>` + textCell("x") +
			`</table:table-row>`)), "2: x||"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := opened(t, Open, ReadOptions{Header: HeaderLines{First: 1, Last: 1}}, ods(t, c.table, nil))
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, c.want, strings.Join(got, " / "))
		})
	}
}

func TestSheetsOfODS(t *testing.T) {
	second := strings.Replace(odsTable(`<table:table-row>`+textCell("z")+`</table:table-row>`), `"Calls"`,
		`"Old &amp; gone" table:style-name="ta2"`, 1)
	both := odsTable(`<table:table-row table:visibility="collapse">`+textCell("x")+`</table:table-row>`) + second
	named := both +
		`<table:named-expressions><table:named-range table:name="fleet" table:cell-range-address="$'Old &amp; gone'.$A$1:.$B$2"/></table:named-expressions>` +
		`<table:database-ranges><table:database-range table:name="calls" table:target-range-address="Calls.A1:Calls.C2"/></table:database-ranges>`
	single := map[string]string{
		"meta.xml": `<office:document-meta><meta:document-statistic meta:table-count="1"/></office:document-meta>`}

	t.Run("hidden sheets and rows are told, and read", func(t *testing.T) {
		table, err := opened(t, Open, ReadOptions{}, ods(t, both, nil))
		require.NoError(t, err)
		_, err = eachRecord(table)
		require.NoError(t, err)
		m := table.Formats()[0]
		assert.Equal(t, []Sheet{{"Calls", false, false}, {"Old & gone", true, false}}, m.Sheets)
		assert.Equal(t, int64(1), m.HiddenRows)
	})
	for asked, want := range map[ReadOptions]string{{Sheet: "Old & gone"}: "2: z||", {Sheet: "2"}: "2: z||",
		{Range: "fleet"}: "2: z|", {Range: "calls"}: "2: x||"} {
		table, err := opened(t, Open, asked, ods(t, named, nil))
		require.NoError(t, err)
		got, err := records(table)
		require.NoError(t, err)
		assert.Equal(t, []string{want}, got, asked)
	}
	t.Run("a single sheet needs no list", func(t *testing.T) {
		table, err := opened(t, Open, ReadOptions{}, ods(t, odsTable(`<table:table-row>`+textCell("x")+
			`</table:table-row>`), single))
		require.NoError(t, err)
		got, err := records(table)
		require.NoError(t, err)
		assert.Equal(t, []string{"2: x||"}, got)
	})
	t.Run("but one that isn't single is found out", func(t *testing.T) {
		table, err := opened(t, Open, ReadOptions{}, ods(t, both, single))
		if err == nil {
			_, err = records(table)
		}
		assert.ErrorContains(t, err, "it claims to have only one sheet, but has more")
	})
	t.Run("all sheets one by one", func(t *testing.T) {
		tables, err := All(ods(t, both, nil), ReadOptions{})
		require.NoError(t, err)
		require.Len(t, tables, 2)
		for i, want := range []string{"2: x||", "2: z||"} {
			got, err := records(tables[i])
			require.NoError(t, err)
			assert.Equal(t, []string{want}, got)
			require.NoError(t, tables[i].Close())
		}
	})
	t.Run("the extent of notes beside a table", func(t *testing.T) {
		note := odsTable(strings.Repeat(`<table:table-row>`+textCell("x")+textCell("y")+`</table:table-row>`, 9) +
			`<table:table-row>` + textCell("x") + textCell("y") + textCell("z") +
			`<table:table-cell table:number-columns-repeated="3"/>` + textCell("see page 2") + `</table:table-row>`)
		table, err := opened(t, Open, ReadOptions{}, ods(t, note, nil))
		require.NoError(t, err)
		got, err := records(table)
		require.NoError(t, err)
		assert.Equal(t,
			`11: cell G11, outside the columns of the table, holds "see page 2"; set range: to leave it out`, got[9])
		table, err = opened(t, Open, ReadOptions{Range: "A:C"}, ods(t, note, nil))
		require.NoError(t, err)
		got, err = records(table)
		require.NoError(t, err)
		assert.Equal(t, "11: x|y|z", got[9])
	})
}
