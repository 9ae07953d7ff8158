package conformance

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostileTexts are names and values that mean something to SQL, shells, terminals, pages, workbooks and YAML.
var hostileTexts = []string{
	`'; DROP TABLE vessel; --`, `"; DROP TABLE vessel; --`, "`; DROP TABLE vessel; --`", `\'; DROP TABLE vessel; #`,
	`Robert\`, `%s%n%d`, `$(touch pwned)`, "`touch pwned`", `; touch pwned`, `| touch pwned`,
	"\x1b[31mred\x1b[0m", "\x1b]0;title\x07", "\u202eturned", `<script>alert(1)</script>`,
	`"><img src=x onerror=alert(1)>`, `&lt;b&gt;`, `=cmd|'/c calc'!A0`, `@SUM(1)`, "{{.}}", "${jndi:x}",
	"!!python/object", "*anchor", "NULL", `\N`, "a\tb", "../../etc/passwd", strings.Repeat("ü", 60),
}

// harmless: nothing that a text could do was done, and the screen shows no command to a terminal.
func (w *world) harmless(r result, arguments string) {
	w.Helper()
	assert.NoFileExists(w, w.path("pwned"), arguments)
	for _, out := range []string{r.stdout, r.stderr} {
		assert.False(w, strings.ContainsAny(out, "\x1b\x07\u202e"), "%s: control characters reach the screen",
			arguments)
		assert.NotContains(w, out, "panic", arguments)
		assert.NotContains(w, out, "hunter2", arguments)
	}
}

// TestHostileTextsStayTexts takes them through every command, as headers, values and the names of tables, columns and
// files.
func TestHostileTextsStayTexts(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, quotedFor(on, `CREATE TABLE vessel (id ID, name VARCHAR(200) NOT NULL UNIQUE);
			CREATE TABLE Q[it's; a <b>table</b>]Q (id ID, Q[col "um"'; --]Q VARCHAR(200) UNIQUE, vessel_id INTEGER NOT NULL REFERENCES vessel (id));`))
		var file bytes.Buffer
		out := csv.NewWriter(&file)
		_ = out.Write([]string{`'; DROP TABLE "x"`, "$(touch pwned)"})
		for _, text := range hostileTexts {
			_ = out.Write([]string{text, text})
		}
		out.Flush()
		const name = "$(touch pwned); '<b>.csv"
		w.write(name, file.String())
		w.write("f.ladle.yaml", `ladle: 1
inputs:
  in: {file: "$(touch pwned); '<b>.csv", header: 1}
checks:
  - claim: "all are there: $(touch pwned) \e[31m <b>"
    no_rows: "select 1 from vessel where name = '`+"\\u202e"+`none'"
tables:
  vessel: {from: in, similar_names: accept, columns: {name: "$(touch pwned)"}}
  `+"\"it's; a <b>table</b>\""+`:
    from: in
    columns:
      'col "um"''; --': "'; DROP TABLE \"x\""
      vessel_id: {from: "$(touch pwned)", lookup: vessel.name}
`)
		before := w.data()
		run := func(want int, arguments ...string) result {
			r := w.run(arguments...)
			assert.Equal(t, want, r.status, "%v: %s%s", arguments, r.stdout, r.stderr)
			w.harmless(r, strings.Join(arguments, " "))
			return r
		}
		db := []string{"--db", w.db}
		run(0, "survey", name)
		run(0, "survey", "f.ladle.yaml")
		run(0, append([]string{"tables", "--html", "tables.html"}, db...)...)
		run(0, append([]string{"tables", "--table", "it's; a <b>table</b>"}, db...)...)
		run(0, append([]string{"tables", "--diagram"}, db...)...)
		run(0, append([]string{"draft", name, "-o", "draft.ladle.yaml"}, db...)...)
		run(0, "prepare", "f.ladle.yaml", "-o", "cleaned")
		run(0, append([]string{"try", "f.ladle.yaml", "--html", "try.html"}, db...)...)
		run(0, append([]string{"load", "f.ladle.yaml", "--yes", "--html", "load.html"}, db...)...)
		assert.Equal(t, []string{fmt.Sprint(len(hostileTexts))}, w.query("SELECT count(*) FROM vessel"))
		run(0, append([]string{"verify", "f.ladle.yaml"}, db...)...)
		run(0, append([]string{"verify", "1"}, db...)...)
		run(0, append([]string{"runs"}, db...)...)
		run(0, append([]string{"runs", "1"}, db...)...)
		for _, page := range []string{"tables.html", "try.html", "load.html"} {
			text := w.read(page)
			assert.NotContains(t, text, "<script>")
			assert.NotContains(t, text, "<img")
			assert.False(t, strings.ContainsAny(text, "\x1b\u202e"), page)
		}
		run(0, append([]string{"undo", "1", "--yes"}, db...)...)
		assert.Equal(t, before, w.data())
	})
}

