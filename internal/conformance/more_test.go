package conformance

import (
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRowsThatOnlyTheDatabaseJudgesAreAllFound: they stand in several batches, at their borders too.
func TestRowsThatOnlyTheDatabaseJudgesAreAllFound(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("f.ladle.yaml", vesselBlock+callBlock+"set_aside_limit: any\n")
		var b strings.Builder
		b.WriteString("Reg,Name,GT,Flag,Arrived,Dues,Paid\n")
		bad := map[int]bool{0: true, 1: true, 2500: true, 4095: true, 4096: true, 8191: true, 9998: true, 9999: true}
		for i := range 10_000 {
			gt := "1"
			if bad[i] {
				gt = "-1"
			}
			fmt.Fprintf(&b, "V%d,Tern,%s,Norway,2026-02-01 05:00,,\n", i, gt)
		}
		w.write("in.csv", b.String())
		doc, out := w.load("load")
		require.Equal(t, 4, doc.Status, out.stderr)
		assert.Equal(t, "vessel: 10000 = 9992 added, 0 same, 0 repeated, 8 aside\nport_call: 10000 = 9992 added, 0 "+
			"same, 0 repeated, 8 aside", doc.tallies())
		assert.Equal(t, []string{"9993|9993"}, w.query("SELECT (SELECT count(*) FROM vessel), (SELECT count(*) FROM "+
			"port_call)"))
		for i, a := range doc.asides() {
			assert.Contains(t, a, "CHECK gt_above_zero does not hold: gt is -1.0", "%d", i)
		}
		assert.Len(t, doc.SetAside, 8)
	})
}

// TestTwoLoadsAtOnce: both read the same file; each row is added by one of them, and by one only.
func TestTwoLoadsAtOnce(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("f.ladle.yaml", vesselBlock)
		var b strings.Builder
		b.WriteString("Reg,Name,GT,Flag\n")
		for i := range 3000 {
			fmt.Fprintf(&b, "V%d,Tern,1,Norway\n", i)
		}
		w.write("in.csv", b.String())
		warm, _ := w.load("try")
		require.Equal(t, 0, warm.Status)
		var both sync.WaitGroup
		results := make([]result, 2)
		for i := range results {
			both.Go(func() { results[i] = w.run("load", "f.ladle.yaml", "--db", w.db, "--yes", "--json") })
		}
		both.Wait()
		loaded := 0
		for _, r := range results {
			assert.Contains(t, []int{0, 3}, r.status, r.stderr)
			if r.status == 0 {
				loaded++
			}
		}
		assert.NotZero(t, loaded)
		assert.Equal(t, []string{"3001"}, w.query("SELECT count(*) FROM vessel"))
		assert.Equal(t, []string{fmt.Sprint(loaded)}, w.query("SELECT count(*) FROM ladle_run"))
	})
}

