package source

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ladle/internal/core/fault"
)

// parts writes an archive of parts by their names.
func parts(t testing.TB, name string, parts map[string]string) string {
	path := filepath.Join(t.TempDir(), name)
	f, err := os.Create(path)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	for name, content := range parts {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, content)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
	return path
}

// xlsx writes a workbook with the given markup of its first sheet, from <worksheet> on; more are further parts.
func xlsx(t testing.TB, sheet string, more map[string]string) string {
	const office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	all := map[string]string{
		"[Content_Types].xml": "<Types/>",
		"_rels/.rels": `<Relationships><Relationship Id="r" Type="` + office +
			`/officeDocument" Target="/xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml": `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="` +
			office + `">` +
			`<sheets><sheet name="Calls" sheetId="1" r:id="s1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="s1" Type="` + office +
			`/worksheet" Target="worksheets/sheet1.xml"/>` +
			`<Relationship Id="s2" Type="` + office +
			`/sharedStrings" Target="sharedStrings.xml"/><Relationship Id="s3" Type="` + office +
			`/styles" Target="styles.xml"/></Relationships>`,
		"xl/sharedStrings.xml": `<sst><si><t>Vessel</t></si><si><t xml:space="preserve"> Grey &amp; </t></si><si><r><rPr><b/></rPr><t>Ri</t></r><r><t>ch</t></r><rPh sb="0" eb="1"><t>RI</t></rPh><phoneticPr fontId="1"/></si><si/></sst>`,
		"xl/styles.xml": `<styleSheet><numFmts><numFmt numFmtId="164" formatCode="[h]:mm:ss"/><numFmt numFmtId="165" formatCode="dd\.mm\.yyyy;@"/><numFmt numFmtId="166" formatCode="&quot;day&quot; 0.00 [$€-407]"/></numFmts>` +
			`<cellXfs><xf numFmtId="0"/><xf numFmtId="14"/><xf numFmtId="22"/><xf numFmtId="164"/><xf numFmtId="165"/><xf numFmtId="166"/><xf numFmtId="20"/><xf numFmtId="9"/></cellXfs></styleSheet>`,
		"xl/worksheets/sheet1.xml": sheet,
	}
	for name, content := range more {
		all[name] = content
	}
	return parts(t, "in.xlsx", all)
}

// rowsOf is a sheet with a header of columns A to E and the given rows.
func rowsOf(rows string) string {
	return `<worksheet><sheetData><row r="1"><c r="A1" t="str"><v>a</v></c><c r="B1" t="str"><v>b</v></c><c r="C1" t="str"><v>c</v></c></row>` +
		rows + `</sheetData></worksheet>`
}

