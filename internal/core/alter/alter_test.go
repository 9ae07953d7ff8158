package alter

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/propose"
	"ladle/internal/core/schema"
)

func TestTypesThatTakeAllValuesOfOthers(t *testing.T) {
	for _, c := range []struct {
		from, to string
		in       propose.Dialect
		widens   bool
	}{
		{"VARCHAR(20)", "varchar(21)", propose.Postgres, true},
		{"character varying(20)", "VARCHAR (19)", propose.Postgres, false},
		{"varchar(20)", "text", propose.Postgres, true},
		{"text", "varchar(2000)", propose.Postgres, false},
		{"char(4)", "varchar(4)", propose.Postgres, true},
		{"varchar(4)", "char(4)", propose.Postgres, false}, // which fills up with blanks
		{"smallint", "integer", propose.Postgres, true},
		{"integer", "smallint", propose.Postgres, false},
		{"int(11)", "bigint(20)", propose.MySQL, true},
		{"int(11)", "int(10) unsigned", propose.MySQL, false},
		{"int(10) unsigned", "bigint(20)", propose.MySQL, true},
		{"bigint(20) unsigned", "bigint(20)", propose.MySQL, false},
		{"INTEGER", "SMALLINT", propose.SQLite, true}, // which are both of 64 bits
		{"decimal(6,2)", "decimal(8,3)", propose.Postgres, true},
		{"decimal(6,2)", "decimal(6,3)", propose.Postgres, false}, // one digit less before the point
		{"decimal(6,2)", "decimal(8,1)", propose.Postgres, false},
		{"numeric", "numeric(20,4)", propose.Postgres, false},
		{"numeric(20,4)", "numeric", propose.Postgres, true},
		{"smallint", "decimal(5,0)", propose.Postgres, true},
		{"smallint", "decimal(5,1)", propose.Postgres, false},
		{"bigint", "decimal(19,0)", propose.Postgres, true},
		{"real", "double precision", propose.Postgres, true},
		{"double precision", "real", propose.Postgres, false},
		{"float", "double", propose.MySQL, true},
		{"float", "double precision", propose.Postgres, true},
		{"date", "timestamp", propose.Postgres, false},
		{"timestamp without time zone", "timestamp", propose.Postgres, true},
		{"boolean", "BOOL", propose.Postgres, true},
	} {
		from, known := typeOf(c.from, c.in)
		require.True(t, known, c.from)
		to, known := typeOf(c.to, c.in)
		require.True(t, known, c.to)
		assert.Equal(t, c.widens, widens(from, to), "%s to %s", c.from, c.to)
	}
	for _, declared := range []string{"", "uuid", "timestamp with time zone", "enum('a','b')", "int; drop table x",
		"varchar(x)"} {
		_, known := typeOf(declared, propose.Postgres)
		assert.False(t, known, declared)
	}
}

func TestValuesThatFit(t *testing.T) {
	for _, c := range []struct {
		declared, text string
		fits           bool
	}{
		{"varchar(3)", "über", false}, {"varchar(4)", "über", true}, {"smallint", "32768", false}, {"smallint", "-32768",
			true},
		{"smallint", "1.5", false}, {"decimal(4,1)", "99.9", true}, {"decimal(4,1)", "9.95", false}, {"decimal(4,1)",
			"1000", false},
		{"date", "2026-02-29", false}, {"date", "2028-02-29", true}, {"integer", "N1", false},
	} {
		to, known := typeOf(c.declared, propose.MySQL)
		require.True(t, known)
		assert.Equal(t, c.fits, fits(to, []byte(c.text)), "%s in %s", c.text, c.declared)
	}
}

