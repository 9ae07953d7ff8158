package conformance

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// stays is a table of stays at berths: in each form that a file can have its rows must become the same rows.
func stays(rows int) [][]string {
	all := [][]string{{"Reg. No.", "Vessel", "Arrived", "Tons", "Remarks"}}
	for i := range rows {
		all = append(all, []string{fmt.Sprintf("%04d", i), []string{"Müwe", "Grey; Heron", "Otter, Sea",
			`The "Wren"`}[i%4], fmt.Sprintf("2026-%02d-%02d %02d:30:00", 1+i%12, 1+i%28, i%24),
			fmt.Sprintf("%d.%d", i*7%1000, i%10), []string{"", "late", "two\nlines", "  kept  "}[i*3%4]})
	}
	return all
}

func inDelimiters(rows [][]string, delimiter, end string) string {
	var b strings.Builder
	for _, r := range rows {
		cells := make([]string, len(r))
		for i, c := range r {
			if cells[i] = c; strings.ContainsAny(c, delimiter+"\"\n") {
				cells[i] = `"` + strings.ReplaceAll(c, `"`, `""`) + `"`
			}
		}
		b.WriteString(strings.Join(cells, delimiter) + end)
	}
	return b.String()
}

// inJSON is a row as an object, in which tons are a number.
func inJSON(w *world, header, row []string) string {
	object := map[string]any{}
	for i, name := range header {
		object[name] = row[i]
	}
	object["Tons"] = json.Number(row[3])
	made, err := json.Marshal(object)
	require.NoError(w, err)
	return string(made)
}

// forms are all ways in which the rows are sent.
var forms = map[string]func(w *world, rows [][]string) (input string){
	"commas": func(w *world, rows [][]string) string {
		w.write("in.csv", inDelimiters(rows, ",", "\n"))
		return "file: in.csv"
	},
	"semicolons, CRLF, windows-1252, titles above, said footer": func(w *world, rows [][]string) string {
		encoded, err := charmap.Windows1252.NewEncoder().String("Stays at the harbour;;;;\r\n\r\n" + inDelimiters(rows,
			";", "\r\n") + "-- end of report\r\n")
		require.NoError(w, err)
		w.write("in.txt", encoded)
		return "file: in.txt, footer_lines: 1, encoding: windows-1252"
	},
	"tabs, UTF-16, gzip": func(w *world, rows [][]string) string {
		encoded, err := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String(inDelimiters(rows, "\t",
			"\n"))
		require.NoError(w, err)
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		io.WriteString(z, encoded)
		require.NoError(w, z.Close())
		w.write("in.tsv.gz", b.String())
		return "file: in.tsv.gz"
	},
	"several files of an archive": func(w *world, rows [][]string) string {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		half := len(rows) / 2
		for name, part := range map[string][][]string{"a.csv": rows[:half],
			"b.csv": append([][]string{rows[0]}, rows[half:]...)} {
			f, err := z.Create(name)
			require.NoError(w, err)
			io.WriteString(f, inDelimiters(part, "|", "\n"))
		}
		require.NoError(w, z.Close())
		w.write("post.zip", b.String())
		return "file: post.zip"
	},
	"JSON Lines": func(w *world, rows [][]string) string {
		var b strings.Builder
		for _, r := range rows[1:] {
			b.WriteString(inJSON(w, rows[0], r) + "\n")
		}
		w.write("in.jsonl", b.String())
		return "file: in.jsonl"
	},
	"an array in a JSON object, gzip": func(w *world, rows [][]string) string {
		var objects []string
		for _, r := range rows[1:] {
			objects = append(objects, inJSON(w, rows[0], r))
		}
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		io.WriteString(z, `{"harbour": "Port Merrow", "answer": {"stays": [`+strings.Join(objects, ",\n")+`]}}`)
		require.NoError(w, z.Close())
		w.write("in.json.gz", b.String())
		return "file: in.json.gz, member: answer.stays"
	},
	"a workbook": func(w *world, rows [][]string) string {
		f := excelize.NewFile()
		for n, r := range rows {
			cells := make([]any, len(r))
			for i, c := range r {
				cells[i] = c
			}
			require.NoError(w, f.SetSheetRow("Sheet1", fmt.Sprintf("B%d", n+3), &cells))
		}
		require.NoError(w, f.SetCellStr("Sheet1", "B1", "Stays at the harbour"))
		require.NoError(w, f.SaveAs(w.path("in.xlsx")))
		return "file: in.xlsx"
	},
}

// TestAllFormsLoadAlike loads the same rows from all forms into all databases; the rows in the tables, and the tallies,
// must be the same.
func TestAllFormsLoadAlike(t *testing.T) {
	const table = "CREATE TABLE stay (id ID, reg_no WORD NOT NULL UNIQUE, vessel WORD, arrived MOMENT, tons AMOUNT, " +
		"remarks WORD);"
	rows := stays(600)
	rows = append(rows, rows[3], []string{"0005", "Other", "2026-01-01 00:00:00", "1.0", ""})
	everywhere(t, func(t *testing.T, on server) {
		want := ""
		for _, name := range []string{"commas", "semicolons, CRLF, windows-1252, titles above, said footer",
			"tabs, UTF-16, gzip", "several files of an archive", "JSON Lines", "an array in a JSON object, gzip",
			"a workbook"} {
			t.Run(name, func(t *testing.T) {
				w := newWorld(t, on, table)
				input := forms[name](w, rows)
				w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {"+input+
					"}}\nset_aside_limit: any\ntables:\n"+
					"  stay: {from: in, key: reg_no, columns: {reg_no: Reg. No., vessel: Vessel, arrived: Arrived, "+
					"tons: Tons, remarks: Remarks}}\n")
				doc, r := w.load("load")
				require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
				assert.Equal(t, "stay: 602 = 599 added, 0 same, 1 repeated, 2 aside", doc.tallies())
				loaded := strings.Join(w.query("SELECT reg_no, vessel, arrived, tons, remarks FROM stay ORDER BY 1"),
					"\n")
				if want == "" {
					want = loaded
				}
				assert.Equal(t, want, loaded)
				assert.Contains(t, strings.Join(doc.SetAside[0].Reasons, " "),
					"has the same key (reg_no), but a different Vessel, Arrived, Tons, Remarks")

				again, _ := w.load("load")
				assert.Equal(t, "stay: 602 = 0 added, 599 same, 1 repeated, 2 aside", again.tallies(),
					"a second load adds nothing")
			})
		}
	})
}
