package conformance

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ladle/demo"
)

// runPlanned runs the statements of a plan, each by itself.
func (w *world) runPlanned(script string) {
	w.Helper()
	for _, s := range strings.Split(script, ";\n") {
		lines := slices.DeleteFunc(strings.Split(s, "\n"), func(l string) bool { return l == "" || strings.HasPrefix(l, "--") })
		s = strings.Join(lines, "\n")
		if s != "" && s != "BEGIN" && s != "COMMIT" {
			w.do(s)
		}
	}
}

// planned edits a dictionary in a workbook: sets cells, adds and deletes rows.
type planned struct {
	*testing.T
	book *excelize.File
}

// at is the row of a sheet that begins with the given cells, from 1, and the titles.
func (p *planned) at(sheet string, begins ...string) (row int, titles []string) {
	p.Helper()
	rows, err := p.book.GetRows(sheet)
	require.NoError(p, err)
	for i, r := range rows {
		r = append(slices.Clone(r), make([]string, 9)...)
		if sheet == "columns" { // its second column only counts
			r = slices.Delete(r, 1, 2)
		}
		if slices.Equal(r[:len(begins)], begins) {
			return i + 1, rows[0]
		}
	}
	require.Fail(p, "no such row", "%s %v", sheet, begins)
	return 0, nil
}

func (p *planned) set(sheet, title, to string, begins ...string) {
	p.Helper()
	row, titles := p.at(sheet, begins...)
	cell, err := excelize.CoordinatesToCellName(slices.Index(titles, title)+1, row)
	require.NoError(p, err)
	require.NoError(p, p.book.SetCellValue(sheet, cell, to))
}

func (p *planned) delete(sheet string, begins ...string) {
	p.Helper()
	row, _ := p.at(sheet, begins...)
	require.NoError(p, p.book.RemoveRow(sheet, row))
}

func (p *planned) add(sheet string, cells ...any) {
	p.Helper()
	rows, err := p.book.GetRows(sheet)
	require.NoError(p, err)
	require.NoError(p, p.book.SetSheetRow(sheet, fmt.Sprintf("A%d", len(rows)+1), &cells))
}