func TestWritingSQL(t *testing.T) {
	for from, to := range map[string]string{"a > 0": "(a > 0)", "(a > 0)": "(a > 0)", "(a) > (b)": "((a) > (b))",
		"((a) > (b))": "((a) > (b))"} {
		assert.Equal(t, to, enclosed(from))
	}
	for _, c := range [][3]string{{"postgres", "Big Quay", `"Big Quay"`}, {"mysql", "a`b", "`a``b`"}, {"sqlite", `a"b`, `"a""b"`},
		{"postgres", "order", `"order"`}, {"mysql", "berth_2", "berth_2"}} {
		assert.Equal(t, c[2], writer{Dialect: propose.Dialect(c[0])}.Name(c[1]))
	}
	assert.Equal(t, `port."Berth"`, writer{Dialect: propose.Postgres}.Table("port.Berth"))
	assert.Equal(t, `'it''s \\ two'`, writer{Dialect: propose.MySQL}.text(`it's \ two`))
	assert.True(t, sameDefault("'t'", "'t'::character varying"))
	assert.True(t, sameDefault("5", "5::numeric(4,1)"))
	assert.False(t, sameDefault("'a::text'", "'b'"))
	assert.True(t, plausible("VARCHAR(9)"))
	for _, odd := range []string{"INT; DROP TABLE x", "INT -- x", "INT /* x"} {
		assert.False(t, plausible(odd), odd)
	}
}

const port = `CREATE TABLE quay (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
	CREATE TABLE berth (code TEXT NOT NULL UNIQUE, depth INTEGER CHECK (depth > 0),
		both TEXT GENERATED ALWAYS AS (code || depth));
	CREATE TABLE stay (berth TEXT NOT NULL REFERENCES berth (code) ON DELETE CASCADE, day DATE, no INTEGER);
	CREATE INDEX by_day ON stay (day); CREATE INDEX by_name ON quay (name, id) WHERE id > 3;
	CREATE TRIGGER named AFTER INSERT ON quay BEGIN SELECT 1; END;
	INSERT INTO quay (name) VALUES ('North'), ('South'); INSERT INTO berth VALUES ('N1', 4), ('N2', NULL);`

// planned is what leads from the port to what edit makes of its dictionary.
func planned(t *testing.T, edit func(table map[string]*dictionary.Table, d *dictionary.Dictionary), allow ...string) (*Alteration, error) {
	t.Helper()
	db, err := sqlite.NewScratch(port)
	require.NoError(t, err)
	defer db.Close()
	ctx := context.Background()
	s, err := db.Schema(ctx)
	require.NoError(t, err)
	d, err := dictionary.Make(ctx, db, s, dictionary.Options{})
	require.NoError(t, err)
	tables := map[string]*dictionary.Table{}
	for i := range d.Tables {
		tables[d.Tables[i].Name] = &d.Tables[i]
	}
	edit(tables, d)
	return Make(ctx, db, s, d, propose.SQLite, allow)
}

func TestTablesOfSQLiteAreRebuilt(t *testing.T) {
	a, err := planned(t, func(table map[string]*dictionary.Table, _ *dictionary.Dictionary) {
		table["quay"].Columns[1].Declared = "VARCHAR(30)"
		table["quay"].Columns = append(table["quay"].Columns, schema.ColumnOutline{Name: "lit", Declared: "INTEGER", Required: true, Default: "1"})
	}, "quay.name")
	require.NoError(t, err)
	for _, stopped := range a.Stopped() {
		assert.Fail(t, stopped.Name(), "%s: %s %s", stopped.Does, stopped.Refused, stopped.Loses)
	}
	sql := a.SQL()
	for _, says := range []string{"PRAGMA foreign_keys = OFF;\nBEGIN;\n", "CREATE TABLE ladle_new_quay (\n    id INTEGER PRIMARY KEY,\n" +
		"    name VARCHAR(30) NOT NULL,\n    lit INTEGER NOT NULL DEFAULT 1,\n    UNIQUE (name)\n)",
		"INSERT INTO ladle_new_quay (id, name) SELECT id, name FROM quay;\nDROP TABLE quay;\nALTER TABLE ladle_new_quay RENAME TO quay;\n",
		"CREATE INDEX by_name ON quay (name, id) WHERE id > 3;\nCREATE TRIGGER named AFTER INSERT", "COMMIT;\nPRAGMA foreign_keys = ON;"} {
		assert.Contains(t, sql, says)
	}
	a, err = planned(t, func(table map[string]*dictionary.Table, _ *dictionary.Dictionary) {
		table["quay"].Columns = append(table["quay"].Columns, schema.ColumnOutline{Name: "note", Declared: "TEXT"})
	})
	require.NoError(t, err)
	assert.Contains(t, a.SQL(), "ALTER TABLE quay ADD COLUMN note TEXT;", "a column is added in place")
}

