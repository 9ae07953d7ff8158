package conformance

import (
	"bytes"
	"compress/gzip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// TestCompare: two deliveries in different formats, on the screen, in a list and as a document, and what can't be
// compared.
func TestCompare(t *testing.T) {
	w := newWorld(t, sqliteFile{}, port)
	w.write("march.csv", "Reg,Name,GT\nPM-1,Skua,10\nPM-2,Tern,20\nPM-3,Auk,30\nPM-4,Gull\n")
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, err := z.Write([]byte("GT;Reg;Name;Flag\n30;PM-3;=Auk;NO\n10;PM-1;Skua;NO\n40;PM-5;Shag;\n"))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	w.write("april.csv.gz", packed.String())
	book := excelize.NewFile()
	require.NoError(t, book.SetSheetRow("Sheet1", "A1", &[]any{"Reg", "Name", "GT"}))
	require.NoError(t, book.SetSheetRow("Sheet1", "A2", &[]any{"PM-3", "Auk", 30}))
	_, err = book.NewSheet("More")
	require.NoError(t, err)
	require.NoError(t, book.SetSheetRow("More", "A1", &[]any{"Reg"}))
	require.NoError(t, book.SetSheetRow("More", "A2", &[]any{"PM-1"}))
	require.NoError(t, book.SaveAs(w.path("may.xlsx")))

	r := w.run("compare", "march.csv", "april.csv.gz", "--key", "Reg", "--changes", "changes.csv", "--lines", "2")
	require.Equal(t, 0, r.status, r.stderr)
	for _, says := range []string{"only april.csv.gz has: Flag", "march.csv: 1 line with another number of cells " +
		"than columns",
		`Name: "Auk" becomes "=Auk"`, "Different: 1 changed, 1 came, 2 went", "(2 more; --lines shows more"} {
		assert.Contains(t, r.stdout, says)
	}
	assert.Equal(t, "table,what,key,column,before,after,file,line\n,changed,Reg PM-3,Name,Auk,'=Auk,april.csv.gz,2\n"+
		",came,Reg PM-5,GT,,40,april.csv.gz,4\n,came,Reg PM-5,Reg,,PM-5,april.csv.gz,4\n,came,Reg "+
		"PM-5,Name,,Shag,april.csv.gz,4\n"+
		",went,Reg PM-2,GT,20,,march.csv,3\n,went,Reg PM-2,Reg,PM-2,,march.csv,3\n,went,Reg "+
		"PM-2,Name,Tern,,march.csv,3\n"+
		",went,Reg PM-4,Reg,PM-4,,march.csv,5\n,went,Reg PM-4,Name,Gull,,march.csv,5\n", w.read("changes.csv"))
	r = w.run("compare", "march.csv", "may.xlsx", "--sheet", "1", "--json")
	require.NotZero(t, r.status, "the option is for both, and one is no workbook")
	r = w.run("compare", "may.xlsx", "may.xlsx", "--sheet", "1", "--json")
	require.Equal(t, 0, r.status, r.stderr)
	assert.Contains(t, r.stdout, `"outcome": "same"`)
	r = w.run("compare", "march.csv", "april.csv.gz", "--json")
	assert.Contains(t, r.stdout, `"outcome": "differs"`)
	w.write("may.csv", "Reg;Name;GT\npm-1;Skua;10,0\nPM-2;Tern;20,0\nPM-3;Auk;31,0\n")
	w.write("rules.ladle.yaml", "ladle: 1\ninputs:\n  a: {file: march.csv, columns: {Reg: {clean: upper}, GT: "+
		"{number: "+
		"['1,0', '1']}}, only: not is_blank(gt)}\n  b: {file: march.csv}\n")
	r = w.run("compare", "march.csv", "may.csv", "--rules", "rules.ladle.yaml", "--as", "a", "--key", "Reg")
	require.Equal(t, 0, r.status, r.stderr)
	assert.Contains(t, r.stdout, `GT: "30" becomes "31"`)
	assert.Contains(t, r.stdout, "Different: 1 changed, 0 came, 1 went", "a line that can't be cleaned is compared "+
		"as a whole")
	for arguments, says := range map[string]string{
		"march.csv may.csv --rules rules.ladle.yaml":        "rules.ladle.yaml has several inputs: a, b",
		"march.csv may.csv --rules rules.ladle.yaml --as c": `rules.ladle.yaml has no input "c" that is a file`,
		"march.csv may.csv --as c":                          "--as names an input of a ladle file, and none is given",
		"march.csv may.xlsx":                                "may.xlsx has 2 tables",
		"march.csv":                                         "OLD NEW",
		"march.csv f.ladle.yaml":                            "f.ladle.yaml is a ladle file",
		"march.csv none.csv":                                "none.csv",
		"march.csv april.csv.gz --key Flag":                 `only april.csv.gz has the column "Flag" of the key`,
		"march.csv april.csv.gz --changes changes.csv":      "the file exists",
		"march.csv april.csv.gz --changes changes.text":     "give it a name that ends in .csv, .xlsx or .html",
	} {
		r := w.run(append([]string{"compare"}, strings.Fields(arguments)...)...)
		assert.NotZero(t, r.status, arguments)
		assert.Contains(t, r.stderr, says)
	}
}
