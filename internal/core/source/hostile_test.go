package source

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
	"ladle/internal/seeded"
)

// whole are files of all formats as they should be, small.
func wholeOf(t *testing.T) map[string][]byte {
	files := map[string][]byte{}
	for _, format := range []string{"ods", "xlsx"} {
		content, err := os.ReadFile(register + "." + format)
		require.NoError(t, err)
		files[format] = content
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	io.WriteString(z, strings.Repeat(arrivals, 20))
	require.NoError(t, z.Close())
	files["csv.gz"] = packed.Bytes()
	archive, err := os.ReadFile(parts(t, "post.zip", map[string]string{"a.csv": strings.Repeat(arrivals, 20)}))
	require.NoError(t, err)
	files["zip"] = archive
	files["csv"] = []byte(strings.Repeat(arrivals, 20) + "\"open")
	return files
}

// judged reads a file in every way, and returns the first error; all errors must be for people.
func judged(t *testing.T, path string) error {
	t.Helper()
	tables, err := All(path, ReadOptions{})
	for _, table := range tables {
		if err == nil {
			_, err = eachRecord(table)
		}
		require.NoError(t, table.Close())
	}
	if err != nil {
		problems := fault.ProblemsOf(err)
		require.NotEmpty(t, problems)
		var f *fault.Fault
		require.ErrorAs(t, err, &f, "an error without a place: %v", err)
		assert.Contains(t, problems[0].File, filepath.Base(path))
		assert.NotEmpty(t, problems[0].What)
	}
	return err
}

// TestTruncatedFiles cuts files at every place: none of them is taken for whole.
func TestTruncatedFiles(t *testing.T) {
	for format, content := range wholeOf(t) {
		t.Run(format, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "in."+format)
			step := max(1, len(content)/150)
			for n := 4; n < len(content); n += step {
				require.NoError(t, os.WriteFile(path, content[:n], 0o600))
				err := judged(t, path)
				if format != "csv" { // a text that ends early is a shorter text
					assert.Error(t, err, "cut at %d of %d", n, len(content))
				}
			}
		})
	}
}

// TestDamagedFiles changes bytes of files at random: each is read, or refused in words.
func TestDamagedFiles(t *testing.T) {
	r := seeded.Rand(t)
	for format, content := range wholeOf(t) {
		t.Run(format, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "in."+format)
			for range 200 {
				damaged := bytes.Clone(content)
				for range 1 + r.IntN(4) {
					damaged[r.IntN(len(damaged))] ^= byte(1 + r.IntN(255))
				}
				require.NoError(t, os.WriteFile(path, damaged, 0o600))
				judged(t, path)
			}
		})
	}
}

// TestNoise: bytes without any meaning, with the starts of all formats.
func TestNoise(t *testing.T) {
	r := seeded.Rand(t)
	path := filepath.Join(t.TempDir(), "in.csv")
	for i := range 300 {
		noise := make([]byte, r.IntN(3000))
		for k := range noise {
			noise[k] = byte(r.IntN(256))
		}
		start := []string{"", "PK\x03\x04", "PK\x05\x06", "\x1f\x8b\x08", "\xff\xfe", "\xef\xbb\xbf", "sep=;\n",
			"<?xml", "a,b\n"}[i%9]
		require.NoError(t, os.WriteFile(path, append([]byte(start), noise...), 0o600))
		judged(t, path)
	}
}

// TestDamagedMarkup changes the markup in workbooks, which a checksum would hide from the readers otherwise.
func TestDamagedMarkup(t *testing.T) {
	r := seeded.Rand(t)
	sheet := rowsOf(`<row r="2"><c r="A2" t="s"><v>1</v></c><c r="B2" t="inlineStr"><is><r><t>x &amp; y</t></r></is></c><c r="C2" s="1"><v>45382.5</v></c></row><!-- c -->` +
		strings.Repeat(`<row r="3"><c r="A3"><f>1+1</f><v>2</v></c><c r="B3" t="e"><v>#N/A</v></c></row>`, 20))
	table := odsTable(strings.Repeat(`<table:table-row table:number-rows-repeated="2">`+textCell("x<text:s "+
		"text:c=\"2\"/>y")+`<table:table-cell office:value-type="date" office:date-value="2026-03-31"/></table:table-row>`, 20))
	spoil := func(s string) string {
		b := []byte(s)
		for range 1 + r.IntN(3) {
			at := r.IntN(len(b))
			switch r.IntN(3) {
			case 0:
				b[at] = "<>/\"'= &;x0"[r.IntN(11)]
			case 1:
				b = append(b[:at], b[min(at+1+r.IntN(20), len(b)):]...)
			case 2:
				b = append(b[:at:at], append([]byte("<row>"), b[at:]...)...)
			}
			if len(b) == 0 {
				return "<"
			}
		}
		return string(b)
	}
	for range 150 {
		judged(t, xlsx(t, spoil(sheet), nil))
		judged(t, ods(t, spoil(table), nil))
	}
	for range 50 {
		judged(t, xlsx(t, sheet, map[string]string{"xl/sharedStrings.xml": spoil(
			`<sst><si><t>Vessel</t></si><si><r><t>Grey</t></r><rPh sb="0" eb="1"><t>x</t></rPh></si></sst>`)}))
		judged(t, xlsx(t, sheet, map[string]string{"xl/styles.xml": spoil(
			`<styleSheet><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs></styleSheet>`)}))
	}
}

