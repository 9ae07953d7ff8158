package conformance

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSmallFilesTakeLittleMemory: whatever a small file or ladle file stands for, it takes no more than a gigabyte, and
// what stands for more is refused or set aside.
func TestSmallFilesTakeLittleMemory(t *testing.T) {
	w := newWorld(t, sqliteFile{}, "")
	w.write("a.csv", "A,B\nxxxxxxxxxxxxxxxx,1\n")
	formula := "a"
	for range 40 {
		formula = `replace(` + formula + `, "x", "xx")`
	}
	joined := "a"
	for range 14 {
		joined = `join("", ` + joined + ", " + joined + ")"
	}
	ladle := func(name, input string) {
		w.write(name, "ladle: 1\ninputs: {a: {file: a.csv, header: 1, "+input+"}}\ntables: {t: {from: a, columns: {a: "+
			"A}}}\n")
	}
	ladle("formula.ladle.yaml", "new_columns: {C: '"+formula+"'}")
	ladle("joined.ladle.yaml", "new_columns: {C: '"+joined+"'}")
	ladle("cleaned.ladle.yaml", "columns: {A: {clean: ["+strings.Repeat("{replace: {x: xxxx}}, ", 20)+"trim]}}")
	ladle("regex.ladle.yaml", "columns: {A: {clean: ["+strings.Repeat("{regex: x, becomes: xxxx}, ", 20)+"trim]}}")
	w.write("deep.ladle.yaml", "ladle: 1\ninputs: "+strings.Repeat("[", 20_000))
	w.write("large.ladle.yaml", "ladle: 1\n"+strings.Repeat("# x\n", 2_000_000))
	w.write("repeated.ods", repeatedCell(t))
	w.write("endless.csv.gz", endless(t))
	for file, says := range map[string]string{
		"formula.ladle.yaml": "the text would be longer than 16 MB", "joined.ladle.yaml": "",
		"cleaned.ladle.yaml": "becomes too large when it is cleaned",
		"regex.ladle.yaml":   "becomes too large when it is cleaned",
		"deep.ladle.yaml":    "brackets are nested more than 100 deep",
		"large.ladle.yaml":   "a ladle file has at most 4 MB", "repeated.ods": "its row 2 holds more than 16 MB",
		"endless.csv.gz": "it expands to more than 400 times its size",
	} {
		t.Run(file, func(t *testing.T) {
			arguments := []string{"survey", file}
			if says != "" && strings.Contains("formula cleaned regex", strings.Split(file, ".")[0]) {
				arguments = []string{"prepare", file, "-o", "out", "--replace"}
			}
			c := exec.Command(program, arguments...)
			c.Dir = w.dir
			out, err := c.CombinedOutput()
			if _, ended := err.(*exec.ExitError); err != nil && !ended {
				require.NoError(t, err)
			}
			assert.Contains(t, string(out), says)
			used := c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss
			assert.Less(t, used, int64(1<<20), "kilobytes")
			assert.Contains(t, []int{0, 1, 2, 3, 4}, c.ProcessState.ExitCode(), "%s", out)
		})
	}
}

// repeatedCell is a workbook of a few kilobytes with one large cell, repeated over all columns.
func repeatedCell(t *testing.T) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, part := range [][2]string{{"mimetype", "application/vnd.oasis.opendocument.spreadsheet"}, {"content.xml",
		`<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table=` +
			`"urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0">` +
			`<office:body><office:spreadsheet><table:table table:name="S"><table:table-row><table:table-cell office:value-type=` +
			`"string"><text:p>A</text:p></table:table-cell></table:table-row><table:table-row><table:table-cell ` +
			`table:number-columns-repeated="16000" office:value-type="string"><text:p>` + strings.Repeat("x",
			1_000_000) +
			`</text:p></table:table-cell></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>`}} {
		f, err := z.Create(part[0])
		require.NoError(t, err)
		_, err = f.Write([]byte(part[1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}

// endless is a gzip file that stands for a thousand times as much.
func endless(t *testing.T) string {
	t.Helper()
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	require.NoError(t, err)
	_, err = fmt.Fprintln(z, "A,B")
	require.NoError(t, err)
	for range 300 {
		_, err = z.Write([]byte(strings.Repeat("1,2\n", 250_000)))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}