func TestCellsOfXLSX(t *testing.T) {
	cells := func(markup string) string { return rowsOf(`<row r="2">` + markup + `</row>`) }
	cases := []struct{ name, sheet, want string }{
		{"shared, rich and empty texts",
			cells(`<c r="A2" t="s"><v>1</v></c><c r="B2" t="s"><v>2</v></c><c r="C2" t="s"><v>3</v></c>`),
			"2:  Grey & |Rich|"},
		{"a shared text that isn't there", cells(`<c r="A2" t="s"><v>99</v></c>`),
			"2: || (0 refers to a text that the workbook doesn't have)"},
		{"inline texts", cells(
			`<c r="A2" t="inlineStr"><is><t>x_x000D_&#10;y_x005F_</t></is></c><c t="inlineStr"><is><r><t>1</t></r><r><t>2</t></r></is></c>`), "2: x\r\ny_|12|"},
		{"numbers as they are held",
			cells(`<c r="A2" s="7"><v>0.125</v></c><c r="B2"><v>1.1000000000000001</v></c><c r="C2"><v>12345678901234567</v></c>`), "2: 0.125|1.1|12345678901234567"},
		{"exponents are written out",
			cells(`<c r="A2"><v>1.5E+3</v></c><c r="B2"><v>1E-7</v></c><c r="C2"><v>0.30000000000000004</v></c>`),
			"2: 1500|0.0000001|0.30000000000000004"},
		{"a number that is none", cells(`<c r="A2"><v>12a</v></c>`),
			"2: 12a|| (0 is stored as a number, but is not one)"},
		{"dates", cells(`<c r="A2" s="1"><v>45382</v></c><c r="B2" s="2"><v>45382.627777777779</v></c><c r="C2" s="4"><v>1</v></c>`), "2: 2024-03-31|2024-03-31 15:04:00|1900-01-01"},
		{"a date of a cell with a time",
			cells(`<c r="A2" s="2"><v>45382</v></c><c r="B2" s="1"><v>45382.5</v></c><c r="C2" t="d" s="1"><v>2024-03-31T00:00:00Z</v></c>`), "2: 2024-03-31 00:00:00|2024-03-31 12:00:00|2024-03-31"},
		{"times and durations",
			cells(`<c r="A2" s="6"><v>0.25</v></c><c r="B2" s="3"><v>1.1041666666666667</v></c><c r="C2" s="3"><v>-0.5</v></c>`), "2: 06:00:00|26:30:00|-12:00:00"},
		{"days that never were",
			cells(`<c r="A2" s="1"><v>60</v></c><c r="B2" s="1"><v>-3</v></c><c r="C2" s="1"><v>0</v></c>`),
			"2: 60|-3|0 (0 is 29 February 1900, a day that never existed) (1 is shown as a date, but is out of the " +
				"range of dates) (2 is 0, shown as a date, but is not one)"},
		{"days around it", cells(
			`<c r="A2" s="1"><v>59</v></c><c r="B2" s="1"><v>61</v></c><c r="C2" s="1"><v>2958465</v></c>`),
			"2: 1900-02-28|1900-03-01|9999-12-31"},
		{"a currency is a number", cells(`<c r="A2" s="5"><v>12.5</v></c>`), "2: 12.5||"},
		{"truth", cells(`<c r="A2" t="b"><v>1</v></c><c r="B2" t="b"><v>0</v></c>`), "2: true|false|"},
		{"errors and formulas",
			cells(`<c r="A2" t="e"><f>1/0</f><v>#DIV/0!</v></c><c r="B2"><f>A1*2</f></c><c r="C2" t="str"><f>x</f><v>ok</v></c>`),
			"2: #DIV/0!||ok (0 is an error, not a value) (1 holds a formula whose result is not stored; open the " +
				"workbook and save it)"},
		{"the blank result of a formula", cells(`<c r="A2" t="str"><f>""</f><v></v></c><c r="B2"><v>1</v></c>`),
			"2: |1|"},
		{"cells and rows without an address", rowsOf(`<row><c><v>1</v></c><c/><c><v>3</v></c></row>`), "2: 1||3"},
		{"blank rows", rowsOf(`<row r="2"/><row r="3"><c r="A3" s="1"/></row><row r="7"><c r="C7"><v>1</v></c></row>`),
			"7: ||1"},
		{"text around comments and CDATA",
			cells(`<c r="A2" t="str"><v>p<![CDATA[<q&>]]>r</v></c><c r="B2" t="inlineStr"><is><t>x<![CDATA[y]]>z<!-- </c> --><?n?>w</t></is></c>` +
				`<c r="C2"><v>1<!-- c -->2</v></c>`), "2: p<q&>r|xyzw|12"},
		{"entities and CDATA",
			cells(`<c r="A2" t="str"><v>&lt;&#x41;&apos;&unknown;</v></c><c r="B2" t="inlineStr"><is><t><![CDATA[</row><c>]]>!</t></is></c>`), "2: <A'&unknown;|</row><c>!|"},
		{"a value outside of the columns",
			rowsOf(`<row r="2"><c r="A2"><v>1</v></c><c r="F2"><v>9</v></c></row><row r="2"/>` +
				`<row r="3"><c r="A3"><v>2</v></c><c r="D3" t="str"><v> </v></c></row><row r="4"><c r="A4"><v>3</v></c></row>`), `2: cell F2, outside the columns of the table, holds "9"; set range: to leave it out / 3: 2|| / 4: 3||`},
		{"other prefixes, quotes and orders", strings.NewReplacer("<c ", "<x:c ", "</c>", "</x:c>", "<row", "<x:row",
			"</row", "</x:row", "<v>", "<x:v >", "</v>", "</x:v>",
			"<sheetData", "<x:sheetData", "</sheetData", "</x:sheetData", "<worksheet", "<x:worksheet xmlns:x='u'",
			"</worksheet", "</x:worksheet", `r="2"`, `spans='1:3'  r = '2' `).
			Replace(cells(`<c t="b" s='0' r="B2"><v>1</v></c>`)), "2: |true|"},
		{"comments",
			rowsOf(`<!-- </sheetData> --><row r="2"><!-- <c r="A2"><v>7</v></c> --><c r="A2"><v>1</v></c></row>`),
			"2: 1||"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := opened(t, Open, ReadOptions{Header: HeaderLines{First: 1, Last: 1}}, xlsx(t, c.sheet, nil))
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, c.want, strings.Join(got, " / "))
		})
	}
	t.Run("the date system of 1904", func(t *testing.T) {
		table, err := opened(t, Open, ReadOptions{}, xlsx(t,
			cells(`<c r="A2" s="1"><v>43920</v></c><c r="B2" s="1"><v>0</v></c>`), map[string]string{
				"xl/workbook.xml": `<workbook><workbookPr date1904="1"/><sheets><sheet name="Calls" id="s1"/></sheets></workbook>`}))
		require.NoError(t, err)
		got, err := records(table)
		require.NoError(t, err)
		assert.Equal(t, []string{"2: 2024-03-31|1904-01-01|"}, got)
	})
}