// outlines are the tables of a database without what differs from one to the other: rows, and the order of keys.
func (w *world) outlines(only []string) []any {
	w.Helper()
	arguments := []string{"dictionary", "--db", w.db, "--json"}
	for _, name := range only {
		arguments = append(arguments, "--table", name)
	}
	r := w.run(arguments...)
	require.Equal(w, 0, r.status, r.stderr)
	var d struct {
		Tables []struct {
			Table map[string]any
		}
	}
	require.NoError(w, json.Unmarshal([]byte(r.stdout), &d))
	var all []any
	for _, t := range d.Tables {
		for _, name := range []string{"row_count", "indexes", "other_indexes"} {
			delete(t.Table, name)
		}
		for _, name := range []string{"unique_keys", "check_constraints", "foreign_keys", "referenced_by"} {
			if list, is := t.Table[name].([]any); is {
				slices.SortFunc(list, func(a, b any) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
			}
		}
		all = append(all, t.Table)
	}
	return all
}

// TestADictionaryIsAPlan: planned onto an empty database, the dictionary of another gives one with the same dictionary;
// planned onto its own, it changes nothing.
func TestADictionaryIsAPlan(t *testing.T) {
	schemas := map[string]string{"the harbour": harbourWords.Replace(demo.Script()), "a fleet": fleet,
		"odd names": quotedOdd}
	everyServer(t, func(t *testing.T, name string, on server) {
		for of, script := range schemas {
			t.Run(of, func(t *testing.T) {
				w := newWorld(t, on, quotedFor(on, script))
				var tables []string
				for _, table := range w.tables(w) {
					tables = append(tables, strings.Trim(table, "\"`"))
				}
				arguments := []string{"dictionary", "--db", w.db, "-o", "plan.xlsx"}
				for _, table := range tables {
					arguments = append(arguments, "--table", table)
				}
				require.Equal(t, 0, w.run(arguments...).status)
				same := w.run("propose", "--plan", "plan.xlsx", "--db", w.db)
				assert.Contains(t, same.stdout, "The tables are as planned: nothing to do.", same.stderr)

				other := newWorld(t, on, "CREATE TABLE other (n INTEGER);")
				r := other.run("propose", "--plan", w.path("plan.xlsx"), "--db", other.db)
				require.Equal(t, 0, r.status, r.stdout+r.stderr)
				other.runPlanned(r.stdout)
				assert.Equal(t, w.outlines(tables), other.outlines(tables), r.stdout)
			})
		}
	})
}

const quotedOdd = `CREATE TABLE Q[Big Quay]Q (Q[a, b]Q WORD NOT NULL, Q[order]Q INTEGER DEFAULT 7, note WORD, UNIQUE (Q[order]Q, Q[a, b]Q),
	PRIMARY KEY (Q[a, b]Q));
	CREATE TABLE berth (id ID, Q[quay;]Q WORD, FOREIGN KEY (Q[quay;]Q) REFERENCES Q[Big Quay]Q (Q[a, b]Q), CONSTRAINT known CHECK (Q[quay;]Q <> 'x'));`

// TestPlans: what is changed in a workbook of the tables leads to statements that do just that, or is refused with the
// rows that are in the way.
func TestPlans(t *testing.T) {
	const tables = `CREATE TABLE quay (id ID, name VARCHAR(20) NOT NULL UNIQUE);
		CREATE TABLE berth (id ID, code VARCHAR(8) NOT NULL UNIQUE, quay_id INTEGER NOT NULL REFERENCES quay (id), depth_m DECIMAL(4,1), kind VARCHAR(9), old INTEGER, CONSTRAINT deep CHECK (depth_m > 0));
		INSERT INTO quay (name) VALUES ('North'), ('South');
		INSERT INTO berth (code, quay_id, depth_m, kind, old) VALUES ('N1', 1, 9.5, 'tug', 1), ('N2', 1, NULL, 'tug', NULL), ('S1', 2, 12, NULL, 9);`
	cases := []struct {
		name    string
		edit    func(p *planned)
		allow   []string
		refused string
		count   string // in JSON
		after   string // a query
		gives   []string
	}{
		{name: "a longer text, a finer decimal", edit: func(p *planned) {
			p.set("columns", "type", "VARCHAR(30)", "berth", "code")
			p.set("columns", "type", "DECIMAL(7,2)", "berth", "depth_m")
		}, after: "SELECT code, depth_m FROM berth ORDER BY code", gives: []string{"N1|9.5", "N2|NULL", "S1|12"}},
		{name: "a column with a default, and one without", edit: func(p *planned) {
			p.add("columns", "berth", 7, "lit", "INTEGER", "required, default 1")
			p.add("columns", "berth", 8, "note", "VARCHAR(40)", "optional")
		}, after: "SELECT code, lit, note FROM berth ORDER BY code", gives: []string{"N1|1|NULL", "N2|1|NULL", "S1|1|NULL"}},
		{name: "a required column without a default", edit: func(p *planned) {
			p.add("columns", "berth", 7, "lit", "INTEGER", "required")
		}, refused: "berth.lit: the column is new: INTEGER, required: the 3 rows of berth would have no value in it"},
		{name: "required, and it is", edit: func(p *planned) {
			p.set("columns", "value", "required, default 'x'", "quay", "name")
			p.set("columns", "value", "required", "berth", "quay_id")
		}, after: "SELECT count(*) FROM quay", gives: []string{"2"}},
		{name: "required, and it isn't", edit: func(p *planned) { p.set("columns", "value", "required", "berth", "kind") },
			refused: "1 row has NULL in it: code S1"},
		{name: "a key that holds", edit: func(p *planned) {
			p.set("tables", "unique keys", "code; depth_m", "berth")
			p.set("columns", "key", "unique", "berth", "depth_m")
		}, after: "SELECT count(*) FROM berth", gives: []string{"3"}},
		{name: "a key that doesn't", edit: func(p *planned) {
			p.set("tables", "unique keys", "code; kind", "berth")
			p.set("columns", "key", "unique", "berth", "kind")
		}, refused: "1 value is not unique: tug (2 times)"},
		{name: "a key that only one sheet has", edit: func(p *planned) { p.set("columns", "key", "unique", "berth", "kind") },
			refused: `the key of berth.kind is "unique" here, but "" by the sheet "tables"`},
		{name: "a CHECK that holds, and one that is dropped", edit: func(p *planned) {
			p.delete("CHECK constraints", "berth")
			p.add("CHECK constraints", "berth", "", "old BETWEEN 0 AND 10")
		}, after: "SELECT count(*) FROM berth", gives: []string{"3"}},
		{name: "a CHECK that doesn't", edit: func(p *planned) { p.add("CHECK constraints", "berth", "", "(old < 5)") },
			refused: "it is false for 1 row: code S1"},
		{name: "a narrower text", edit: func(p *planned) { p.set("columns", "type", "VARCHAR(2)", "berth", "kind") },
			refused: "allow it with --allow berth.kind", count: `"rows_hurt": 2`},
		{name: "a narrower text that all fit, allowed", allow: []string{"berth.code"}, edit: func(p *planned) {
			p.set("columns", "type", "VARCHAR(2)", "berth", "code")
		}, after: "SELECT code FROM berth ORDER BY code", gives: []string{"N1", "N2", "S1"}},
		{name: "a column that goes", edit: func(p *planned) { p.delete("columns", "berth", "old") },
			refused: "berth.old: the column is dropped: loses its values in 2 rows; allow it with --allow berth.old"},
		{name: "a column that may go", allow: []string{"berth.old"}, edit: func(p *planned) { p.delete("columns", "berth", "old") },
			after: "SELECT * FROM berth WHERE code = 'N1'", gives: []string{"1|N1|1|9.5|tug"}},
		{name: "what nobody loses", allow: []string{"berth.code"}, edit: func(*planned) {},
			refused: "no change of this plan loses data of berth.code"},
		{name: "a table with rows, and a relation to it", edit: func(p *planned) {
			p.add("columns", "kind", 1, "name", "VARCHAR(9)", "required", "primary key")
			p.add("columns", "kind", 2, "note", "VARCHAR(30)", "optional")
			p.add("lookup values", "kind", "name, note", "tug", "it's small")
			p.add("lookup values", "kind", "name, note", "ferry", "")
			p.add("relations", "berth", "kind", "kind", "name", "yes")
			p.set("columns", "refers to", "kind.name", "berth", "kind")
		}, after: "SELECT name, note FROM kind ORDER BY name", gives: []string{"ferry|NULL", "tug|it's small"}},
		{name: "a relation that rows break", edit: func(p *planned) {
			p.add("relations", "berth", "old", "quay", "id", "yes")
			p.set("columns", "refers to", "quay.id", "berth", "old")
		}, refused: "1 value finds no row of quay: 9"},
		{name: "a table that stays", edit: func(p *planned) {
			p.delete("tables", "berth")
			for _, c := range []string{"id", "code", "quay_id", "depth_m", "kind", "old"} {
				p.delete("columns", "berth", c)
			}
			p.delete("relations", "berth")
			p.delete("CHECK constraints", "berth")
		}, after: "SELECT count(*) FROM berth", gives: []string{"3"}},
		{name: "a type that ends the statement", edit: func(p *planned) {
			p.set("columns", "type", "INTEGER; DROP TABLE quay", "berth", "old")
		}, refused: "is no type"},
		{name: "a word that says nothing", edit: func(p *planned) { p.set("columns", "value", "must", "berth", "old") },
			refused: `plan.xlsx[columns]:9: the value of berth.old is "must"`},
		{name: "a table nobody knows", edit: func(p *planned) { p.add("relations", "bert", "old", "quay", "id", "yes") },
			refused: `did you mean "berth"?`},
	}
	everyServer(t, func(t *testing.T, _ string, on server) {
		for _, c := range cases {
			t.Run(c.name, func(t *testing.T) {
				w := newWorld(t, on, tables)
				require.Equal(t, 0, w.run("dictionary", "--db", w.db, "--table", "quay", "--table", "berth", "--values", "-o",
					"plan.xlsx").status)
				book, err := excelize.OpenFile(w.path("plan.xlsx"))
				require.NoError(t, err)
				c.edit(&planned{t, book})
				require.NoError(t, book.Save())
				require.NoError(t, book.Close())
				arguments := []string{"propose", "--plan", "plan.xlsx", "--db", w.db}
				for _, name := range c.allow {
					arguments = append(arguments, "--allow", name)
				}
				r := w.run(arguments...)
				if c.refused != "" {
					assert.NotZero(t, r.status)
					assert.Contains(t, strings.Join(strings.Fields(r.stdout+r.stderr), " "), c.refused)
					if c.count != "" {
						assert.Contains(t, w.run(append(arguments, "--json")...).stdout, c.count)
					}
					return
				}
				require.Equal(t, 0, r.status, r.stdout+r.stderr)
				if strings.HasPrefix(r.stdout, "-- Planned") {
					w.runPlanned(r.stdout)
				}
				assert.Equal(t, c.gives, w.query(c.after))
				if strings.Contains(c.name, "CHECK") {
					return // a database writes its conditions in its own way
				}
				again := w.run(append(arguments[:5:5], "--json")...)
				assert.Contains(t, again.stdout, `"changes": []`, "the plan is reached")
			})
		}
	})
}
