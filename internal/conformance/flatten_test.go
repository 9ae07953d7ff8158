package conformance

import (
	"encoding/csv"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"ladle/internal/seeded"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"
)

// grown is a table of a random schema with random rows. A row is identified by a code of its own, or by the row that it
// belongs to and a number.
type grown struct {
	name    string
	owner   *grown   // whose key is a part of its key; nil where the code is the key
	parents []*grown // others that it refers to; it may point nowhere
	self    bool     // it refers to itself too
	data    []string // the types of its other columns
	rows    []*grownRow
}

// grownRow is a row; what it refers to stands in it.
type grownRow struct {
	code    string
	owner   *grownRow
	parents []*grownRow
	self    *grownRow
	data    []string
}

// key says how a row is known, the same for equal rows only.
func (r *grownRow) key() string {
	if r == nil {
		return "-"
	}
	if r.owner != nil {
		return r.owner.key() + "/" + r.code
	}
	return r.code
}

func (r *grownRow) String() string {
	cells := []string{r.key(), strings.Join(r.data, "|"), r.self.key()}
	for _, p := range r.parents {
		cells = append(cells, p.key())
	}
	return strings.Join(cells, " > ")
}

// grow makes a random schema: the last table is the one that all others are flattened into.
func grow(r *rand.Rand) []*grown {
	var all []*grown
	for i := range 3 + r.IntN(3) {
		t := &grown{name: fmt.Sprintf("t%d", i), self: r.IntN(3) == 0}
		for range r.IntN(3) {
			t.data = append(t.data, []string{"VARCHAR(30)", "INTEGER", "DECIMAL(9,2)", "DATE"}[r.IntN(4)])
		}
		if i > 0 && r.IntN(3) == 0 {
			t.owner = all[r.IntN(i)]
		}
		for _, p := range all {
			if p != t.owner && r.IntN(2) == 0 {
				t.parents = append(t.parents, p)
			}
		}
		for range 2 + r.IntN(8) {
			t.rows = append(t.rows, t.row(r))
		}
		all = append(all, t)
	}
	return all
}

func (t *grown) row(r *rand.Rand) *grownRow {
	row := &grownRow{code: fmt.Sprintf("%s %c", t.name, 'a'+len(t.rows))}
	if t.owner != nil {
		row.owner = t.owner.rows[r.IntN(len(t.owner.rows))]
		row.code = fmt.Sprint(len(t.rows) + 1)
	}
	for _, p := range t.parents {
		var at *grownRow
		if r.IntN(4) > 0 {
			at = p.rows[r.IntN(len(p.rows))]
		}
		row.parents = append(row.parents, at)
	}
	for _, kind := range t.data {
		row.data = append(row.data, map[string]string{"VARCHAR(30)": []string{"Long, \"low\" tide", "Grüße", "x;y",
			"NULL"}[r.IntN(4)], "INTEGER": fmt.Sprint(r.IntN(2000) - 1000),
			"DECIMAL(9,2)": fmt.Sprintf("%d.%02d", r.IntN(9000), r.IntN(99)+1),
			"DATE":         fmt.Sprintf("2026-%02d-%02d", r.IntN(12)+1, r.IntN(28)+1)}[kind])
	}
	return row
}

// script makes the tables in the words of all servers.
func (t *grown) script() string {
	lines := []string{"id ID"}
	key := "code"
	if t.owner != nil {
		lines = append(lines, fmt.Sprintf("owner_id INTEGER NOT NULL REFERENCES %s (id)", t.owner.name),
			"code INTEGER NOT NULL")
		key = "owner_id, code"
	} else {
		lines = append(lines, "code VARCHAR(20) NOT NULL")
	}
	for i, kind := range t.data {
		lines = append(lines, fmt.Sprintf("d%d %s NOT NULL", i, kind))
	}
	if t.self {
		lines = append(lines, fmt.Sprintf("self_id INTEGER REFERENCES %s (id)", t.name))
	}
	for i, p := range t.parents {
		lines = append(lines, fmt.Sprintf("p%d_id INTEGER REFERENCES %s (id)", i, p.name))
	}
	return fmt.Sprintf("CREATE TABLE %s (%s, UNIQUE (%s));\n", t.name, strings.Join(lines, ", "), key)
}