func TestBrokenAndHostileWorkbooks(t *testing.T) {
	good := rowsOf(`<row r="2"><c r="A2"><v>1</v></c></row>`)
	cases := []struct{ name, path, want string }{
		{"a sheet that ends in its rows", xlsx(t, strings.TrimSuffix(good, "</row></sheetData></worksheet>"), nil),
			"ends in the middle"},
		{"a sheet that ends behind its rows", xlsx(t, strings.TrimSuffix(good, "</worksheet>"), nil),
			"ends in the middle"},
		{"shared strings that end", xlsx(t, good,
			map[string]string{"xl/sharedStrings.xml": "<sst><si><t>a</t></si><si>"}), "ends in the middle"},
		{"a document type", xlsx(t, `<!DOCTYPE x [<!ENTITY a "b">]>`+good, nil), "declares a document type"},
		{"a column that can't be", xlsx(t, rowsOf(`<row r="2"><c r="XFE2"><v>1</v></c></row>`), nil),
			`row 2 has a cell "XFE2"`},
		{"a row that can't be", xlsx(t, rowsOf(`<row r="1048577"><c><v>1</v></c></row>`), nil),
			"a sheet has at most 1048576"},
		{"a row without end", xlsx(t, rowsOf(`<row r="2"><c r="A2" t="str"><v>`+strings.Repeat("x", 20<<20)), nil),
			"larger than 8 MB"},
		{"no list of sheets", parts(t, "in.xlsx", map[string]string{"[Content_Types].xml": "<Types/>"}),
			"no list of sheets"},
		{"a text document", parts(t, "in.ods",
			map[string]string{"mimetype": "application/vnd.oasis.opendocument.text"}), "not a spreadsheet"},
		{"a locked workbook", parts(t, "in.ods",
			map[string]string{"mimetype": "application/vnd.oasis.opendocument.spreadsheet",
				"META-INF/manifest.xml": "<m><encryption-data/></m>", "content.xml": "x"}), "locked with a password"},
		{"an ODS that ends", parts(t, "in.ods",
			map[string]string{"mimetype": "application/vnd.oasis.opendocument.spreadsheet",
				"content.xml": `<office:document-content><office:spreadsheet><table:table table:name="a"><table:table-row>`}), "ends in the middle"},
		{"a row that comes endlessly", parts(t, "in.ods",
			map[string]string{"mimetype": "application/vnd.oasis.opendocument.spreadsheet",
				"content.xml": `<office:document-content><office:spreadsheet><table:table table:name="a"><table:table-row/><table:table-row table:number-rows-repeated="1000000"><table:table-cell table:number-columns-repeated="16000" office:value-type="float" office:value="1"/></table:table-row></table:table></office:spreadsheet></office:document-content>`}), "its row 2 is repeated 1000000 times"},
		{"an empty workbook", xlsx(t, `<worksheet><sheetData/></worksheet>`, nil), "is empty"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := opened(t, Open, ReadOptions{Header: HeaderLines{First: 1, Last: 1}}, c.path)
			if err == nil {
				_, err = eachRecord(table)
			}
			require.ErrorContains(t, err, c.want)
			assert.Equal(t, fault.Refused, fault.ClassOf(err))
			assert.Contains(t, err.Error(), filepath.Base(c.path)+":")
		})
	}
	t.Run("a bomb", func(t *testing.T) {
		if testing.Short() {
			t.Skip("it takes long, and nothing runs beside it")
		}
		table, err := opened(t, Open, ReadOptions{Header: HeaderLines{First: 1, Last: 1}},
			xlsx(t, rowsOf(strings.Repeat(`<row r="2"/>`, 6<<20)), nil))
		if err == nil {
			_, err = eachRecord(table)
		}
		assert.ErrorContains(t, err, "expands to more than 400 times its size")
	})
}

