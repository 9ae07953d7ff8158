package source

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
)

// TestHowWorkbooksArePackaged: the parts of a workbook go by their relations, wherever they stand and however they are
// written.
func TestHowWorkbooksArePackaged(t *testing.T) {
	sheet := rowsOf(`<row r="2"><c r="A2" t="s"><v>0</v></c><c r="B2" s="1"><v>45382</v></c><c r="C2"><v>7</v></c></row>`)
	const want = "2: Vessel|2024-03-31|7"
	strict := strings.NewReplacer("http://schemas.openxmlformats.org/officeDocument/2006/relationships",
		"http://purl.oclc.org/ooxml/officeDocument/relationships",
		"http://schemas.openxmlformats.org/spreadsheetml/2006/main", "http://purl.oclc.org/ooxml/spreadsheetml/main")
	const office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	utf16 := func(s string) string {
		encoded, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(s)
		require.NoError(t, err)
		return encoded
	}
	book := `<workbook xmlns:r="` + office + `"><sheets><sheet name="Calls" sheetId="1" r:id="s1"/></sheets></workbook>`
	relations := `<Relationships><Relationship Id="s1" Type="` + office +
		`/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="s2" Type="` + office +
		`/sharedStrings" Target="sharedStrings.xml"/><Relationship Id="s3" Type="` + office +
		`/styles" Target="styles.xml"/></Relationships>`
	cases := []struct {
		name string
		more map[string]string
	}{
		{"as usual", nil},
		{"strict", map[string]string{"xl/workbook.xml": strict.Replace(book),
			"xl/_rels/workbook.xml.rels": strict.Replace(relations),
			"_rels/.rels": strict.Replace(`<Relationships><Relationship Id="r" Type="` + office +
				`/officeDocument" Target="xl/workbook.xml"/></Relationships>`)}},
		{"with a byte-order mark and UTF-16", map[string]string{"xl/worksheets/sheet1.xml": utf16(sheet),
			"xl/styles.xml": utf16(
				`<styleSheet><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs></styleSheet>`)}},
		{"with prefixes", map[string]string{"xl/workbook.xml": `<x:workbook xmlns:x="u" xmlns:q="` + office +
			`"><x:sheets><x:sheet name="Calls" q:id="s1"/></x:sheets></x:workbook>`,
			"xl/sharedStrings.xml": `<x:sst xmlns:x="u"><x:si><x:t>Vessel</x:t></x:si></x:sst>`}},
		{"from the root", map[string]string{"xl/_rels/workbook.xml.rels": strings.ReplaceAll(relations, `Target="`,
			`Target="/xl/`)}},
		{"elsewhere", map[string]string{"_rels/.rels": `<Relationships><Relationship Id="r" Type="` + office +
			`/officeDocument" Target="book/main.xml"/></Relationships>`,
			"book/main.xml": book, "book/_rels/main.xml.rels": strings.ReplaceAll(relations, `Target="`,
				`Target="../xl/`)}},
		{"empty strings and tails", map[string]string{"xl/worksheets/sheet1.xml": strings.Replace(sheet, "</worksheet>",
			`<mergeCells count="1"><mergeCell ref="A1:B1"/></mergeCells><extLst><ext/></extLst></worksheet>`, 1)}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := opened(t, Open, ReadOptions{Header: HeaderLines{First: 1, Last: 1}}, xlsx(t, sheet, c.more))
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, []string{want}, got)
		})
	}
	for name, c := range map[string]struct {
		more map[string]string
		want string
	}{
		"a binary workbook": {map[string]string{"_rels/.rels": `<Relationships><Relationship Id="r" Type="` +
			office + `/officeDocument" Target="xl/workbook.bin"/></Relationships>`, "xl/workbook.bin": "x"},
			"binary format (.xlsb)"},
		"a chart": {map[string]string{"xl/_rels/workbook.xml.rels": strings.Replace(relations,
			"/worksheet\"", "/chartsheet\"", 1)}, "holds a chart"},
		"a part that isn't there": {map[string]string{"xl/_rels/workbook.xml.rels": strings.Replace(relations,
			"sheet1.xml", "sheet9.xml", 1)}, "lacks its part xl/worksheets/sheet9.xml"},
		"a relation that isn't": {map[string]string{"xl/_rels/workbook.xml.rels": "<Relationships/>"},
			`lacks the part of sheet "Calls"`},
		"a part that is broken": {map[string]string{"xl/workbook.xml": "<workbook><sheets>"},
			"its part xl/workbook.xml is broken"},
		"a workbook without sheets": {map[string]string{"xl/workbook.xml": "<workbook/>"},
			"the workbook has no sheets"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Open([]string{xlsx(t, sheet, c.more)}, ReadOptions{})
			assert.ErrorContains(t, err, c.want)
		})
	}
}

