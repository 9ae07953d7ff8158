package sqlite

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Schema reads the tables of the file, without views, virtual tables, SQLite's and Ladle's own.
func (d *Database) Schema(ctx context.Context) (*schema.Schema, error) {
	s := &schema.Schema{Database: d.path}
	type entry struct {
		name, sql            string
		withoutRowid, strict bool
	}
	var entries []entry
	err := d.each(`SELECT l.name, l.wr, m.sql, l.strict FROM pragma_table_list l
		JOIN sqlite_schema m ON m.name = l.name AND m.type = 'table'
		WHERE l.schema = 'main' AND l.type = 'table' AND l.name NOT LIKE 'sqlite\_%' ESCAPE '\'
		AND l.name NOT LIKE 'ladle\_%' ESCAPE '\'
		ORDER BY m.rowid`, nil, func(row *sqlite.Stmt) error {
		entries = append(entries, entry{name: row.ColumnText(0), withoutRowid: row.ColumnBool(1),
			sql: row.ColumnText(2), strict: row.ColumnBool(3)})
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		t := &schema.Table{Name: e.name, Form: kept(e.strict, e.withoutRowid)}
		if err := d.describe(t, e.withoutRowid, e.sql); err != nil {
			return nil, err
		}
		s.Tables = append(s.Tables, t)
	}
	resolveParents(s)
	s.Notes = []string{"SQLite enforces foreign keys only for programs that ask for it; ladle checks them in any case"}
	err = d.each("SELECT name FROM sqlite_schema WHERE type = 'view' ORDER BY name", nil, func(row *sqlite.Stmt) error {
		s.Views = append(s.Views, row.ColumnText(0))
		return nil
	})
	return s, err
}

func kept(strict, withoutRowid bool) string {
	var words []string
	if strict {
		words = append(words, "STRICT")
	}
	if withoutRowid {
		words = append(words, "WITHOUT ROWID")
	}
	return strings.Join(words, ", ")
}

func (d *Database) describe(t *schema.Table, withoutRowid bool, sql string) error {
	primary, err := d.columns(t)
	if err != nil {
		return err
	}
	identity := ""
	if len(primary) == 1 && !withoutRowid && strings.EqualFold(t.Column(primary[0]).Declared, "INTEGER") {
		identity = primary[0]
		t.Column(identity).Identity = true
	}
	if len(primary) > 0 {
		t.Keys = append(t.Keys, schema.Key{Columns: primary, Primary: true})
		t.Indexes = append(t.Indexes, primary)
	}
	t.Locator = locator(t, identity, withoutRowid)
	t.Checks = checksOf(sql)
	for _, step := range []func(*schema.Table) error{d.indexes, d.relations, d.triggers, d.collations(sql), d.sample} {
		if err := step(t); err != nil {
			return err
		}
	}
	return nil
}

// locator is the name of the row number: the identity column, or a name of the hidden one that no column takes
// (sqlite.org/rowidtable.html).
func locator(t *schema.Table, identity string, withoutRowid bool) string {
	if identity != "" || withoutRowid {
		return identity
	}
	for _, name := range rowNumbers {
		if !taken(t, name) {
			return name
		}
	}
	return ""
}

// rowNumbers are the names of the hidden row number.
var rowNumbers = []string{"rowid", "_rowid_", "oid"}

func taken(t *schema.Table, name string) bool {
	for _, c := range t.Columns {
		if strings.EqualFold(c.Name, name) {
			return true
		}
	}
	return false
}

// columns reads the columns and returns those of the primary key, in its order.
func (d *Database) columns(t *schema.Table) ([]string, error) {
	places, strict := map[int]string{}, strings.Contains(t.Form, "STRICT")
	err := d.each("SELECT name, type, \"notnull\", dflt_value, pk, hidden FROM pragma_table_xinfo(?)", []any{t.Name},
		func(row *sqlite.Stmt) error {
			c := schema.Column{Name: row.ColumnText(0), Declared: row.ColumnText(1), Required: row.ColumnBool(2),
				Generated: row.ColumnInt(5) == 2 || row.ColumnInt(5) == 3, Collation: "BINARY"}
			if c.Defaulted = !row.ColumnIsNull(3) && !strings.EqualFold(row.ColumnText(3), "null"); c.Defaulted {
				c.Default = row.ColumnText(3)
			}
			c.Type = declared(c.Declared)
			// ANY means so in STRICT tables only (sqlite.org/stricttables.html, §2); in others it is NUMERIC
			if c.Typeless = c.Declared == "" || strict && strings.EqualFold(c.Declared, "ANY"); c.Typeless {
				c.Type = value.Type{Kind: value.Text}
			}
			if place := row.ColumnInt(4); place > 0 {
				places[place] = c.Name
			}
			t.Columns = append(t.Columns, c)
			return nil
		})
	var primary []string
	for _, place := range slices.Sorted(maps.Keys(places)) {
		primary = append(primary, places[place])
	}
	return primary, err
}

func (d *Database) indexes(t *schema.Table) error {
	return d.each(`SELECT i.name, i."unique", i.origin, i.partial, m.sql FROM pragma_index_list(?) i
		LEFT JOIN sqlite_schema m ON m.name = i.name`,
		[]any{t.Name}, func(row *sqlite.Stmt) error {
			name, unique, origin, partial, sql := row.ColumnText(0), row.ColumnBool(1), row.ColumnText(2),
				row.ColumnBool(3), row.ColumnText(4)
			columns, err := d.indexColumns(name)
			switch {
			case err != nil || origin == "pk":
				return err
			case partial || columns == nil:
				t.Partial = append(t.Partial, sql)
				return nil
			}
			if strings.HasPrefix(name, "sqlite_") {
				name = ""
			}
			t.Indexes = append(t.Indexes, columns)
			if unique {
				t.Keys = append(t.Keys, schema.Key{Name: name, Columns: columns})
			}
			return nil
		})
}

func (d *Database) triggers(t *schema.Table) error {
	return d.each("SELECT name FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? ORDER BY name", []any{t.Name},
		func(row *sqlite.Stmt) error {
			t.Triggers = append(t.Triggers, row.ColumnText(0))
			return nil
		})
}

// indexColumns lists the columns of an index; nil when an expression is among them.
func (d *Database) indexColumns(index string) ([]string, error) {
	var columns []string
	expression := false
	err := d.each("SELECT name FROM pragma_index_info(?) ORDER BY seqno", []any{index}, func(row *sqlite.Stmt) error {
		expression = expression || row.ColumnIsNull(0)
		columns = append(columns, row.ColumnText(0))
		return nil
	})
	if expression {
		columns = nil
	}
	return columns, err
}

func (d *Database) relations(t *schema.Table) error {
	last := -1
	return d.each(`SELECT id, "table", "from", "to" FROM pragma_foreign_key_list(?) ORDER BY id, seq`, []any{t.Name},
		func(row *sqlite.Stmt) error {
			if id := row.ColumnInt(0); id != last {
				t.Relations = append(t.Relations, schema.Relation{Parent: row.ColumnText(1)})
				last = id
			}
			r := &t.Relations[len(t.Relations)-1]
			r.Columns = append(r.Columns, row.ColumnText(2))
			if !row.ColumnIsNull(3) {
				r.ParentColumns = append(r.ParentColumns, row.ColumnText(3))
			}
			return nil
		})
}

// resolveParents finds the parents of all relations. SQLite takes a foreign key as it is written and looks at it only
// when it enforces it (sqlite.org/foreignkeys.html, §3), so its parent may be missing, and its columns too.
func resolveParents(s *schema.Schema) {
	for _, t := range s.Tables {
		for i := range t.Relations {
			r := &t.Relations[i]
			at := slices.IndexFunc(s.Tables, func(p *schema.Table) bool { return strings.EqualFold(p.Name, r.Parent) })
			if at < 0 {
				r.Broken = "there is no table " + r.Parent
				continue
			}
			r.Parent = s.Tables[at].Name
			if r.Broken = follow(r, t, s.Tables[at]); r.Broken == "" {
				r.ParentTable = s.Tables[at]
			}
		}
	}
}

// follow gives a relation the columns of its parent as they are spelt there: by default the primary key. It returns
// why the relation can't be followed.
func follow(r *schema.Relation, child, parent *schema.Table) string {
	if len(r.ParentColumns) == 0 {
		for _, k := range parent.Keys {
			if k.Primary {
				r.ParentColumns = k.Columns
			}
		}
		if r.ParentColumns == nil {
			return parent.Name + " has no primary key"
		}
	}
	if len(r.ParentColumns) != len(r.Columns) {
		return fmt.Sprintf("it has %d columns, and the key of %s has %d", len(r.Columns), parent.Name,
			len(r.ParentColumns))
	}
	r.ParentColumns = slices.Clone(r.ParentColumns)
	for i, name := range r.ParentColumns {
		if r.ParentColumns[i] = spelt(parent, name); r.ParentColumns[i] == "" {
			r.ParentColumns[i] = name
			return fmt.Sprintf("%s has no column %s", parent.Name, name)
		}
		if r.Columns[i] = spelt(child, r.Columns[i]); r.Columns[i] == "" {
			return child.Name + " has no such column"
		}
	}
	return ""
}

// spelt finds a column whatever the case of its letters; a name of the row number is the column that holds it
// (sqlite.org/lang_createtable.html#rowid). It returns "" when there is none.
func spelt(t *schema.Table, name string) string {
	for _, c := range t.Columns {
		if strings.EqualFold(c.Name, name) {
			return c.Name
		}
	}
	if c := t.Identity(); c != nil && slices.ContainsFunc(rowNumbers, func(n string) bool {
		return strings.EqualFold(
			n, name)
	}) {
		return c.Name
	}
	return ""
}

// collations finds the collation of each column: BINARY where the statement that made the table says of none, or else, since no
// pragma tells, that of an index on an empty copy of the table.
func (d *Database) collations(sql string) func(*schema.Table) error {
	return func(t *schema.Table) error {
		if !strings.Contains(strings.ToUpper(sql), "COLLATE") {
			for i := range t.Columns {
				if c := &t.Columns[i]; c.Type.Kind == value.Text {
					c.Collation = "BINARY"
				}
			}
			return nil
		}
		memory, err := sqlite.OpenConn(":memory:", sqlite.OpenReadWrite, sqlite.OpenMemory)
		if err != nil {
			return explain(d.path, err)
		}
		defer memory.Close()
		if err := sqlitex.ExecuteTransient(memory, sql, nil); err != nil {
			return explain(d.path, err)
		}
		for i := range t.Columns {
			c := &t.Columns[i]
			if c.Type.Kind != value.Text {
				continue
			}
			index := fmt.Sprintf("CREATE INDEX ladle_%d ON %s (%s)", i, quote(t.Name), quote(c.Name))
			if err := sqlitex.ExecuteTransient(memory, index, nil); err != nil {
				return explain(d.path, err)
			}
			ask := fmt.Sprintf("SELECT coll FROM pragma_index_xinfo('ladle_%d') WHERE key", i)
			err := sqlitex.ExecuteTransient(memory, ask, &sqlitex.ExecOptions{ResultFunc: func(row *sqlite.Stmt) error {
				c.Collation = strings.ToUpper(row.ColumnText(0))
				return nil
			}})
			if err != nil {
				return explain(d.path, err)
			}
		}
		return d.knownCollations(t)
	}
}

func (d *Database) knownCollations(t *schema.Table) error {
	for _, c := range t.Columns {
		switch c.Collation {
		case "BINARY", "NOCASE", "RTRIM":
		default:
			return fault.At(fault.Wrong, fault.Problem{File: d.path,
				What: fmt.Sprintf("column %s.%s has the collation %s, which is not part of SQLite", t.Name, c.Name,
					c.Collation),
				Do: "declare the column with BINARY, NOCASE or RTRIM"})
		}
	}
	return nil
}

var sizes = regexp.MustCompile(`\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)`)

// declared reads a declared type: by SQLite's rules of affinity (sqlite.org/datatype3.html, §3.1) and, within
// NUMERIC, by the names that people use for what SQLite doesn't know.
func declared(text string) value.Type {
	upper := strings.ToUpper(text)
	first, second := 0, 0
	if m := sizes.FindStringSubmatch(upper); m != nil {
		first, _ = strconv.Atoi(m[1])
		second, _ = strconv.Atoi(m[2])
	}
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(upper, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("INT"):
		return value.Type{Kind: value.Int}
	case has("CHAR", "CLOB", "TEXT"):
		return value.Type{Kind: value.Text, Length: first}
	case has("BLOB"):
		return value.Type{Kind: value.Bytes, Length: first}
	case upper == "":
		return value.Type{Kind: value.Text}
	case has("REAL", "FLOA", "DOUB"):
		return value.Type{Kind: value.Float}
	case has("BOOL"):
		return value.Type{Kind: value.Bool}
	case has("DATETIME", "TIMESTAMP"):
		return value.Type{Kind: value.DateTime}
	case has("DATE"):
		return value.Type{Kind: value.Date}
	case has("TIME"):
		return value.Type{Kind: value.Time}
	case has("NUM", "DEC", "MONEY"):
		return number(first, second)
	}
	return value.Type{Kind: value.Text, Length: first, Storage: value.AsNumberLook}
}

func number(precision, scale int) value.Type {
	t := value.Type{Kind: value.Decimal, Precision: precision, Scale: scale, Storage: value.AsDouble}
	if precision > 0 && precision <= 18 && scale <= precision {
		t.Kind = value.Fixed
	}
	return t
}