// eachRecord reads everything side by side, as loads do.
func eachRecord(table Table) (all []string, err error) {
	work := func(c *Chunk) (words []string) {
		var r Record
		for c.Next(&r) {
			words = append(words, fmt.Sprint(r.Position, texts(r.Fields), r.Problem, r.Faults))
		}
		return words
	}
	err = Each(context.Background(), table, work, func(_ *Chunk,
		words []string) error {
		all = append(all, words...)
		return nil
	})
	return all, err
}

const register = "sheet/testdata/register" // written by an office suite

func TestWorkbooksOfAnOfficeSuite(t *testing.T) {
	for _, format := range []string{"ods", "xlsx"} {
		t.Run(format, func(t *testing.T) {
			table, err := opened(t, Open, ReadOptions{}, register+"."+format)
			require.NoError(t, err)
			_, err = eachRecord(table)
			require.NoError(t, err)
			m := table.Formats()[0]
			assert.Equal(t, []string{"Reg. No.", "Vessel", "Remarks", "GT", "Share", "Built", "Seen", "At berth",
				"Watch", "Insured", "Twice"}, table.Header().Names)
			assert.Equal(t, "3", m.Header.Value)
			assert.Equal(t, []string{"Vessel register of Port Merrow"}, m.SkippedTexts)
			assert.Equal(t, []Sheet{{"Register", false, false}, {"Old list", true, false}}, m.Sheets)
			assert.Equal(t, []string{"D"}, m.HiddenColumns)
			assert.Equal(t, []int64{1, 2, 0}, []int64{m.HiddenRows, m.Formulas, m.Blank})

			table, err = opened(t, Open, ReadOptions{}, register+"."+format)
			require.NoError(t, err)
			got, err := records(table)
			require.NoError(t, err)
			assert.Equal(t, "4: 007|Aurelia & Sons|two   blanks\nsecond line|1234.5|0.125|1987-03-04|2026-03-31 "+
				"15:04:00|26:30:00|06:15:00|true|2469", got[0])
			assert.Contains(t, got[1], "|0.0000125|")
			assert.Contains(t, got[1], "#DIV/0! (10 is an error, not a value)")
			assert.Equal(t, []string{"6: 009|same|same|0.1|||||||", "7: 009|same|same|0.1|||||||"}, got[2:])
		})
	}
}

func TestPartsOfWorkbooks(t *testing.T) {
	cases := []struct {
		name  string
		asked ReadOptions
		names string
		rows  int
		err   string
	}{
		{"a sheet by name", ReadOptions{Sheet: "old  list"}, "Name|Tons", 1, ""},
		{"a sheet by number", ReadOptions{Sheet: "2"}, "Name|Tons", 1, ""},
		{"a range", ReadOptions{Range: "B3:C4"}, "Reg. No.|Vessel", 1, ""},
		{"columns", ReadOptions{Range: "B:C", Header: HeaderLines{First: 3, Last: 3}}, "Reg. No.|Vessel", 4, ""},
		{"a named range", ReadOptions{Range: "Fleet"}, "Reg. No.|Vessel|Remarks|GT", 2, ""},
		{"no header", ReadOptions{Range: "B4:C7", Header: HeaderLines{None: true}}, "column B|column C", 4, ""},
		{"no such sheet", ReadOptions{Sheet: "Calls"}, "", 0,
			`has no sheet "Calls"; its sheets are: Register, Old list (hidden)`},
		{"no such range", ReadOptions{Range: "fleets"}, "", 0,
			`has no range or table "fleets"; write it as B4:K900, or by name; did you mean "fleet"?`},
		{"what a workbook doesn't have", ReadOptions{Delimiter: ";"}, "", 0,
			"this is a workbook; how a text is read"},
	}
	for _, c := range cases {
		for _, format := range []string{"ods", "xlsx"} {
			t.Run(c.name+" of "+format, func(t *testing.T) {
				table, err := opened(t, Open, c.asked, register+"."+format)
				if c.err != "" {
					require.ErrorContains(t, err, c.err)
					return
				}
				require.NoError(t, err)
				got, err := records(table)
				require.NoError(t, err)
				assert.Equal(t, c.names, strings.Join(table.Header().Names, "|"))
				assert.Len(t, got, c.rows)
			})
		}
	}
}