// found is the source that finds a row of t by the columns of the file behind a prefix.
func (t *grown) found(prefix string) string {
	if t.owner == nil {
		return fmt.Sprintf("{from: %s code, lookup: %s.code}", prefix, t.name)
	}
	return fmt.Sprintf("{lookup: {table: %s, by: {owner_id: %s, code: %s code}}}", t.name,
		t.owner.found(prefix+" owner"), prefix)
}

// flat writes a row into the columns of the file behind a prefix, with all that it refers to.
func (t *grown) flat(line map[string]string, prefix string, row *grownRow) {
	if row == nil {
		return
	}
	line[prefix+" code"] = row.code
	for i, d := range row.data {
		line[fmt.Sprintf("%s d%d", prefix, i)] = d
	}
	if t.owner != nil {
		t.owner.flat(line, prefix+" owner", row.owner)
	}
	if t.self {
		t.flatKey(line, prefix+" self", row.self)
	}
	for i, p := range t.parents {
		p.flat(line, fmt.Sprintf("%s p%d", prefix, i), row.parents[i])
	}
}

// flatKey writes by what a row is known.
func (t *grown) flatKey(line map[string]string, prefix string, row *grownRow) {
	line[prefix+" code"] = ""
	if t.owner != nil {
		t.owner.flatKey(line, prefix+" owner", nil)
	}
	for at, of := row, prefix; at != nil; at, of = at.owner, of+" owner" {
		line[of+" code"] = at.code
	}
}

// blocks writes, for each place in the file where rows of t stand, a block, and returns the rows that are reached.
func (t *grown) blocks(prefix string, block func(t *grown, prefix string)) {
	block(t, prefix)
	if t.owner != nil {
		t.owner.blocks(prefix+" owner", block)
	}
	for i, p := range t.parents {
		p.blocks(fmt.Sprintf("%s p%d", prefix, i), block)
	}
}

// TestWhatIsFlattenedComesBack: tables that are joined into one file are the same when the file is loaded into empty
// ones.
func TestWhatIsFlattenedComesBack(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		for round := range seeded.Rounds(6) {
			t.Run(fmt.Sprint("round ", round), func(t *testing.T) {
				r := seeded.Rand(t)
				tables := grow(r)
				leaf := tables[len(tables)-1]
				script := ""
				for _, x := range tables {
					script += x.script()
				}
				var lines []map[string]string
				header, want := map[string]bool{}, map[string]map[string]bool{}
				reached := map[*grown][]*grownRow{}
				for _, row := range leaf.rows {
					leaf.reach(row, reached)
				}
				for _, x := range tables {
					want[x.name] = x.pointAtThemselves(reached[x], r)
				}
				for _, row := range leaf.rows {
					line := map[string]string{}
					leaf.flat(line, "x", row)
					for name := range line {
						header[name] = true
					}
					lines = append(lines, line)
				}
				relinked := round%3 == 2
				if relinked {
					script += flatTable(leaf, header, lines)
				}
				w := newWorld(t, on, quotedFor(on, script))
				empty := w.data()
				w.writeFlat("flat.csv", header, lines)
				origin, others := "file: flat.csv, header: 1", []string{}
				switch {
				case relinked:
					origin = "table: flat"
				case round%3 == 1:
					w.tableOf("flat.csv", "sent.db")
					origin, others = "table: flat, database: sent", []string{"--other-db", "sent=sent.db"}
				}
				ladle := "ladle: 1\ninputs: {flat: {" + origin + "}}\ntables:\n"
				if relinked {
					ladle += "  flat:\n    from: flat\n    key: id\n    already_there: update\n    not_there: " +
						"set_aside\n" +
						"    columns: {id: id, leaf_id: " + leaf.found("x") + "}\n"
				}
				leaf.blocks("x", func(x *grown, prefix string) {
					if !header[prefix+" code"] {
						return // nothing points there
					}
					ladle += x.block(prefix, header)
				})
				w.write("f.ladle.yaml", ladle)
				doc, out := w.load("load", others...)
				require.Equal(t, 0, doc.Status, "%s\n%s\n%s", ladle, out.stdout, w.read("flat.csv"))
				for _, x := range tables {
					assert.Equal(t, want[x.name], w.grownRows(x), "%s\n%s", x.name, ladle)
				}
				if relinked {
					w.relinked(leaf)
				}
				before := w.data()
				doc, out = w.load("load", others...)
				require.Equal(t, 0, doc.Status, out.stdout)
				assert.Equal(t, before, w.data(), "a second time nothing changes")
				w.takenBack(1, empty)
			})
		}
	})
}

