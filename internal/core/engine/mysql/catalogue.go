package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"regexp"
	"strings"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Schema reads the tables of the connection's database.
func (d *Database) Schema(ctx context.Context) (*schema.Schema, error) {
	d.own.Forget()
	s := &schema.Schema{Database: d.name}
	err := d.each(ctx, `SELECT t.table_name, t.engine, coalesce(e.transactions, 'NO'), t.table_comment
		FROM information_schema.tables t
		LEFT JOIN information_schema.engines e ON e.engine = t.engine
		WHERE t.table_schema = database() AND t.table_type = 'BASE TABLE' AND t.table_name NOT LIKE 'ladle\_%'
		ORDER BY t.table_name`,
		func(row *sql.Rows) error {
			t := &schema.Table{}
			var storage, transactions string
			err := row.Scan(&t.Name, &storage, &transactions, &t.Comment)
			if transactions != "YES" {
				t.Odd = fmt.Sprintf("its storage engine %s has no transactions, so nothing could be rolled back",
					storage)
			}
			d.numbers[t] = len(s.Tables)
			s.Tables = append(s.Tables, t)
			return err
		})
	for _, part := range []func(context.Context, *schema.Schema) error{d.columns, d.keys, d.relations, d.triggers,
		d.checks, d.views} {
		if err == nil {
			err = part(ctx, s)
		}
	}
	for _, t := range s.Tables {
		if c := t.Identity(); c != nil {
			t.Locator = c.Name
		}
	}
	return s, err
}

func (d *Database) columns(ctx context.Context, s *schema.Schema) error {
	return d.each(ctx, `SELECT table_name, column_name, column_type, data_type, coalesce(character_maximum_length, 0),
			coalesce(numeric_precision, 0), coalesce(numeric_scale, 0), coalesce(datetime_precision, 0),
			is_nullable = 'NO',
			column_default IS NOT NULL AND column_default <> 'NULL', coalesce(column_default, ''), extra,
			coalesce(collation_name, ''), column_comment
		FROM information_schema.columns WHERE table_schema = database() ORDER BY table_name, ordinal_position`,
		func(row *sql.Rows) error {
			var table, kind, extra string
			var length, precision, scale, fraction int64
			var c schema.Column
			if err := row.Scan(&table, &c.Name, &c.Declared, &kind, &length, &precision, &scale, &fraction, &c.Required,
				&c.Defaulted, &c.Default, &extra, &c.Collation, &c.Comment); err != nil {
				return err
			}
			if !c.Defaulted {
				c.Default = ""
			}
			t := s.Table(table)
			if t == nil {
				return nil
			}
			extra = strings.ToUpper(extra)
			c.Identity = strings.Contains(extra, "AUTO_INCREMENT")
			c.Generated = strings.Contains(extra, "VIRTUAL GENERATED") || strings.Contains(extra, "STORED GENERATED") ||
				strings.Contains(extra, "PERSISTENT")
			c.Type, c.Odd = typeOf(strings.ToLower(kind), strings.ToLower(c.Declared), c.Declared, int(length),
				int(precision), int(scale), int(fraction))
			t.Columns = append(t.Columns, c)
			return nil
		})
}

// bounds are those of the signed whole numbers, and of the unsigned ones.
var bounds = map[string][2]value.Type{
	"tinyint":   {{Least: math.MinInt8, Most: math.MaxInt8}, {Least: 0, Most: math.MaxUint8}},
	"smallint":  {{Least: math.MinInt16, Most: math.MaxInt16}, {Least: 0, Most: math.MaxUint16}},
	"mediumint": {{Least: -1 << 23, Most: 1<<23 - 1}, {Least: 0, Most: 1<<24 - 1}},
	"int":       {{Least: math.MinInt32, Most: math.MaxInt32}, {Least: 0, Most: math.MaxUint32}},
	"year":      {{Least: 1901, Most: 2155}, {Least: 1901, Most: 2155}},
}