// TestHostileFilesAreRefused: archives that lead out of their folder, hold links, or swell without end.
func TestHostileFilesAreRefused(t *testing.T) {
	packed := func(t *testing.T, w *world, name string, header *zip.FileHeader, content []byte) {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		f, err := z.CreateHeader(header)
		require.NoError(t, err)
		_, err = f.Write(content)
		require.NoError(t, err)
		require.NoError(t, z.Close())
		require.NoError(t, os.WriteFile(w.path(name), b.Bytes(), 0o644))
	}
	w := newWorld(t, sqliteFile{}, "CREATE TABLE berth (id ID, code WORD UNIQUE);")
	packed(t, w, "out.zip", &zip.FileHeader{Name: "../../pwned", Method: zip.Deflate}, []byte("C\nN1\n"))
	link := &zip.FileHeader{Name: "link.csv"}
	link.SetMode(os.ModeSymlink | 0o777)
	packed(t, w, "link.zip", link, []byte("/etc/passwd"))
	packed(t, w, "bomb.zip", &zip.FileHeader{Name: "bomb.csv", Method: zip.Deflate},
		bytes.Repeat([]byte("\""+strings.Repeat("a", 1023)), 64<<10))
	var swollen bytes.Buffer
	g := gzip.NewWriter(&swollen)
	for range 64 << 10 {
		_, err := g.Write(bytes.Repeat([]byte("a"), 1024))
		require.NoError(t, err)
	}
	require.NoError(t, g.Close())
	require.NoError(t, os.WriteFile(w.path("bomb.csv.gz"), swollen.Bytes(), 0o644))
	long := strings.Repeat("n", 200) + ".csv"
	w.write(long, "C\nN1\n")
	require.NoError(t, os.Symlink("/dev/zero", w.path("endless.csv")))
	before := w.data()
	for _, name := range []string{"out.zip", "link.zip", "bomb.zip", "bomb.csv.gz"} {
		for _, command := range []string{"survey " + name, "load f.ladle.yaml --yes --db db"} {
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: "+name+
				"}}\ntables: {berth: {from: in, columns: {code: C}}}\n")
			r := w.run(strings.Fields(command)...)
			w.harmless(r, command+" of "+name)
			if name != "out.zip" { // whose entry is read like any other, and never written anywhere
				assert.Contains(t, []int{1, 2, 3}, r.status, "%s of %s: %s", command, name, r.stdout)
			}
			assert.NotContains(t, r.stdout+r.stderr, "root:", "no other file is shown")
		}
	}
	assert.Contains(t, []string{before, strings.Replace(before, "berth", "berth\n1|N1", 1)}, w.data())
	assert.NoFileExists(t, filepath.Join(w.dir, "..", "..", "pwned"))
	assert.Equal(t, 0, w.run("survey", long).status)
}

// TestPasswordsAreNowhere: not in what commands print or write, not in the logbook, and not in the server's list of
// what it does.
func TestPasswordsAreNowhere(t *testing.T) {
	on := postgresSchema{}
	w := newWorld(t, on, port)
	admin := on.connect(w, w.db)
	on.exec(w, admin, "DO $$ BEGIN CREATE ROLE ladle_purser SUPERUSER LOGIN PASSWORD 'hunter2'; EXCEPTION WHEN "+
		"duplicate_object THEN NULL; END $$")
	u, err := url.Parse(w.db)
	require.NoError(t, err)
	u.User = url.UserPassword("ladle_purser", "hunter2")
	w.write("f.ladle.yaml", vesselBlock)
	w.write("in.csv", goodFile)
	for _, command := range []string{"tables", "tables --json --html t.html", "draft in.csv",
		"try f.ladle.yaml --json --html y.html", "load f.ladle.yaml --yes --html l.html",
		"load f.ladle.yaml --yes --json",
		"verify f.ladle.yaml", "verify 1 --json", "runs", "runs 1 --json", "undo 1 --yes", "undo 9 --yes",
		"tables --table none", "load none.ladle.yaml --yes", "load f.ladle.yaml"} {
		r := w.run(append(strings.Fields(command), "--db", u.String())...)
		w.harmless(r, command)
	}
	wrong := *u
	wrong.Host = "127.0.0.1:1"
	w.harmless(w.run("tables", "--db", wrong.String()), "a server that isn't there")
	for _, malformed := range []string{"postgres://u:12/hunter2@h/db", "host=h password=hunter2",
		"mysql:u:hunter2@h/db",
		"postgres://127.0.0.1:1/x?sslpassword=hunter2", "mysql://u@127.0.0.1:1/x?password=hunter2",
		"mysql://u:hunter2@h",
		"oracle://u:hunter2@h/x", "postgres://u:hunter2%zz@h/x"} {
		for _, command := range []string{"tables", "draft in.csv", "try f.ladle.yaml", "load f.ladle.yaml --yes",
			"verify f.ladle.yaml", "runs", "undo 1 --yes", "load f.ladle.yaml --yes --json"} {
			w.harmless(w.run(append(strings.Fields(command), "--db", malformed)...), command+" "+malformed)
		}
	}
	assert.NotContains(t, w.dump(), "hunter2", "the logbook")
	files, err := os.ReadDir(w.dir)
	require.NoError(t, err)
	for _, f := range files {
		assert.NotContains(t, w.read(f.Name()), "hunter2", f.Name())
	}
	assert.NotContains(t, strings.Join(w.query("SELECT query FROM pg_stat_activity WHERE application_name = 'ladle'"),
		"\n"), "hunter2")
}