// TestWideTables: sheets and texts may have 16,384 columns.
func TestWideTables(t *testing.T) {
	const columns = 16_384
	var header, row, markup strings.Builder
	markup.WriteString(`<worksheet><sheetData><row>`)
	for i := range columns {
		fmt.Fprintf(&header, "c%d,", i)
		fmt.Fprintf(&row, "%d,", i)
		fmt.Fprintf(&markup, `<c t="str"><v>c%d</v></c>`, i)
	}
	markup.WriteString(`</row><row>`)
	for i := range columns {
		fmt.Fprintf(&markup, `<c><v>%d</v></c>`, i)
	}
	text, err := open(t, strings.TrimSuffix(header.String(), ",")+"\n"+
		strings.Repeat(strings.TrimSuffix(row.String(), ",")+"\n", 20), ReadOptions{})
	require.NoError(t, err)
	sheet, err := opened(t, Open, ReadOptions{}, xlsx(t, markup.String()+`</row></sheetData></worksheet>`, nil))
	require.NoError(t, err)
	for _, table := range []Table{text, sheet} {
		assert.Len(t, table.Header().Names, columns)
		c, err := table.Next()
		require.NoError(t, err)
		var r Record
		require.True(t, c.Next(&r))
		require.Len(t, r.Fields, columns)
		assert.Equal(t, "16383", string(r.Fields[columns-1]))
	}
	_, err = Open([]string{xlsx(t, markup.String()+`<c><v>1</v></c></row></sheetData></worksheet>`, nil)},
		ReadOptions{})
	assert.ErrorContains(t, err, "its row 2 has more than 16384 cells")
}

func TestPlaces(t *testing.T) {
	table, err := open(t, "a,b\n1,2\n", ReadOptions{})
	require.NoError(t, err)
	place := PlaceOf(table, 7)
	assert.Equal(t, []string{"in.csv:7", "line 7", ""}, []string{place.Short(), place.Words(), CellName(table, 7, 1)})
	sheet, err := opened(t, Open, ReadOptions{Range: "B3:E5"}, register+".xlsx")
	require.NoError(t, err)
	place = PlaceOf(sheet, 5)
	assert.Equal(t, []string{"register.xlsx[Register]!5", "row 5", "C5"},
		[]string{place.Short(), place.Words(), CellName(sheet, 5, 1)})
	file, line := PositionIn(3<<lineBits | 12)
	assert.Equal(t, []int64{3, 12}, []int64{int64(file), line})
}

// TestTextsThatAreBounded: a line with too many fields is counted, not kept; ends that are no rows are told.
func TestTextsThatAreBounded(t *testing.T) {
	const many = 3_000_000
	table, err := open(t, "a,b\n1,2\n"+strings.Repeat("x,", many)+"x\n"+strings.Repeat(",", many)+"\n3,4\n", comma)
	require.NoError(t, err)
	var broken []string
	require.NoError(t, Each(context.Background(), table, func(c *Chunk) (all []string) {
		for r := (Record{}); c.Next(&r); {
			if why := Misshapen(&r, 2); why != nil {
				all = append(all, fmt.Sprint(r.Position, ": ", why.Words()))
			}
		}
		return all
	}, func(_ *Chunk, all []string) error {
		broken = append(broken, all...)
		return nil
	}))
	assert.Equal(t, []string{"3: the line has 3000001 fields, the header 2"}, broken)
	table, err = open(t, "a,b\r\n1,2\r\n\x1a", comma)
	require.NoError(t, err)
	got, err := records(table)
	require.NoError(t, err)
	assert.Equal(t, []string{"2: 1|2"}, got)
	assert.True(t, table.Formats()[0].EndMark)
	for content, says := range map[string]string{
		"a,b\n1,2\n" + strings.Repeat("\x00", 900): "ends in NUL bytes",
		strings.Repeat("x,", 70_000) + "x\n1\n":    "the header has more than 65535 columns",
		zipped(t, "Index/Document.iwa"):            "in the .numbers format",
	} {
		_, err := open(t, content, comma)
		assert.ErrorContains(t, err, says)
	}
}

// zipped is an archive with an empty file of that name.
func zipped(t *testing.T, name string) string {
	var b strings.Builder
	z := zip.NewWriter(&b)
	_, err := z.Create(name)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.String()
}
