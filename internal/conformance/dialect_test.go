package conformance

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const berthTable = "CREATE TABLE berth (id ID, code WORD NOT NULL UNIQUE, name WORD, depth AMOUNT);"

// berths loads a file by a ladle file with the given input and sources.
func (w *world) berths(input, columns string, more ...string) (report, result) {
	w.Helper()
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {"+input+
		"}}\nset_aside_limit: any\ntables:\n  berth: {from: in, key: code, columns: {"+columns+"}}\n")
	return w.load("load", more...)
}

// TestSetAsideFilesSpeakTheDialectOfTheirInput: a line that is set aside stands in its file as it was sent, so that it
// can be corrected and sent again.
func TestSetAsideFilesSpeakTheDialectOfTheirInput(t *testing.T) {
	cases := []struct {
		name, input, content string
		want                 []string
	}{
		{"commas", "file: in.csv", "Code,Name,Depth\nN1,\"a, \"\"b\"\"\",x\nN2,b,2\n",
			[]string{"line,why,Code,Name,Depth", `2,"Depth ""x"" is not a number",N1,"a, ""b""",x`}},
		{"semicolons", "file: in.csv", "Code;Name;Depth\r\nN1;\"a; b\";1,5\r\nN2;b;2\r\n",
			[]string{"line;why;Code;Name;Depth",
				`2;"Depth ""1,5"" has separators, so it is not a plain number like 1234.5";N1;"a; b";1,5`}},
		{"tabs without quotes", "file: in.csv, quote: none", "Code\tName\tDepth\nN1\t5\" pipe\t\"x\nN2\tb\t2\n",
			[]string{"line\twhy\tCode\tName\tDepth", "2\tDepth \"\\\"x\" is not a number\tN1\t5\" pipe\t\"x"}},
		{"a broken line, whole", "file: in.csv", "Code,Name,Depth\nN1,a,1,2,\"3\nx\"\nN2,b,2\n",
			[]string{"line,why,Code,Name,Depth", `2,"the line has 5 fields, the header 3",N1,a,1,2,"3`, `x"`}},
		{"another encoding, in UTF-8", "file: in.csv, encoding: windows-1252", "Code;Name;Depth\nN1;Møwe;x\nN2;b;2\n",
			[]string{"line;why;Code;Name;Depth", `2;"Depth ""x"" is not a number";N1;Møwe;x`}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, berthTable)
			content := c.content
			if strings.Contains(c.input, "1252") {
				content = strings.ReplaceAll(content, "ø", "\xf8")
			}
			w.write("in.csv", content)
			doc, r := w.berths(c.input, "code: Code, name: Name, depth: Depth")
			require.Equal(t, 4, r.status, r.stderr+string(doc.Why))
			lines := strings.Split(strings.TrimSpace(strings.ReplaceAll(w.read("in.set-aside.csv"), "\r\n", "\n")),
				"\n")
			assert.Contains(t, lines[0], "1 line of in.csv set aside by ladle; the others are loaded; checksum of the "+
				"input: ")
			assert.Equal(t, c.want, lines[1:])
			assert.Equal(t, []string{"N2|b|2"}, w.query("SELECT code, name, depth FROM berth"))
		})
	}
	t.Run("of several files, each line with its file", func(t *testing.T) {
		w := newWorld(t, sqliteFile{}, berthTable)
		w.write("a.csv", "Code,Name,Depth\nN1,a,1\n")
		w.write("b.csv", "Depth;Code;Name\nx;N2;b\n2;N3;c;d;e\n")
		_, r := w.berths("file: [a.csv, b.csv]", "code: Code, name: Name, depth: Depth")
		require.Equal(t, 4, r.status, r.stderr)
		lines := strings.Split(w.read("in.set-aside.csv"), "\r\n")
		assert.Contains(t, lines[0], "2 lines of a.csv, b.csv set aside by ladle")
		assert.Equal(t, []string{"line,why,Code,Name,Depth", `b.csv:2,"Depth ""x"" is not a number",N2,b,x`,
			`b.csv:3,"the line has 5 fields, the header 3",2,N3,c,d,e`, ""}, lines[1:])
	})
}