// typeOf says what a type takes, or why it can't be used; full is the type as it was declared, in lower case.
func typeOf(kind, full, declared string, length, precision, scale, fraction int) (value.Type, string) {
	unsigned := 0
	if strings.Contains(full, "unsigned") {
		unsigned = 1
	}
	t := value.Type{}
	switch kind {
	case "tinyint", "smallint", "mediumint", "int", "year":
		if full == "tinyint(1)" {
			return value.Type{Kind: value.Bool}, ""
		}
		t = bounds[kind][unsigned]
		t.Kind = value.Int
	case "bigint":
		t.Kind = value.Int
		if unsigned == 1 {
			t = value.Type{Kind: value.Decimal, Precision: 20}
		}
	case "decimal":
		t = value.Type{Kind: value.Decimal, Precision: precision, Scale: scale}
		if precision <= 18 {
			t.Kind = value.Fixed
		}
	case "float":
		t = value.Type{Kind: value.Float, Storage: value.AsSingle}
	case "double":
		t.Kind = value.Float
	case "char":
		t = value.Type{Kind: value.Text, Length: length, Storage: value.AsPadded}
	case "varchar":
		t = value.Type{Kind: value.Text, Length: length}
	case "tinytext", "text", "mediumtext", "longtext", "set":
		t.Kind = value.Text
	case "enum":
		t = value.Type{Kind: value.Text, Among: labels(declared)}
	case "json":
		t = value.Type{Kind: value.Text, Storage: value.AsJSON}
	case "uuid":
		t = value.Type{Kind: value.Text, Storage: value.AsUUID}
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		t = value.Type{Kind: value.Bytes, Length: length}
	case "date":
		t.Kind = value.Date
	case "time":
		most := value.Clock(838, 59, 59) // mariadb.com/kb/en/time, dev.mysql.com/doc/refman/8.0/en/time.html
		t = value.Type{Kind: value.Time, Step: step(fraction), Long: true, Least: -most, Most: most}
	case "datetime":
		t = value.Type{Kind: value.DateTime, Step: step(fraction)}
	case "timestamp":
		t = value.Type{Kind: value.DateTime, Step: step(fraction), Zoned: true}
	default:
		return t, "ladle does not support its type"
	}
	return t, ""
}

// step is the finest difference, in microseconds, of times with digits behind the second.
func step(digits int) int64 {
	s := int64(1)
	for range 6 - digits {
		s *= 10
	}
	return s
}

var label = regexp.MustCompile(`'((?:[^']|'')*)'`)