func TestWhatAPlanCantHold(t *testing.T) {
	column := func(name, declared string) schema.ColumnOutline {
		return schema.ColumnOutline{Name: name, Declared: declared}
	}
	for _, c := range []struct {
		name string
		edit func(table map[string]*dictionary.Table, d *dictionary.Dictionary)
		why  string
	}{
		{"a foreign key with an action", func(table map[string]*dictionary.Table, _ *dictionary.Dictionary) {
			table["stay"].Columns[1].Required = true
		}, "its foreign key to berth has an ON UPDATE or ON DELETE action"},
		{"a computed column", func(table map[string]*dictionary.Table, _ *dictionary.Dictionary) {
			table["berth"].Columns[1].Default = "3"
		}, "both is computed, and the plan doesn't say how"},
		{"a table without columns", func(_ map[string]*dictionary.Table, d *dictionary.Dictionary) {
			d.Tables = append(d.Tables, dictionary.Table{TableOutline: schema.TableOutline{Name: "tide"}})
		}, "it has no columns"},
		{"a new table that refers to nothing", func(_ map[string]*dictionary.Table, d *dictionary.Dictionary) {
			d.Tables = append(d.Tables, dictionary.Table{TableOutline: schema.TableOutline{Name: "tide", Columns: []schema.ColumnOutline{
				column("at", "DATE")}, PointsAt: []schema.Reference{{Table: "moon", Columns: []string{"at"}, Keys: []string{"day"}}}}})
		}, "it refers to moon, which is not there"},
		{"two auto-numbered columns", func(_ map[string]*dictionary.Table, d *dictionary.Dictionary) {
			d.Tables = append(d.Tables, dictionary.Table{TableOutline: schema.TableOutline{Name: "tide", Columns: []schema.ColumnOutline{
				{Name: "a", Declared: "INTEGER", Counted: true}, {Name: "b", Declared: "INTEGER", Counted: true}}}})
		}, "a and b are both auto-numbered"},
		{"another number", func(table map[string]*dictionary.Table, _ *dictionary.Dictionary) {
			table["quay"].Columns[0].Counted = false
		}, "that can't be planned"},
		{"a key of a column that isn't there", func(table map[string]*dictionary.Table, _ *dictionary.Dictionary) {
			table["quay"].Keys = append(table["quay"].Keys, []string{"no"})
		}, "there is no column no"},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, err := planned(t, c.edit, []string{}...)
			require.NoError(t, err)
			var why []string
			for _, stopped := range a.Stopped() {
				why = append(why, stopped.Refused)
			}
			assert.Contains(t, strings.Join(why, "\n"), c.why)
		})
	}
	_, err := planned(t, func(map[string]*dictionary.Table, *dictionary.Dictionary) {}, "stya")
	assert.ErrorContains(t, err, "no change of this plan loses data of stya")
	a, err := planned(t, func(_ map[string]*dictionary.Table, d *dictionary.Dictionary) { d.Tables = d.Tables[:0] }, "stay", "quay")
	require.NoError(t, err)
	assert.Equal(t, []string{"the table berth is not in the plan, and stays"}, a.Notes)
	assert.Contains(t, a.SQL(), "DROP TABLE stay;")
}