// library writes a workbook with a table, two sheets with rows, and merged names of columns.
func library(t testing.TB, rows int) string {
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetName("Sheet1", "Calls"))
	_, err := f.NewSheet("Berths")
	require.NoError(t, err)
	require.NoError(t, f.SetSheetRow("Berths", "A1", &[]any{"Code", "Depth"}))
	require.NoError(t, f.SetSheetRow("Berths", "A2", &[]any{"N1", 7.5}))
	w, err := f.NewStreamWriter("Calls")
	require.NoError(t, err)
	day, err := f.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	require.NoError(t, w.SetRow("C3", []any{"Reg. No.", "Stay", nil, "Dues"}))
	require.NoError(t, w.SetRow("C4", []any{nil, "Arrived", "Departed"}))
	require.NoError(t, w.MergeCell("D3", "E3"))
	start := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for i := range rows {
		cell := excelize.Cell{StyleID: day, Value: start.AddDate(0, 0, i%365)}
		require.NoError(t, w.SetRow(fmt.Sprintf("C%d", i+5),
			[]any{fmt.Sprintf("PM-%d", i), cell, cell, float64(i) / 4}))
	}
	require.NoError(t, w.SetRow(fmt.Sprintf("C%d", rows+5), []any{"Total", nil, nil, 99}))
	require.NoError(t, w.Flush())
	require.NoError(t, f.AddTable("Berths", &excelize.Table{Range: "A1:B2", Name: "berths"}))
	path := filepath.Join(t.TempDir(), "in.xlsx")
	require.NoError(t, f.SaveAs(path))
	return path
}

func TestWorkbooksOfALibrary(t *testing.T) {
	path := library(t, 30_000)
	_, err := Open([]string{path}, ReadOptions{})
	assert.ErrorContains(t, err, "the workbook has 2 sheets: Calls, Berths; set sheet: to the name of one")
	table, err := opened(t, Open, ReadOptions{Range: "berths"}, path)
	require.NoError(t, err)
	got, err := records(table)
	require.NoError(t, err)
	assert.Equal(t, []string{"2: N1|7.5"}, got)

	table, err = opened(t, Open, ReadOptions{Sheet: "Calls"}, path)
	require.NoError(t, err)
	assert.Equal(t, []string{"Reg. No.", "Stay Arrived", "Stay Departed", "Dues"}, table.Header().Names)
	var chunks []*Chunk
	first := map[int]string{}
	for n := 0; ; {
		c, err := table.Next()
		if err == io.EOF {
			assert.Equal(t, 30_001, n)
			break
		}
		require.NoError(t, err)
		var r Record
		for k := 0; c.Next(&r); k++ {
			if k == 0 {
				first[len(chunks)] = fmt.Sprint(r.Position, texts(r.Fields))
			}
			if n < 30_000 {
				require.Equal(t, fmt.Sprintf("PM-%d", n), string(r.Fields[0]))
				require.Equal(t, int64(n+5), r.Position)
				require.Equal(t, []Stored{StoredText, StoredMoment, StoredMoment, StoredNumber}, r.Stored)
			}
			n++
		}
		chunks = append(chunks, c)
	}
	require.Greater(t, len(chunks), 3)
	for _, i := range []int{2, 3, 0} {
		again, err := table.Again(chunks[i].Seal())
		require.NoError(t, err)
		var r Record
		require.True(t, again.Next(&r))
		assert.Equal(t, first[i], fmt.Sprint(r.Position, texts(r.Fields)))
	}
}

var manyTimes = regexp.MustCompile(`repeated\s*=\s*.\d{4}`)

