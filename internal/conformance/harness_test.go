// Package conformance drives the built program on files in a temporary folder, as a person would.
package conformance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// program is the path of the built program.
var program string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "ladle-test-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		program = filepath.Join(dir, "ladle")
		// LADLE_TEST_BUILD are flags of go build, such as -race, which needs cgo, or -cover
		flags := strings.Fields(os.Getenv("LADLE_TEST_BUILD"))
		build := exec.Command("go", append(append([]string{"build"}, flags...), "-o", program, "ladle/cmd/ladle")...)
		if out, err := build.CombinedOutput(); err != nil {
			panic(string(out))
		}
		defer dropOwn()
		return m.Run()
	}())
}

// world is a folder with files, and a database.
type world struct {
	*testing.T
	dir string
	db  string // as --db names it
	// counters of the database give other ids to a load than to a script that was rehearsed before it
	counted bool
	server
}

// server is a kind of database at work in a test.
type server interface {
	// make makes a database of its own for the test from a script in the common words of words, and names it.
	make(w *world, script string) string
	// query returns the rows of a query, cells parted by |.
	query(w *world, query string) []string
	// tables lists the tables, Ladle's own among them.
	tables(w *world) []string
	// copies makes copies of the database: one for which a script is written, and one in which it is run.
	copies(w *world) (judged, run string, drop func())
	// client runs a script with the database's own client, and returns what that says.
	client(w *world, file string) (string, error)
}

// servers are all the kinds of databases that must do the same.
var servers = map[string]server{"sqlite": sqliteFile{}, "postgres": postgresSchema{}, "mysql": mysqlDatabase{}}

// everywhere runs a test on all kinds of databases.
func everywhere(t *testing.T, test func(t *testing.T, on server)) {
	for name, on := range servers {
		t.Run(name, func(t *testing.T) { test(t, on) })
	}
}

// newWorld makes a folder and, on a server, a database from script.
func newWorld(t *testing.T, on server, script string) *world {
	t.Helper()
	w := &world{T: t, dir: t.TempDir(), server: on}
	w.db = on.make(w, script)
	return w
}

func (w *world) path(name string) string { return filepath.Join(w.dir, name) }

func (w *world) write(name, content string) {
	w.Helper()
	require.NoError(w, os.WriteFile(w.path(name), []byte(content), 0o644))
}

func (w *world) read(name string) string {
	w.Helper()
	content, err := os.ReadFile(w.path(name))
	require.NoError(w, err)
	return string(content)
}

// result is what a run of the program gave.
type result struct {
	status         int
	stdout, stderr string
}

// run runs the program in the folder, without a terminal.
func (w *world) run(arguments ...string) result {
	w.Helper()
	c := exec.Command(program, arguments...)
	c.Dir = w.dir
	c.Env = append(os.Environ(), "LADLE_DB=")
	var stdout, stderr bytes.Buffer
	c.Stdout, c.Stderr = &stdout, &stderr
	err := c.Run()
	if _, ended := err.(*exec.ExitError); err != nil && !ended {
		require.NoError(w, err)
	}
	r := result{c.ProcessState.ExitCode(), stdout.String(), stderr.String()}
	if slices.Contains(arguments, "--json") && r.stdout != "" {
		w.document(r)
	}
	return r
}

// document holds a JSON document against its schema, and its status against that of the process.
func (w *world) document(r result) {
	w.Helper()
	var head struct {
		Kind   string
		Status int
	}
	require.NoError(w, json.Unmarshal([]byte(r.stdout), &head), r.stdout)
	assert.Equal(w, r.status, head.Status, "the document and the process must say the same")
	assert.False(w, strings.ContainsFunc(r.stdout, func(c rune) bool {
		return c != '\n' && (unicode.IsControl(c) || unicode.Is(unicode.Cf, c))
	}), "nothing in a document commands a terminal")
	name := head.Kind
	if name == "try" || name == "script" {
		name = "load"
	}
	schema, err := schemas().Compile("../../docs/json/" + name + ".schema.json")
	require.NoError(w, err)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(r.stdout))
	require.NoError(w, err)
	assert.NoError(w, schema.Validate(document), r.stdout)
}

// schemas reads the schemas of the JSON documents; a key that they don't describe is an error.
var schemas = func() *jsonschema.Compiler {
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	return c
}

// said is the words of a cause.
type said string

func (s *said) UnmarshalJSON(text []byte) error {
	var cause struct{ Says string }
	err := json.Unmarshal(text, &cause)
	*s = said(cause.Says)
	return err
}