// escapes are how the server writes characters of labels (dev.mysql.com/doc/refman/8.0/en/string-literals.html).
var escapes = strings.NewReplacer("''", "'", `\\`, `\`, `\n`, "\n", `\r`, "\r", `\t`, "\t", `\0`, "\x00", `\Z`, "\x1a")

// labels reads the words of an enum('a','b').
func labels(declared string) *[]string {
	var all []string
	for _, m := range label.FindAllStringSubmatch(declared, -1) {
		all = append(all, escapes.Replace(m[1]))
	}
	return &all
}

// keys reads the indexes; one on the start of a column only finds, but holds nothing unique.
func (d *Database) keys(ctx context.Context, s *schema.Schema) error {
	type index struct {
		table           *schema.Table
		name            string
		unique, partial bool
		columns         []string
	}
	var all []*index
	err := d.each(ctx, `SELECT table_name, index_name, non_unique = 0, coalesce(column_name, ''), sub_part IS NOT NULL
		FROM information_schema.statistics WHERE table_schema = database()
		ORDER BY table_name, index_name <> 'PRIMARY', index_name, seq_in_index`, func(row *sql.Rows) error {
		var table, name, column string
		var unique, partial bool
		if err := row.Scan(&table, &name, &unique, &column, &partial); err != nil {
			return err
		}
		t := s.Table(table)
		if t == nil {
			return nil
		}
		if len(all) == 0 || all[len(all)-1].table != t || all[len(all)-1].name != name {
			all = append(all, &index{table: t, name: name, unique: unique})
		}
		last := all[len(all)-1]
		last.columns = append(last.columns, column)
		last.partial = last.partial || partial || column == ""
		return nil
	})
	for _, x := range all {
		if x.partial {
			x.table.Partial = append(x.table.Partial, fmt.Sprintf("%s, on the start of columns or on expressions",
				x.name))
			continue
		}
		x.table.Indexes = append(x.table.Indexes, x.columns)
		if x.unique {
			x.table.Keys = append(x.table.Keys, schema.Key{Name: x.name, Columns: x.columns,
				Primary: x.name == "PRIMARY"})
		}
	}
	return err
}

func (d *Database) relations(ctx context.Context, s *schema.Schema) error {
	on, err := d.one(ctx, "SELECT @@global.foreign_key_checks")
	if err != nil {
		return err
	}
	off := ""
	if on == 0 {
		off = "foreign_key_checks is switched off on the server"
	}
	last := ""
	return d.each(ctx, `SELECT table_name, constraint_name, column_name, referenced_table_name, referenced_column_name
		FROM information_schema.key_column_usage WHERE table_schema = database()
		AND referenced_table_schema = database()
		ORDER BY table_name, constraint_name, ordinal_position`, func(row *sql.Rows) error {
		var table, name, column, parent, parentColumn string
		if err := row.Scan(&table, &name, &column, &parent, &parentColumn); err != nil {
			return err
		}
		t := s.Table(table)
		if t == nil {
			return nil
		}
		if last != table+"."+name {
			last = table + "." + name
			t.Relations = append(t.Relations, schema.Relation{Name: name, Off: off, Parent: parent,
				ParentTable: s.Table(parent)})
		}
		r := &t.Relations[len(t.Relations)-1]
		r.Columns, r.ParentColumns = append(r.Columns, column), append(r.ParentColumns, parentColumn)
		return nil
	})
}

func (d *Database) triggers(ctx context.Context, s *schema.Schema) error {
	return d.each(ctx, `SELECT event_object_table, trigger_name FROM information_schema.triggers
		WHERE event_object_schema = database()
		ORDER BY trigger_name`, func(row *sql.Rows) error {
		var table, name string
		err := row.Scan(&table, &name)
		if t := s.Table(table); t != nil {
			t.Triggers = append(t.Triggers, name)
		}
		return err
	})
}

// checks reads the CHECK constraints. MariaDB names the table beside each; in MySQL their names are unique.
func (d *Database) checks(ctx context.Context, s *schema.Schema) error {
	named, err := d.one(ctx, `SELECT count(*) FROM information_schema.columns WHERE table_schema = 'information_schema'
		AND table_name = 'CHECK_CONSTRAINTS' AND column_name = 'TABLE_NAME'`)
	if err != nil {
		return err
	}
	query := `SELECT t.table_name, c.constraint_name, c.check_clause, t.enforced = 'YES'
		FROM information_schema.check_constraints c
		JOIN information_schema.table_constraints t ON t.constraint_schema = c.constraint_schema
		AND t.constraint_name = c.constraint_name
		WHERE c.constraint_schema = database() AND t.constraint_type = 'CHECK' ORDER BY c.constraint_name`
	if named > 0 {
		query = `SELECT table_name, constraint_name, check_clause, @@check_constraint_checks
			FROM information_schema.check_constraints WHERE constraint_schema = database() ORDER BY constraint_name`
	}
	return d.each(ctx, query, func(row *sql.Rows) error {
		var table string
		var c schema.Check
		var enforced bool
		err := row.Scan(&table, &c.Name, &c.Says, &enforced)
		if enforced {
			c.Condition = c.Says
		}
		if t := s.Table(table); t != nil {
			c.Says = "CHECK (" + c.Says + ")"
			t.Checks = append(t.Checks, c)
		}
		return err
	})
}

func (d *Database) views(ctx context.Context, s *schema.Schema) error {
	return d.each(ctx, "SELECT table_name FROM information_schema.views WHERE table_schema = database() ORDER BY "+
		"table_name", func(row *sql.Rows) error {
		var name string
		err := row.Scan(&name)
		s.Views = append(s.Views, name)
		return err
	})
}