// TestColumnsWithoutAName go by their position.
func TestColumnsWithoutAName(t *testing.T) {
	cases := []struct{ name, input, content, columns string }{
		{"no header, found", "file: in.csv", "N1,7.5,North\nN2,8.0,South\n",
			"code: column 1, name: column 3, depth: column 2"},
		{"no header, said", "file: in.csv, header: none", "N1,7.5,North\nN2,8,South\n",
			"code: column 1, name: column 3, depth: column 2"},
		{"a column without a name", "file: in.csv", "Code,,Name\nN1,7.5,North\nN2,8,South\n",
			"code: Code, name: Name, depth: column 2"},
		{"two columns with one name", "file: in.csv", "Code,Name,Name\nN1,7.5,North\nN2,8,South\n",
			"code: Code, name: column 3, depth: column 2"},
		{"a header of two lines", "file: in.csv, header: 1-2",
			"Berth,,Water\nCode,Name,Depth\nN1,North,7.5\nN2,South,8\n",
			"code: Berth Code, name: Berth Name, depth: Water Depth"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, berthTable)
			w.write("in.csv", c.content)
			doc, r := w.berths(c.input, c.columns)
			require.Equal(t, 0, r.status, r.stderr+string(doc.Why))
			assert.Equal(t, []string{"N1|North|7.5", "N2|South|8"},
				w.query("SELECT code, name, depth FROM berth ORDER BY 1"))
		})
	}
}

// TestInputsWithoutAKeyAreKnownAgain: a table without a key takes an input once, whatever form the input has.
func TestInputsWithoutAKeyAreKnownAgain(t *testing.T) {
	for name, make := range map[string]func(w *world) string{
		"a workbook": func(w *world) string {
			book, err := os.ReadFile(suite + "xlsx")
			require.NoError(w, err)
			w.write("in.xlsx", string(book))
			return "file: in.xlsx, sheet: Old list"
		},
		"several files": func(w *world) string {
			w.write("a.csv", "Name,Tons\nOtter,80\n")
			w.write("b.csv", "Tons,Name\n7,Heron\n")
			return `file: "[ab].csv"`
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, "CREATE TABLE note (name WORD, tons AMOUNT);")
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {"+make(w)+
				"}}\ntables:\n  note: {from: in, key: none, columns: {name: Name, tons: Tons}}\n")
			first, r := w.load("load")
			require.Equal(t, 0, r.status, r.stderr+string(first.Why))
			rows := len(w.query("SELECT 1 FROM note"))
			second, r := w.load("load")
			assert.Equal(t, 1, r.status)
			assert.Contains(t, second.Why, "was loaded into note before")
			again, r := w.load("load", "--again")
			assert.Equal(t, 0, r.status, r.stderr+string(again.Why))
			assert.Len(t, w.query("SELECT 1 FROM note"), 2*rows)
		})
	}
}

// TestOptionsOfSurvey: what is said of a file is taken, and told as said.
func TestOptionsOfSurvey(t *testing.T) {
	w := &world{T: t, dir: t.TempDir(), db: "db", server: sqliteFile{}}
	w.write("in.csv", "Berths;;\nCode:Name;Depth:m\nN1:M\xf8we;7:5\nN2:b;8:0\nTotal;15:5\n")
	cases := []struct {
		options []string
		says    []string
	}{
		{[]string{"--header", "2"}, []string{"header on line 2", "Code:Name",
			`1 line above the header: "Berths"`}},
		{[]string{"--header", "none"}, []string{"no header", "column 1"}},
		{[]string{"--header", "2", "--delimiter", ":"}, []string{`":" between fields`, "Name;Depth"}},
		{[]string{"--header", "2", "--footer", "1"}, []string{"2 rows, 2 columns"}},
		{[]string{"--header", "2", "--encoding", "ISO-8859-15"}, []string{"text in ISO-8859-15", "N1:Møwe"}},
		{[]string{"--header", "2", "--quote", "none"}, []string{"quotes are part of the data"}},
		{[]string{"--header", "1-2"}, []string{"header on line 1-2", "Berths Code:Name"}},
	}
	for _, c := range cases {
		r := w.run(append([]string{"survey", "in.csv"}, c.options...)...)
		require.Equal(t, 0, r.status, r.stderr)
		for _, says := range c.says {
			assert.Contains(t, unwrap(r.stdout), says, c.options)
		}
	}
	for options, says := range map[string]string{"--delimiter=é": "--delimiter can't be", "--encoding=martian": "IANA",
		"--footer=x": "--footer can't be", "--quote=ab": "--quote can't be", "--sheet=1": "it has no sheet or range"} {
		r := w.run("survey", "in.csv", options)
		assert.NotEqual(t, 0, r.status)
		assert.Contains(t, unwrap(r.stderr), says)
	}
}