// report is the part of the JSON document that tests look at.
type report struct {
	Outcome string
	Why     said
	Notes   []string
	Status  int
	Run     int64
	Steps   []struct {
		Step       string `json:"name"`
		After      []struct{ Step, Why string }
		Removed    int64
		Marked     struct{ Rows int64 }
		MarkedBack struct{ Rows int64 } `json:"marked_back"`
		Blank      []struct {
			Column, Cell, Reason string
			Lines                int64
		} `json:"left_blank"`
		Tally struct {
			Read, Added, Updated, Unchanged, Same, Differs, Repeated, Overruled int64
			LeftOut                                                             int64 `json:"left_out"`
			SetAside                                                            int64 `json:"set_aside"`
		}
	}
	Lookups []struct {
		Table string
		Names []string
	}
	Checks []struct {
		Check, Table, Says string
		OK                 bool
		Problems, Warnings []string
		Totals             []struct {
			Column, Sum, Least, Most string
			Count                    int64
		}
	}
	Newest []struct {
		Table string
		Rows  [][]*string
	} `json:"newest_rows"`
	SetAside []struct {
		File    string
		Line    int64
		Reasons []string
	} `json:"set_aside_lines"`
	Problems []struct {
		File, What, Do string
		Line, Column   int
	}
}

// load runs load or try and returns its report. A load is held against what it does as a script.
func (w *world) load(command string, more ...string) (report, result) {
	w.Helper()
	compare, parts := func() {}, func(report, result) {}
	if _, sqlite := w.server.(sqliteFile); command == "load" && sqlite {
		parts = w.inParts(more)
	}
	if command == "load" && !w.counted && !clustered(w.server) && w.canCopy() {
		compare = w.script(more)
	}
	arguments := append([]string{command, "f.ladle.yaml", "--db", w.db, "--json"}, more...)
	if command == "load" {
		arguments = append(arguments, "--yes")
	}
	r := w.run(arguments...)
	var doc report
	require.NoError(w, json.Unmarshal([]byte(r.stdout), &doc), r.stdout+r.stderr)
	compare()
	parts(doc, r)
	return doc, r
}

// tallies writes the tallies of a report, a line a step.
func (r report) tallies() string {
	var lines []string
	for _, s := range r.Steps {
		t := s.Tally
		line := fmt.Sprintf("%s: %d = %d added, %d same, %d repeated, %d aside", s.Step, t.Read, t.Added, t.Same,
			t.Repeated, t.SetAside)
		if t.Differs > 0 {
			line += fmt.Sprintf(", %d differs", t.Differs)
		}
		if t.Overruled > 0 {
			line += fmt.Sprintf(", %d overruled", t.Overruled)
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// asides writes the lines that were set aside, with their reasons.
func (r report) asides() []string {
	var lines []string
	for _, a := range r.SetAside {
		reasons := conditions.ReplaceAllString(strings.Join(a.Reasons, "; "), "$1 $2")
		lines = append(lines, fmt.Sprintf("%s:%d: %s", filepath.Base(a.File), a.Line, reasons))
	}
	return lines
}

// conditions are those of CHECK constraints, which each database writes in its own way, between what is told of them.
var conditions = regexp.MustCompile(`(CHECK \w+) \(.*?\) (does not hold|has no result)`)

// query returns the rows of a query as every kind of database writes them: numbers without needless zeros, 1 and 0.
func (w *world) query(query string) []string {
	w.Helper()
	rows := w.server.query(w, query)
	for i, row := range rows {
		cells := strings.Split(row, "|")
		for c, cell := range cells {
			if decimal.MatchString(cell) {
				cells[c] = strings.TrimRight(strings.TrimRight(cell, "0"), ".")
			}
		}
		rows[i] = strings.Join(cells, "|")
	}
	return rows
}

var decimal = regexp.MustCompile(`^-?[0-9]+\.[0-9]+$`)

// dump returns all rows of all tables. Where they are empty, Ladle's own tables don't count: MySQL can't make them
// inside of a transaction.
func (w *world) dump() string { return w.rows(func(string) bool { return true }) }

// data returns all rows of the tables that are not Ladle's own.
func (w *world) data() string {
	return w.rows(func(table string) bool { return !strings.HasPrefix(table, "ladle_") })
}

func (w *world) rows(of func(table string) bool) string {
	w.Helper()
	var all []string
	for _, table := range w.tables(w) {
		if !of(table) {
			continue
		}
		rows := w.query(quotedFor(w.server, "SELECT * FROM Q["+table+"]Q ORDER BY 1"))
		slices.Sort(rows)
		if len(rows) > 0 || !strings.HasPrefix(table, "ladle_") {
			all = append(append(all, table), rows...)
		}
	}
	return strings.Join(all, "\n")
}