// TestRelationsOfOtherShapes: to a text, of two columns, and finds that more than one row answers.
func TestRelationsOfOtherShapes(t *testing.T) {
	const script = `
		CREATE TABLE quay (code VARCHAR(4) PRIMARY KEY, name VARCHAR(20) NOT NULL);
		CREATE TABLE berth (quay VARCHAR(4) NOT NULL, no INTEGER NOT NULL, PRIMARY KEY (quay, no), FOREIGN KEY (quay) REFERENCES quay (code));
		CREATE TABLE mooring (id ID, label VARCHAR(20) NOT NULL UNIQUE, quay VARCHAR(4), no INTEGER, home VARCHAR(4),
			FOREIGN KEY (quay, no) REFERENCES berth (quay, no), FOREIGN KEY (home) REFERENCES quay (code));
		INSERT INTO quay VALUES ('N', 'North'), ('S', 'South'), ('S2', 'South');
		INSERT INTO berth VALUES ('N', 1), ('N', 2);
	`
	cases := []struct {
		name, columns, file string
		status              int
		rows, asides        []string
	}{
		{"a find that yields a text", "{label: L, home: {from: Q, lookup: quay.name}}", "L,Q\na,North\nb,\n", 0,
			[]string{"a|NULL|NULL|N", "b|NULL|NULL|NULL"}, nil},
		{"several rows", "{label: L, home: {from: Q, lookup: quay.name}}", "L,Q\na,South\n", 1, nil,
			[]string{`in.csv:2: Q "South" is in more than one row of quay.name`}},
		{"several rows, left blank", "{label: L, home: {from: Q, lookup: quay.name, several: leave_blank}}",
			"L,Q\na,South\n", 0, []string{"a|NULL|NULL|NULL"}, nil},
		{"two columns, fed directly", "{label: L, quay: Q, no: N}", "L,Q,N\na,N,2\nb,N,\n", 0,
			[]string{"a|N|2|NULL", "b|N|NULL|NULL"}, nil},
	}
	everywhere(t, func(t *testing.T, on server) {
		for _, c := range cases {
			t.Run(c.name, func(t *testing.T) {
				w := newWorld(t, on, script)
				w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {mooring: {from: in, key: "+
					"label, columns: "+c.columns+"}}\n")
				w.write("in.csv", c.file)
				doc, out := w.load("load")
				require.Equal(t, c.status, doc.Status, out.stdout+out.stderr)
				assert.Equal(t, c.asides, doc.asides())
				if c.rows != nil {
					assert.Equal(t, c.rows, w.query("SELECT label, quay, no, home FROM mooring ORDER BY id"))
				}
			})
		}
		t.Run("two columns that point at nothing", func(t *testing.T) {
			w := newWorld(t, on, script)
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {mooring: {from: in, key: label, "+
				"columns: {label: L, quay: Q, no: N}}}\n")
			w.write("in.csv", "L,Q,N\na,N,9\n")
			doc, out := w.load("load")
			assert.Equal(t, 1, doc.Status, out.stdout)
			assert.Equal(t, []string{"0"}, w.query("SELECT count(*) FROM mooring"))
		})
	})
}

// TestPostgresTables: partitions, other schemas, counters that only the database may set, and names that need quotes.
func TestPostgresTables(t *testing.T) {
	w := newWorld(t, postgresSchema{}, `
		CREATE TABLE "Log ""x""" (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, "at day" date NOT NULL, sum numeric GENERATED ALWAYS AS (1) STORED);
		CREATE TABLE tide (id serial, day date NOT NULL, cm int, PRIMARY KEY (id, day)) PARTITION BY RANGE (day);
		CREATE TABLE tide_1 PARTITION OF tide FOR VALUES FROM ('2026-01-01') TO ('2026-07-01');
		CREATE TABLE tide_2 PARTITION OF tide FOR VALUES FROM ('2026-07-01') TO ('2027-01-01');
	`)
	w.write("in.csv", "Day,Cm\n2026-01-05,3\n2026-08-05,-4\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables:\n  'Log \"x\"': {from: in, key: at day, "+
		"columns: {at day: Day}}\n  tide: {from: in, key: day, columns: {day: Day, cm: Cm}}\n")
	doc, out := w.load("load")
	require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
	assert.Equal(t, []string{"2026-01-05|1", "2026-08-05|1"},
		w.query(`SELECT "at day", sum FROM "Log ""x""" ORDER BY id`))
	assert.Equal(t, []string{"3|-4"}, w.query("SELECT (SELECT cm FROM tide_1), (SELECT cm FROM tide_2)"))

	t.Run("a table of another schema goes by both names", func(t *testing.T) {
		other := w.schema() + "_other"
		postgresSchema{}.exec(w, postgresSchema{}.connect(w, w.db),
			"CREATE SCHEMA "+other+"; CREATE TYPE "+other+".rank AS ENUM ('first', 'second'); CREATE TABLE "+other+
				".pilot (id serial PRIMARY KEY, name text UNIQUE CHECK (name <> 'Nobody'), rank "+other+".rank)")
		t.Cleanup(func() { w.query("DROP SCHEMA " + other + " CASCADE; SELECT 1") })
		w.write("in.csv", "Name\nAnn\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {"+other+
			".pilot: {from: in, columns: {name: Name}}}\n")
		doc, out := w.load("load")
		require.Equal(t, 0, doc.Status, out.stdout+out.stderr)
		assert.Equal(t, []string{"Ann"}, w.query("SELECT name FROM "+other+".pilot"))
		shown := w.run("tables", "--db", w.db, "--table", "pilot").stdout
		for _, says := range []string{other + ".pilot of", "one of: first, second", "<> 'Nobody'"} {
			assert.Contains(t, shown, says)
		}
		assert.NotContains(t, w.run("tables", "--db", w.db).stdout, "trigger")
	})
}

// TestAServerWithoutLoadDataLocalTakesTheSame turns the setting off for the whole server, and on again.
func TestAServerWithoutLoadDataLocalTakesTheSame(t *testing.T) {
	w := newWorld(t, mysqlDatabase{}, port)
	before := w.query("SELECT @@global.local_infile")[0]
	mysqlDatabase{}.exec(w, "", "SET GLOBAL local_infile = 0")
	defer mysqlDatabase{}.exec(w, "", "SET GLOBAL local_infile = "+before)
	w.write("f.ladle.yaml", vesselBlock+"set_aside_limit: any\n")
	var b strings.Builder
	b.WriteString("Reg,Name,GT,Flag\nA1,Heron,1,Norway\n")
	for i := range 1500 {
		fmt.Fprintf(&b, "V%d,\"T'e\\rn\",%d,Norway\n", i, i%750)
	}
	w.write("in.csv", b.String())
	r := w.run("load", "f.ladle.yaml", "--db", w.db, "--yes")
	require.Equal(t, 4, r.status, r.stderr)
	assert.Contains(t, unwrap(r.stdout), "Note: the server does not allow LOAD DATA LOCAL (local_infile is off), so "+
		"rows are written by INSERT")
	assert.Equal(t, []string{"1498|T'e\\rn"}, w.query("SELECT count(*), max(name) FROM vessel WHERE id > 7"))
}

// TestAPersonIsAsked answers the question on a terminal that script(1) makes.
func TestAPersonIsAsked(t *testing.T) {
	script, err := exec.LookPath("script")
	require.NoError(t, err, "this test needs script(1), of Debian's package bsdutils")
	for answer, want := range map[string]struct {
		status int
		rows   string
	}{"y": {0, "2"}, "no": {2, "1"}, "": {2, "1"}} {
		t.Run("answer "+answer, func(t *testing.T) {
			w := newWorld(t, sqliteFile{}, port)
			w.write("in.csv", goodFile)
			w.write("f.ladle.yaml", vesselBlock)
			c := exec.Command(script, "-qec", program+" load f.ladle.yaml --db db", "/dev/null")
			c.Dir, c.Stdin = w.dir, strings.NewReader(answer+"\n")
			out, _ := c.CombinedOutput()
			assert.Equal(t, want.status, c.ProcessState.ExitCode(), string(out))
			assert.Contains(t, string(out), "What will be done, in this order")
			assert.Contains(t, string(out), "[y/N/s/?]")
			assert.Equal(t, []string{want.rows}, w.query("SELECT count(*) FROM vessel"))
			if want.status == 0 {
				w.asked(script, "load f.ladle.yaml --db db", "n", 2,
					"This ladle file loaded the same files before: run 1")
				w.asked(script, "undo 1 --db db", "no", 2, "You said no: nothing was changed.")
				w.asked(script, "undo 1 --db db", "y", 0, "Run 1 was undone by run 2")
				assert.Equal(t, []string{"1"}, w.query("SELECT count(*) FROM vessel"))
			}
		})
	}
}

// asked runs a command on a terminal and returns it an answer.
func (w *world) asked(script, command, answer string, status int, says string) {
	w.Helper()
	c := exec.Command(script, "-qec", program+" "+command, "/dev/null")
	c.Dir, c.Stdin = w.dir, strings.NewReader(answer+"\n")
	out, _ := c.CombinedOutput()
	assert.Equal(w, status, c.ProcessState.ExitCode(), string(out))
	assert.Contains(w, string(out), says)
}

// TestARefusedNameSetsItsLinesAside: what the database refuses of a lookup sets aside the lines that need it.
func TestARefusedNameSetsItsLinesAside(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, `CREATE TABLE kind (id ID, name VARCHAR(20) NOT NULL UNIQUE, CONSTRAINT no_ufo CHECK (name <> 'UFO'));
			CREATE TABLE vessel (id ID, reg_no VARCHAR(8) NOT NULL UNIQUE, kind_id INTEGER REFERENCES kind (id));`)
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {vessel: {from: in, columns: "+
			"{reg_no: Reg, kind_id: {from: Kind, lookup: kind.name, not_found: add}}}}\nset_aside_limit: any\n")
		w.write("in.csv", "Reg,Kind\na,Tug\nb,UFO\nc,Tug\nd,UFO\n")
		doc, out := w.load("load")
		require.Equal(t, 4, doc.Status, out.stderr)
		assert.Equal(t, []string{
			`in.csv:3: Kind "UFO" can't be added to kind.name: the database rejects it: CHECK no_ufo does not hold`,
			`in.csv:5: Kind "UFO" can't be added to kind.name: the database rejects it: CHECK no_ufo does not hold`},
			doc.asides())
		assert.Equal(t, []string{"a|Tug", "c|Tug"}, w.query("SELECT reg_no, name FROM vessel v JOIN kind k ON k.id = "+
			"kind_id ORDER BY 1"))
	})
}

// TestManyNamesThatTheDatabaseComparesItself: the names that are there come in several batches, and each is asked
// about.
func TestManyNamesThatTheDatabaseComparesItself(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		const there = 9000
		values := make([]string, there)
		for i := range values {
			values[i] = fmt.Sprintf("(%d, 'Flag %d')", 100+i, i)
		}
		w := newWorld(t, on, port+"INSERT INTO flag (id, name) VALUES "+strings.Join(values, ", "))
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {flag: {from: in, key: name, "+
			"columns: {name: Name}}}\n")
		for _, lines := range []int{there + 500, 20} { // all names are read, or just those of the file
			var b strings.Builder
			b.WriteString("Name,X\n")
			for i := range lines {
				fmt.Fprintf(&b, "FLAG %d,\n", there+10-lines+i)
			}
			w.write("in.csv", b.String())
			doc, out := w.load("try")
			require.Equal(t, 0, doc.Status, out.stderr)
			if lines == 20 {
				assert.Equal(t, "flag: 20 = 10 added, 10 same, 0 repeated, 0 aside", doc.tallies())
			} else {
				assert.Equal(t, "flag: 9500 = 500 added, 9000 same, 0 repeated, 0 aside", doc.tallies())
			}
		}
	})
}