// TestWhatHelpsAtTheKeyboard: completion, the manual page and the schema are those of this program, and pages are
// written where they are wanted.
func TestWhatHelpsAtTheKeyboard(t *testing.T) {
	w := newWorld(t, sqliteFile{}, port)
	schema, err := os.ReadFile("../../docs/ladle-file.schema.json")
	require.NoError(t, err)
	assert.Equal(t, string(schema), w.run("json-schema").stdout)
	manual := w.run("manual").stdout
	for _, part := range []string{".TH LADLE 1", ".SS undo", ".SS verify", `check\-level`, `no\-logbook`,
		".SH EXIT STATUS"} {
		assert.Contains(t, manual, part)
	}
	assert.Equal(t, 2, w.run("json-schema", "extra").status)
	for command, says := range map[string]string{"tables --html none/t.html": "the folder for the page doesn't exist",
		"tables --html .": "was not written by ladle", "load f.ladle.yaml --yes --html none/l.html": "the folder for " +
			"the page doesn't exist"} {
		r := w.run(append(strings.Fields(command), "--db", w.db)...)
		assert.Equal(t, 2, r.status, command)
		assert.Contains(t, r.stderr, says)
	}
	for range 2 { // a page is replaced by the next one
		assert.Equal(t, 0, w.run("tables", "--html", "t.html", "--db", w.db).status)
		assert.Contains(t, w.read("t.html"), "vessel")
	}
	w.write("in.csv", goodFile)
	for _, path := range []string{"db", "in.csv"} {
		before := w.read(path)
		r := w.run("tables", "--html", path, "--db", w.db)
		assert.Equal(t, 2, r.status)
		assert.Contains(t, r.stderr, "the file exists and was not written by ladle")
		assert.Equal(t, before, w.read(path), "nothing but a page is replaced")
	}
}

// TestCompletion: bash, with nothing else loaded, completes commands, options and values.
func TestCompletion(t *testing.T) {
	w := newWorld(t, sqliteFile{}, port)
	w.write("complete", w.run("completion", "bash").stdout)
	for words, want := range map[string]string{"ladle un": "undo", "ladle load --che": "--check-level",
		"ladle help ve":                "verify",
		"ladle load f --check-level r": "relations", "ladle survey --enc": "--encoding",
		"ladle runs -":        "--db --json --help",
		"ladle load f --db h": "", "ladle load f": ""} {
		script := "source ./complete; COMP_WORDS=(" + words +
			"); COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _ladle; echo ${COMPREPLY[@]}"
		out, err := exec.Command("bash", "--norc", "-c", "cd "+w.dir+"; "+script).CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Equal(t, want, strings.TrimSpace(string(out)), words)
	}
	assert.Equal(t, 2, w.run("completion", "zsh").status)
}

// TestHelp: everything that a command takes is in its help, in the manual page and in the overview.
func TestHelp(t *testing.T) {
	w := newWorld(t, sqliteFile{}, port)
	overview, manual := w.run("help").stdout, w.run("manual").stdout
	assert.Equal(t, overview, w.run().stdout)
	commands := regexp.MustCompile(`(?m)^  ([a-z][a-z-]+)  +[a-z]`).FindAllStringSubmatch(overview, -1)
	require.Len(t, commands, 22)
	for _, c := range commands {
		help := w.run("help", c[1])
		require.Equal(t, 0, help.status, c[1])
		assert.Equal(t, help, w.run(c[1], "--help"))
		assert.Contains(t, manual, ".SS "+strings.ReplaceAll(c[1], "-", `\-`))
		assert.Equal(t, 2, len(regexp.MustCompile(`(?m)^    \S`).FindAllString(help.stdout, -1)), "two examples")
		for _, option := range regexp.MustCompile(`--[a-z-]+`).FindAllString(help.stdout, -1) {
			assert.Contains(t, manual, strings.ReplaceAll(option, "-", `\-`), c[1])
		}
	}
}
