package source

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ladle/internal/seeded"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"
)

// grid is a table to be written in all forms: names of columns, then rows of texts.
type grid [][]string

// someGrid makes a grid of texts that are hard to write down.
func someGrid(r *rand.Rand, rows int) grid {
	hard := []string{"", "plain", "two words", "a,b", "a;b", "a\tb", "a|b", `say "so"`, `"`, `""`, "it's", "line\nend",
		"007", "1,234.5", "3.14", "=1+1", "<b>&amp;", "]]>", "été", "Ærø", "naïve €",
		"_x000D_", "  inside  ", "#N/A", "true", "2026-03-31", "-", "/", "'quoted'"}
	g := grid{{"Reg. No.", "Vessel", "Remarks", "Berth", "Tons"}}
	for i := range rows {
		row := []string{fmt.Sprintf("PM-%04d", i)}
		for range 4 {
			row = append(row, hard[r.IntN(len(hard))])
		}
		g = append(g, row)
	}
	return g
}

// read reads a table as a grid.
func readGrid(t *testing.T, table Table) grid {
	t.Helper()
	g := grid{table.Header().Names}
	for {
		c, err := table.Next()
		if err == io.EOF {
			return g
		}
		require.NoError(t, err)
		var r Record
		for c.Next(&r) {
			require.Empty(t, r.Problem)
			require.Empty(t, r.Faults)
			g = append(g, texts(r.Fields))
		}
		require.NoError(t, c.Err())
	}
}

// inText writes the grid in a dialect.
func (g grid) inText(d Dialect, end string) string {
	var b strings.Builder
	for _, row := range g {
		b.WriteString(d.Line(row...) + end)
	}
	return b.String()
}

// inODS writes the grid as markup of a sheet.
func (g grid) inODS() string {
	var b strings.Builder
	b.WriteString(`<table:table table:name="Calls">`)
	for _, row := range g {
		b.WriteString("<table:table-row>")
		for _, cell := range row {
			var escaped bytes.Buffer
			xml.EscapeText(&escaped, []byte(cell))
			text := strings.NewReplacer("&#xA;", "</text:p><text:p>", "&#x9;", "<text:tab/>", "  ",
				`<text:s text:c="2"/>`).Replace(escaped.String())
			if cell == "" {
				b.WriteString("<table:table-cell/>")
				continue
			}
			b.WriteString(textCell(text))
		}
		b.WriteString("</table:table-row>")
	}
	return b.String() + "</table:table>"
}

// TestAllFormsReadAlike writes random tables as texts of many dialects, encodings and packings, and as workbooks, and
// reads them back without a word about how they were written.
func TestAllFormsReadAlike(t *testing.T) {
	r := seeded.Rand(t)
	encodings := map[string]encoding.Encoding{"UTF-8": encoding.Nop, "windows-1252": charmap.Windows1252,
		"UTF-16LE": unicode.UTF16(unicode.LittleEndian, unicode.UseBOM),
		"UTF-16BE": unicode.UTF16(unicode.BigEndian, unicode.UseBOM),
		"UTF-32LE": utf32.UTF32(utf32.LittleEndian, utf32.UseBOM)}
	for name, e := range encodings {
		for _, delimiter := range []byte(",;\t|") {
			for _, end := range []string{"\n", "\r\n"} {
				t.Run(fmt.Sprintf("%s, %q, %q", name, delimiter, end), func(t *testing.T) {
					want := someGrid(r, 20+r.IntN(200))
					content, err := e.NewEncoder().String(want.inText(Dialect{delimiter, '"'}, end))
					require.NoError(t, err)
					path := filepath.Join(t.TempDir(), "in")
					if r.IntN(2) == 0 {
						var packed bytes.Buffer
						z := gzip.NewWriter(&packed)
						io.WriteString(z, content)
						require.NoError(t, z.Close())
						content = packed.String()
					}
					require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
					table, err := opened(t, Open, ReadOptions{Guess: true}, path)
					require.NoError(t, err)
					m := table.Formats()[0]
					assert.Equal(t, []string{string(delimiter), `"`, "1"},
						[]string{m.Delimiter.Value, m.Quote, m.Header.Value})
					assert.Equal(t, want, readGrid(t, table))
					assert.Equal(t, name, table.Formats()[0].Encoding.Value)
				})
			}
		}
	}
	for i := range 8 {
		want := someGrid(r, 20+r.IntN(300))
		t.Run(fmt.Sprintf("a workbook of a library %d", i), func(t *testing.T) {
			f := excelize.NewFile()
			for n, row := range want {
				cells := make([]any, len(row))
				for k, c := range row {
					cells[k] = strings.ReplaceAll(c, "_x", "_x005F_x") // which the library leaves to its user
				}
				require.NoError(t, f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", n+1), &cells))
			}
			path := filepath.Join(t.TempDir(), "in.xlsx")
			require.NoError(t, f.SaveAs(path))
			table, err := opened(t, Open, ReadOptions{}, path)
			require.NoError(t, err)
			assert.Equal(t, want, readGrid(t, table))
		})
		t.Run(fmt.Sprintf("a workbook of OpenDocument %d", i), func(t *testing.T) {
			table, err := opened(t, Open, ReadOptions{}, ods(t, want.inODS(), nil))
			require.NoError(t, err)
			assert.Equal(t, want, readGrid(t, table))
		})
	}
}

// TestEncodingsByTheirLetters: texts of more languages, each in the encodings that have its letters.
func TestEncodingsByTheirLetters(t *testing.T) {
	cases := []struct {
		name string
		set  encoding.Encoding
		text string
	}{
		{"windows-1254", charmap.Windows1254, "gemi;liman\nYıldız;İstanbul\nGüneş;Çeşme\nDağ;Iğdır\nBalıkçı;Şile\n"},
		{"windows-1257", charmap.Windows1257, "laivas;uostas\nŽuvėdra;Klaipėda\nGulbė;Šventoji\nAitvaras;Nida šalia\n" +
			"Kregždė;Palangą\n"},
		{"KOI8-R", charmap.KOI8R, "судно;порт\nвосход;мурманск\nзаря;находка\nволна;одесса\n"},
		{"windows-1255", charmap.Windows1255, "ספינה;נמל\nשחף;חיפה\nגל;אשדוד\n"},
		{"windows-1256", charmap.Windows1256, "سفينة;ميناء\nالنورس;الاسكندرية\nالموج;بيروت\n"},
		{"windows-1250", charmap.Windows1250, "hajó;kikötő\nSirály;Győr\nHullám;Újpest\nŐszi szél;Tűzliget\n"},
		{"windows-1252", charmap.Windows1252, "navio;porto\nGaivota;São Luís\nMaré;Setúbal\nOnça;Ílhavo\n"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			content, err := c.set.NewEncoder().String(c.text)
			require.NoError(t, err)
			table, err := open(t, content, ReadOptions{Header: HeaderLines{First: 1, Last: 1}, Guess: true})
			require.NoError(t, err)
			g := readGrid(t, table)
			assert.Equal(t, c.name, table.Formats()[0].Encoding.Value)
			assert.Equal(t, c.text, g.inText(Dialect{';', '"'}, "\n"))
		})
	}
	t.Run("a few broken bytes don't make it another encoding", func(t *testing.T) {
		table, err := open(t, "a,b\nété,1\nnaïve,2\nx\xff,3\nåse,4\n", ReadOptions{})
		require.NoError(t, err)
		got, err := records(table)
		require.NoError(t, err)
		assert.Equal(t, "4: the line is not valid UTF-8", got[2])
		assert.Equal(t, "5: åse|4", got[3])
	})
	t.Run("what is said wins over a byte-order mark", func(t *testing.T) {
		table, err := open(t, "\xef\xbb\xbfa,b\n\xc3\xa9,1\n", ReadOptions{Encoding: "utf-8"})
		require.NoError(t, err)
		got, err := records(table)
		require.NoError(t, err)
		assert.Equal(t, []string{"2: é|1"}, got)
		assert.Equal(t, "a", table.Header().Names[0])
	})
}