// FuzzSheet: no markup of a sheet or of shared strings makes the reader fall over, and reading side by side gives the
// same as reading one after the other.
func FuzzSheet(f *testing.F) {
	ods := func(rows string) string {
		return `<office:document-content><office:spreadsheet><table:table table:name="a">` + rows +
			`</table:table></office:spreadsheet></office:document-content>`
	}
	f.Add(rowsOf(`<row r="2"><c r="A2" t="s"><v>1</v></c><c t="inlineStr"><is><t>_x000D_</t></is></c></row>`),
		`<sst><si><t>a</t></si></sst>`, false)
	f.Add(rowsOf(`<!-- x --><row><c t="e"><f/><v>#N/A</v></c><c s="1"><v>1e5</v></c></row>`),
		`<sst><si><r><t>a</t></r><rPh><t>b</t></rPh></si></sst>`, false)
	f.Add(ods(`<table:table-row table:number-rows-repeated="3"><table:table-cell table:number-columns-repeated="2" office:value-type="float" office:value="1"/></table:table-row>`), "", true)
	f.Add(ods(`<table:table-row><table:table-cell office:value-type="string"><text:p>a<text:s text:c="2"/>b</text:p><office:annotation><text:p>c</text:p></office:annotation></table:table-cell></table:table-row>`), "", true)
	f.Fuzz(func(t *testing.T, content, strings string, isODS bool) {
		path := xlsx
		file := ""
		if manyTimes.MatchString(content) {
			return // it only takes long
		}
		if isODS {
			file = parts(t, "in.ods", map[string]string{"mimetype": "application/vnd.oasis.opendocument.spreadsheet",
				"content.xml": content})
		} else {
			file = path(t, content, map[string]string{"xl/sharedStrings.xml": strings})
		}
		one, err := Open([]string{file}, ReadOptions{})
		if err != nil {
			return
		}
		defer one.Close()
		all, err := eachRecord(one)
		two, err2 := Open([]string{file}, ReadOptions{})
		require.NoError(t, err2)
		defer two.Close()
		var again []string
		for err == nil {
			c, err2 := two.Next()
			if err2 == io.EOF {
				break
			}
			require.NoError(t, err2)
			var r Record
			for c.Next(&r) {
				again = append(again, fmt.Sprint(r.Position, texts(r.Fields), r.Problem, r.Faults))
			}
		}
		if err == nil {
			require.Equal(t, again, all)
		}
	})
}

// TestPartsFarDownASheet: a range or header behind many rows; what stands before it is not kept.
func TestPartsFarDownASheet(t *testing.T) {
	path := library(t, 30_000)
	table, err := opened(t, Open, ReadOptions{Sheet: "Calls", Range: "C25005:F25010", Header: HeaderLines{None: true}},
		path)
	require.NoError(t, err)
	assert.Greater(t, table.(*sheetTable).ahead[0].Number, 5, "blocks before the range are let go")
	chunk, err := table.Next()
	require.NoError(t, err)
	again, err := table.Again(chunk.Seal())
	require.NoError(t, err)
	for _, c := range []*Chunk{chunk, again} {
		var r Record
		require.True(t, c.Next(&r))
		assert.Equal(t, "PM-25000", string(r.Fields[0]))
	}

	table, err = opened(t, Open, ReadOptions{Sheet: "Calls", Header: HeaderLines{First: 1004, Last: 1004}}, path)
	require.NoError(t, err)
	assert.Equal(t, "PM-999", table.Header().Names[0])
	got, err := records(table)
	require.NoError(t, err)
	assert.Contains(t, got[0], "1005: PM-1000|")
}

func TestPackedInsideOfPacked(t *testing.T) {
	book, err := os.ReadFile(register + ".xlsx")
	require.NoError(t, err)
	for content, want := range map[string]string{string(book): "this is a workbook or an archive inside a compressed " +
		"file; unpack it first", "%PDF-1.7": "this is a PDF document", "\x1f\x8b\x08": "inside a compressed file"} {
		_, err := Open([]string{parts(t, "in.zip", map[string]string{"a.csv": content})}, ReadOptions{})
		assert.ErrorContains(t, err, "in.zip/a.csv: ")
		assert.ErrorContains(t, err, want)
	}
}