// TestTablesInSheets: a table of a workbook says where its header and its totals are.
func TestTablesInSheets(t *testing.T) {
	const office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	sheet := `<worksheet><cols><col min="2" max="2" hidden="1"/></cols><sheetData>` + strings.Join([]string{
		`<row r="1"><c r="A1" t="str"><v>note</v></c></row>`,
		`<row r="3"><c r="B3" t="str"><v>Vessel</v></c><c r="C3" t="str"><v>Tons</v></c><c r="E3" t="str"><v>beside</v></c></row>`,
		`<row r="4"><c r="B4" t="str"><v>Otter</v></c><c r="C4"><v>5</v></c></row>`,
		`<row r="5"><c r="B5" t="str"><v>Heron</v></c><c r="C5"><v>7</v></c></row>`,
		`<row r="6"><c r="B6" t="str"><v>Total</v></c><c r="C6"><v>12</v></c></row>`}, "") +
		`</sheetData><mergeCells><mergeCell ref="B4:B5"/><mergeCell ref="A1:E1"/></mergeCells></worksheet>`
	more := map[string]string{
		"xl/worksheets/_rels/sheet1.xml.rels": `<Relationships><Relationship Id="t1" Type="` + office +
			`/table" Target="../tables/table1.xml"/><Relationship Id="t2" Type="` + office +
			`/table" Target="../tables/table2.xml"/></Relationships>`,
		"xl/tables/table1.xml": `<table name="fleet" displayName="fleet" ref="B3:C6" totalsRowCount="1"/>`,
		"xl/tables/table2.xml": `<table name="bare" displayName="bare" ref="B4:C5" headerRowCount="0"/>`,
	}
	cases := []struct {
		asked ReadOptions
		names string
		rows  []string
	}{
		{ReadOptions{Range: "Fleet"}, "Vessel|Tons", []string{"4: Otter|5", "5: Heron|7"}},
		{ReadOptions{Range: "bare"}, "column B|column C", []string{"4: Otter|5", "5: Heron|7"}},
		{ReadOptions{Range: "B3:C6"}, "Vessel|Tons", []string{"4: Otter|5", "5: Heron|7", "6: Total|12"}},
		{ReadOptions{Range: "B4:C6", Header: HeaderLines{None: true}}, "column B|column C",
			[]string{"4: Otter|5", "5: Heron|7", "6: Total|12"}},
	}
	for _, c := range cases {
		t.Run(fmt.Sprint(c.asked), func(t *testing.T) {
			table, err := opened(t, Open, c.asked, xlsx(t, sheet, more))
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, c.names, strings.Join(table.Header().Names, "|"))
			assert.Equal(t, c.rows, got)
			m := table.Formats()[0]
			assert.Equal(t, []string{"B"}, m.HiddenColumns)
			assert.Equal(t, int64(1), m.Merged, "what is merged above the header is no matter")
			if c.asked.Range == "Fleet" {
				assert.Equal(t, 1, m.Totals)
			}
		})
	}
	_, err := Open([]string{xlsx(t, sheet, more)}, ReadOptions{Range: "B9:C10"})
	assert.ErrorContains(t, err, `sheet "Calls" is empty; choose another sheet`)
	_, err = Open([]string{xlsx(t, sheet, more)}, ReadOptions{Header: HeaderLines{First: 2, Last: 2}})
	assert.ErrorContains(t, err, "there is no header on this line")
}

func TestEndsOfTexts(t *testing.T) {
	cases := []struct {
		name, content string
		asked         ReadOptions
		want          []string
	}{
		{"a footer longer than the file", "a,b\n1,2\n", ReadOptions{Footer: 5}, nil},
		{"a footer of lines that hold nothing besides", "a,b\n1,2\n3,4\n\n\nTotal,6\n\n", ReadOptions{Footer: 1},
			[]string{"2: 1|2", "3: 3|4"}},
		{"a footer with a line end in it", "a,b\n1,2\n\"end\nof it\",x\n", ReadOptions{Footer: 1}, []string{"2: 1|2"}},
		{"carriage returns only", "a,b\r1,2\r\"x\ry\",4\r", ReadOptions{}, []string{"2: 1|2", "3: x\ry|4"}},
		{"a carriage return at the very end", "a,b\n1,2\r", ReadOptions{}, []string{"2: 1|2"}},
		{"a line end inside of the last field", "a,b\n1,\"x\r\n\"", ReadOptions{}, []string{"2: 1|x\r\n"}},
		{"an empty last field", "a,b\n1,", ReadOptions{}, []string{"2: 1|"}},
		{"a header on lines that are said, with titles", "x\ny\nVessel,,\nReg,Name,GT\nA,b,1\n",
			ReadOptions{Header: HeaderLines{First: 3, Last: 4}}, []string{"5: A|b|1"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := open(t, c.content, c.asked)
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
	m, err := open(t, "x\n\ny z\nReg,Name,GT\nA,b,1\nC,d,2\n", ReadOptions{})
	require.NoError(t, err)
	assert.Equal(t, []string{"x", "y z"}, m.Formats()[0].SkippedTexts)
	assert.Equal(t, 2, m.Formats()[0].SkippedLines)
	for content, want := range map[string]string{"a,b\n": "the header should be on line 4, but the file has only 2",
		"a\nb\nc\n\n\n": "there is no header on this line"} {
		_, err := open(t, content, ReadOptions{Header: HeaderLines{First: 4, Last: 4}})
		assert.ErrorContains(t, err, want)
	}
}