// flatTable makes a table of lines in the database itself, with a column yet to be filled that refers to rows of leaf.
func flatTable(leaf *grown, header map[string]bool, lines []map[string]string) string {
	names := slices.Sorted(maps.Keys(header))
	var columns []string
	for _, name := range names {
		columns = append(columns, "Q["+name+"]Q VARCHAR(40)")
	}
	var script strings.Builder
	fmt.Fprintf(&script, "CREATE TABLE flat (id ID, leaf_id INTEGER REFERENCES %s (id), %s);\n", leaf.name,
		strings.Join(columns, ", "))
	for _, line := range lines {
		var quoted, values []string
		for _, name := range names {
			if line[name] != "" {
				quoted, values = append(quoted, "Q["+name+"]Q"), append(values, "'"+line[name]+"'")
			}
		}
		fmt.Fprintf(&script, "INSERT INTO flat (%s) VALUES (%s);\n", strings.Join(quoted, ", "),
			strings.Join(values, ", "))
	}
	return script.String()
}

// relinked holds that each row of the table flat refers to the row of leaf that it was.
func (w *world) relinked(leaf *grown) {
	w.Helper()
	byID := w.grownByID(leaf)
	for i, line := range w.server.query(w, "SELECT leaf_id FROM flat ORDER BY id") {
		assert.Equal(w, leaf.rows[i].String(), byID[line].String())
	}
}

// reach adds a row and all that it refers to to those of their tables.
func (t *grown) reach(row *grownRow, reached map[*grown][]*grownRow) {
	if row == nil || slices.Contains(reached[t], row) {
		return
	}
	reached[t] = append(reached[t], row)
	if t.owner != nil {
		t.owner.reach(row.owner, reached)
	}
	for i, p := range t.parents {
		p.reach(row.parents[i], reached)
	}
}

// pointAtThemselves has some rows refer to others of their table, and writes all of them.
func (t *grown) pointAtThemselves(rows []*grownRow, r *rand.Rand) map[string]bool {
	var all map[string]bool
	for _, row := range rows {
		if t.self && r.IntN(2) == 0 {
			row.self = rows[r.IntN(len(rows))]
		}
		if all == nil {
			all = map[string]bool{}
		}
		all[row.String()] = true
	}
	return all
}

// block is the block for rows of t that stand behind a prefix.
func (t *grown) block(prefix string, header map[string]bool) string {
	columns := []string{"code: " + prefix + " code"}
	if t.owner != nil {
		columns = append(columns, "owner_id: "+t.owner.found(prefix+" owner"))
	}
	for i := range t.data {
		columns = append(columns, fmt.Sprintf("d%d: %s d%d", i, prefix, i))
	}
	for i, p := range t.parents {
		if at := fmt.Sprintf("%s p%d", prefix, i); header[at+" code"] {
			columns = append(columns, fmt.Sprintf("p%d_id: %s", i, p.found(at)))
		}
	}
	if t.self {
		columns = append(columns, "self_id: "+t.found(prefix+" self"))
	}
	return fmt.Sprintf("  %s at %s:\n    into: %s\n    from: flat\n    only: not is_blank(%s)\n    columns: {%s}\n",
		t.name, prefix, t.name,
		strings.ReplaceAll(prefix+" code", " ", "_"), strings.Join(columns, ", "))
}