// TestSeveralWorkbooksAndTextsAreOneTable: files of several formats, each read in its own way.
func TestSeveralWorkbooksAndTextsAreOneTable(t *testing.T) {
	dir := t.TempDir()
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetRow("Sheet1", "B3", &[]any{"Tons", "Vessel"}))
	require.NoError(t, f.SetSheetRow("Sheet1", "B4", &[]any{7.5, "Otter"}))
	require.NoError(t, f.SetSheetRow("Sheet1", "B5", &[]any{nil, "Heron"}))
	require.NoError(t, f.SetCellFormula("Sheet1", "B5", "1/0"))
	require.NoError(t, f.SaveAs(filepath.Join(dir, "2.xlsx")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.csv"), []byte("Vessel;Tons\nTern;5\nSkua;6;7;8\n"), 0o600))
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	w, err := z.Create("3.csv")
	require.NoError(t, err)
	io.WriteString(w, "Tons\tVessel\n9\tWren\n")
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "3.zip"), packed.Bytes(), 0o600))

	table, err := opened(t, Open, ReadOptions{}, filepath.Join(dir, "[1-3].*"))
	require.NoError(t, err)
	var told []string
	var origins []Origin
	for {
		c, err := table.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		origins = append(origins, c.Seal())
		var r Record
		for c.Next(&r) {
			words := PlaceOf(table, r.Position).Short() + " " + DialectOf(table).Record(table, &r) + " " +
				CellName(table, r.Position, 1)
			for _, f := range r.Faults {
				words += fmt.Sprintf(" (%s %s)", table.Header().Names[f.Field], f.Why)
			}
			if why := Misshapen(&r, 2); why != nil {
				words += " " + why.Words()
			}
			told = append(told, words)
		}
	}
	assert.Equal(t, []string{"1.csv:2 Tern,5 ", "1.csv:3 Skua,6,7,8  the line has 4 fields, the header 2",
		"2.xlsx[Sheet1]!4 Otter,7.5 B4",
		"2.xlsx[Sheet1]!5 Heron, B5 (Tons holds a formula whose result is not stored; open the workbook and save it)",
		"3.csv:2 Wren,9 "}, told)
	for i := len(origins) - 1; i >= 0; i-- {
		c, err := table.Again(origins[i])
		require.NoError(t, err)
		var r Record
		require.True(t, c.Next(&r))
		file, _ := PositionIn(r.Position)
		assert.Equal(t, i, file)
	}
	one, err := table.Sum()
	require.NoError(t, err)
	assert.Len(t, one, 64)
}