func (w *world) writeFlat(name string, header map[string]bool, lines []map[string]string) {
	f, err := os.Create(w.path(name))
	require.NoError(w, err)
	defer f.Close()
	out := csv.NewWriter(f)
	var names []string
	for n := range header {
		names = append(names, n)
	}
	slices.Sort(names)
	require.NoError(w, out.Write(names))
	for _, l := range lines {
		cells := make([]string, len(names))
		for i, n := range names {
			cells[i] = l[n]
		}
		require.NoError(w, out.Write(cells))
	}
	out.Flush()
	require.NoError(w, out.Error())
}

// tableOf makes a table flat of a file, with texts and NULL for blanks, in a database of its own.
func (w *world) tableOf(file, database string) {
	w.Helper()
	content, err := csv.NewReader(strings.NewReader(w.read(file))).ReadAll()
	require.NoError(w, err)
	conn, err := sqlite.OpenConn(w.path(database))
	require.NoError(w, err)
	defer conn.Close()
	quoted := `"` + strings.Join(content[0], `", "`) + `"`
	require.NoError(w, sqlitex.ExecuteScript(conn, "CREATE TABLE flat ("+quoted+");", nil))
	insert := "INSERT INTO flat VALUES (" + strings.TrimSuffix(strings.Repeat("nullif(?, ''), ", len(content[0])),
		", ") + ")"
	for _, line := range content[1:] {
		arguments := make([]any, len(line))
		for i, cell := range line {
			arguments[i] = cell
		}
		require.NoError(w, sqlitex.Execute(conn, insert, &sqlitex.ExecOptions{Args: arguments}))
	}
}

// grownRows reads the rows of t, with what they refer to by its key.
func (w *world) grownRows(t *grown) map[string]bool {
	rows := map[string]bool{}
	for _, row := range w.grownByID(t) {
		rows[row.String()] = true
	}
	if len(rows) == 0 {
		return nil
	}
	return rows
}

func (w *world) grownByID(t *grown) map[string]*grownRow {
	columns := []string{"id", "code"}
	for i := range t.data {
		columns = append(columns, fmt.Sprintf("d%d", i))
	}
	for i := range t.parents {
		columns = append(columns, fmt.Sprintf("p%d_id", i))
	}
	var owners map[string]*grownRow
	selves := map[*grownRow]string{}
	if t.self {
		columns = append(columns, "self_id")
	}
	if t.owner != nil {
		columns = append(columns, "owner_id")
		owners = w.grownByID(t.owner)
	}
	byID := map[string]*grownRow{}
	for _, line := range w.server.query(w, "SELECT "+strings.Join(columns, ", ")+" FROM "+t.name) {
		cells := strings.Split(line, "|")
		row := &grownRow{code: cells[1], data: cells[2 : 2+len(t.data)]}
		for i, kind := range t.data {
			if whole, cents, has := strings.Cut(row.data[i], "."); kind == "DECIMAL(9,2)" {
				if !has {
					cents = ""
				}
				row.data[i] = whole + "." + (cents + "00")[:2]
			}
		}
		for i, p := range t.parents {
			row.parents = append(row.parents, w.grownByID(p)[cells[2+len(t.data)+i]])
		}
		if t.self {
			selves[row] = cells[2+len(t.data)+len(t.parents)]
		}
		if t.owner != nil {
			row.owner = owners[cells[len(cells)-1]]
		}
		byID[cells[0]] = row
	}
	for row, id := range selves {
		row.self = byID[id]
	}
	return byID
}
