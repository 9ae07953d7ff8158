package postgres

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/jackc/pgerrcode"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Schema reads the tables, partitioned ones included, that this user may see. Those on the search path go by their
// name, others by schema and name.
func (d *Database) Schema(ctx context.Context) (s *schema.Schema, err error) {
	for range readAgain {
		if s, err = d.schema(ctx); err == nil || !vanished(err) {
			break
		}
	}
	return s, err
}

// readAgain is how often the catalogue is read when others make and drop tables meanwhile.
const readAgain = 5

// vanished reports whether what the catalogue was asked about was dropped before it was answered.
func vanished(err error) bool {
	var said *pgconn.PgError
	return errors.As(err, &said) && slices.Contains([]string{pgerrcode.InternalError, pgerrcode.UndefinedTable,
		pgerrcode.InvalidSchemaName, pgerrcode.UndefinedObject, pgerrcode.UndefinedColumn, pgerrcode.UndefinedFunction},
		said.Code)
}

// schema reads the catalogue in one transaction with a search path of nothing but the database's own, so that no
// function or operator that somebody made is run by whoever reads it.
func (d *Database) schema(ctx context.Context) (*schema.Schema, error) {
	clear(d.shared)
	clear(d.types)
	visible := map[uint32]bool{}
	err := d.each(ctx, "SELECT c.oid FROM pg_catalog.pg_class c WHERE pg_catalog.pg_table_is_visible(c.oid)",
		func(row pgx.Rows) error {
			var id uint32
			err := row.Scan(&id)
			visible[id] = true
			return err
		})
	if err != nil {
		return nil, err
	}
	begin, end := "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", "ROLLBACK"
	if d.conn.PgConn().TxStatus() != 'I' { // within a transaction, whose tables are as it sees them
		begin, end = "SAVEPOINT ladle_catalogue", "ROLLBACK TO SAVEPOINT ladle_catalogue"
	}
	for _, statement := range []string{begin, "SET LOCAL search_path TO pg_catalog, pg_temp"} {
		if err := d.exec(ctx, statement); err != nil {
			return nil, err
		}
	}
	s, err := d.tables(ctx, visible)
	ended := d.exec(ctx, end)
	var said *pgconn.PgError
	if errors.As(err, &said) && said.Code == pgerrcode.LockNotAvailable && ended == nil {
		return nil, d.locked(ctx, nil, err)
	}
	return s, errors.Join(err, ended)
}

func (d *Database) tables(ctx context.Context, visible map[uint32]bool) (*schema.Schema, error) {
	s := &schema.Schema{Database: d.name}
	byID := map[uint32]*schema.Table{}
	err := d.each(ctx, `SELECT c.oid, n.nspname, c.relname,
			ARRAY(SELECT g.tgname::text FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal
			AND g.tgenabled <> 'D'
				UNION SELECT r.rulename::text FROM pg_rewrite r WHERE r.ev_class = c.oid ORDER BY 1),
			has_table_privilege(c.oid, 'UPDATE, DELETE, TRUNCATE'), c.relkind = 'p', coalesce(obj_description(c.oid,
			'pg_class'), '')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND has_table_privilege(c.oid, 'SELECT')
		AND n.nspname NOT IN ('pg_catalog', 'information_schema')
		AND n.nspname NOT LIKE 'pg\_%' AND c.relname NOT LIKE 'ladle\_%' ORDER BY c.oid`, func(row pgx.Rows) error {
		var id uint32
		t := &schema.Table{}
		var namespace, name string
		var lockable, partitioned bool
		if err := row.Scan(&id, &namespace, &name, &t.Triggers, &lockable, &partitioned,
			&t.Comment); err != nil {
			return err
		}
		t.Name = name
		if partitioned {
			t.Form = "partitioned"
		}
		if !visible[id] {
			t.Name = namespace + "." + name
		}
		if !lockable {
			d.shared[t] = true
		}
		d.names[t] = pgx.Identifier{namespace, name}.Sanitize()
		byID[id] = t
		s.Tables = append(s.Tables, t)
		return nil
	})
	for _, part := range []func(context.Context, map[uint32]*schema.Table) error{d.columns, d.keys, d.relations,
		d.checks} {
		if err == nil {
			err = part(ctx, byID)
		}
	}
	if err == nil {
		err = d.each(ctx, `SELECT c.oid, n.nspname, c.relname
			FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('v', 'm', 'f')
			AND n.nspname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1`, func(row pgx.Rows) error {
			var id uint32
			var namespace, name string
			err := row.Scan(&id, &namespace, &name)
			if !visible[id] {
				name = namespace + "." + name
			}
			s.Views = append(s.Views, name)
			return err
		})
		slices.Sort(s.Views)
	}
	for _, t := range s.Tables {
		if c := t.Identity(); c != nil && t.Indexed([]string{c.Name}) {
			t.Locator = c.Name
		}
	}
	return s, err
}

// each runs a query of the catalogue and calls take for each of its rows.
func (d *Database) each(ctx context.Context, query string, take func(pgx.Rows) error, arguments ...any) error {
	rows, err := d.conn.Query(ctx, query, arguments...)
	if err != nil {
		return explain(d.name, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := take(rows); err != nil {
			return explain(d.name, err)
		}
	}
	return explain(d.name, rows.Err())
}

// columns reads the columns; a domain is described by the type below it.
func (d *Database) columns(ctx context.Context, byID map[uint32]*schema.Table) error {
	return d.each(ctx, `WITH RECURSIVE base AS (
			SELECT oid AS id, oid AS type, typtype, -1 AS modifier FROM pg_type WHERE typtype <> 'd'
			UNION ALL SELECT t.oid, b.type, b.typtype, CASE WHEN t.typtypmod >= 0 THEN t.typtypmod ELSE b.modifier END
			FROM pg_type t JOIN base b ON t.typbasetype = b.id WHERE t.typtype = 'd')
		SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), t.typname, b.typtype::text,
			CASE WHEN a.atttypmod >= 0 THEN a.atttypmod ELSE b.modifier END,
			a.attnotnull OR (SELECT bool_or(x.typnotnull) FROM pg_type x WHERE x.oid = a.atttypid), a.atthasdef,
			a.attgenerated <> '',
			a.attidentity <> '' OR EXISTS (SELECT 1 FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S'
				WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = a.attrelid
				AND d.refobjsubid = a.attnum AND d.deptype IN ('a', 'i')), -- as pg_get_serial_sequence
			CASE WHEN o.collisdeterministic THEN ''
			ELSE coalesce(quote_ident(on_.nspname) || '.' || quote_ident(o.collname), '') END,
			ARRAY(SELECT e.enumlabel::text FROM pg_enum e WHERE e.enumtypid = b.type ORDER BY e.enumsortorder),
			coalesce(pg_get_expr(df.adbin, df.adrelid), ''), coalesce(col_description(a.attrelid, a.attnum), ''),
			quote_ident(tn.nspname), quote_ident(bn.nspname)
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN base b ON b.id = a.atttypid JOIN pg_type t ON t.oid = b.type
		JOIN pg_type ct ON ct.oid = a.atttypid JOIN pg_namespace tn ON tn.oid = ct.typnamespace
		JOIN pg_namespace bn ON bn.oid = t.typnamespace
		LEFT JOIN pg_attrdef df ON df.adrelid = a.attrelid AND df.adnum = a.attnum
		LEFT JOIN pg_collation o ON o.oid = a.attcollation LEFT JOIN pg_namespace on_ ON on_.oid = o.collnamespace
		WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p') AND n.nspname NOT LIKE 'pg\_%'
		AND n.nspname <> 'information_schema' ORDER BY a.attrelid, a.attnum`, func(row pgx.Rows) error {
		var id uint32
		var c schema.Column
		var name, kind, namespace, base string
		var modifier int
		var labels []string
		if err := row.Scan(&id, &c.Name, &c.Declared, &name, &kind, &modifier, &c.Required, &c.Defaulted, &c.Generated,
			&c.Identity, &c.Collation, &labels, &c.Default, &c.Comment, &namespace,
			&base); err != nil {
			return err
		}
		if c.Identity || c.Generated {
			c.Default = ""
		}
		t := byID[id]
		if t == nil {
			return nil
		}
		c.Type, c.Odd = typeOf(name, kind, modifier, labels)
		if short, is := strings.CutPrefix(c.Declared, namespace+"."); is {
			if known := d.types[short]; known == "" || known == c.Declared {
				d.types[short], c.Declared = c.Declared, short
			}
		}
		if name == citext {
			c.Collation, d.citextSchema = citext, base
		}
		t.Columns = append(t.Columns, c)
		return nil
	})
}

// citext stands for the collation of columns of the type citext.
const citext = "citext"

// typeOf says what a base type takes, or why it can't be used.
func typeOf(name, kind string, modifier int, labels []string) (value.Type, string) {
	if kind == "e" {
		return value.Type{Kind: value.Text, Among: &labels}, ""
	}
	length := max(modifier-4, 0) // of a text, behind the four bytes that its header takes
	switch name {
	case "int2":
		return value.Type{Kind: value.Int, Least: math.MinInt16, Most: math.MaxInt16}, ""
	case "int4":
		return value.Type{Kind: value.Int, Least: math.MinInt32, Most: math.MaxInt32}, ""
	case "int8":
		return value.Type{Kind: value.Int}, ""
	case "numeric":
		return numeric(modifier)
	case "float4":
		return value.Type{Kind: value.Float, Storage: value.AsSingle, Special: true}, ""
	case "float8":
		return value.Type{Kind: value.Float, Special: true}, ""
	case "bool":
		return value.Type{Kind: value.Bool}, ""
	case "text", "citext", "name":
		return value.Type{Kind: value.Text}, ""
	case "varchar":
		return value.Type{Kind: value.Text, Length: length}, ""
	case "bpchar":
		return value.Type{Kind: value.Text, Length: length, Storage: value.AsPadded}, ""
	case "uuid":
		return value.Type{Kind: value.Text, Storage: value.AsUUID}, ""
	case "jsonb":
		return value.Type{Kind: value.Text, Storage: value.AsJSON}, ""
	case "json":
		return value.Type{Kind: value.Text, Storage: value.AsJSON}, ""
	case "bytea":
		return value.Type{Kind: value.Bytes}, ""
	case "date":
		return value.Type{Kind: value.Date}, ""
	case "time":
		return value.Type{Kind: value.Time, Step: step(modifier)}, ""
	case "interval":
		return value.Type{Kind: value.Time, Step: step(modifier & 0xffff), Long: true}, ""
	case "timestamp":
		return value.Type{Kind: value.DateTime, Step: step(modifier)}, ""
	case "timestamptz":
		return value.Type{Kind: value.DateTime, Step: step(modifier), Zoned: true}, ""
	}
	return value.Type{}, "ladle does not support its type"
}

// numeric reads precision and scale from a type modifier; the scale is its lower 11 bits, with a sign.
func numeric(modifier int) (value.Type, string) {
	if modifier < 0 {
		return value.Type{Kind: value.Decimal}, ""
	}
	precision, scale := (modifier-4)>>16&0xffff, (modifier-4)&0x7ff
	if scale >= 1024 || scale > precision {
		return value.Type{}, "its scale is below zero or greater than its precision"
	}
	t := value.Type{Kind: value.Decimal, Precision: precision, Scale: scale}
	if precision <= 18 {
		t.Kind = value.Fixed
	}
	return t, ""
}

// step is the finest difference, in microseconds, of times with a precision; -1 stands for six digits.
func step(precision int) int64 {
	if precision < 0 {
		return 1
	}
	s := int64(1)
	for range 6 - precision {
		s *= 10
	}
	return s
}

// keys reads the unique constraints and all indexes.
func (d *Database) keys(ctx context.Context, byID map[uint32]*schema.Table) error {
	return d.each(ctx, `SELECT i.indrelid, c.relname, i.indisprimary, i.indisunique AND i.indisvalid,
		i.indexprs IS NULL AND i.indpred IS NULL,
			CASE WHEN i.indexprs IS NULL AND i.indpred IS NULL THEN ''
			ELSE coalesce(pg_get_indexdef(i.indexrelid), '') END, -- NULL while somebody drops it
			ARRAY(SELECT a.attname::text FROM unnest(i.indkey[0:i.indnkeyatts-1]) WITH ORDINALITY k(n, o)
				JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.n ORDER BY k.o)
		FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid ORDER BY i.indrelid, i.indisprimary DESC, i.indexrelid`,
		func(row pgx.Rows) error {
			var id uint32
			var primary, unique, plain bool
			var name, definition string
			var columns []string
			if err := row.Scan(&id, &name, &primary, &unique, &plain, &definition, &columns); err != nil {
				return err
			}
			t := byID[id]
			switch {
			case t == nil:
			case !plain:
				t.Partial = append(t.Partial, definition)
			case len(columns) > 0:
				t.Indexes = append(t.Indexes, columns)
				if unique {
					t.Keys = append(t.Keys, schema.Key{Name: name, Columns: columns, Primary: primary})
				}
			}
			return nil
		})
}

func (d *Database) checks(ctx context.Context, byID map[uint32]*schema.Table) error {
	return d.each(ctx, `SELECT conrelid, conname, CASE contype
			WHEN 'c' THEN 'CHECK (' || coalesce(pg_get_expr(conbin, conrelid, true), '') || ')'
				|| CASE WHEN to_jsonb(c)->>'conenforced' = 'false' THEN ' NOT ENFORCED' WHEN convalidated THEN ''
					ELSE ' NOT VALID' END
			ELSE coalesce(pg_get_constraintdef(oid, true), '') END,
			CASE WHEN contype = 'c' AND coalesce(to_jsonb(c)->>'conenforced', 'true') = 'true'
			THEN coalesce(pg_get_expr(conbin, conrelid, true), '') ELSE '' END FROM pg_constraint c
		WHERE contype IN ('c', 'x') AND conrelid <> 0
		ORDER BY conname`, func(row pgx.Rows) error {
		var id uint32
		var c schema.Check
		if err := row.Scan(&id, &c.Name, &c.Says, &c.Condition); err != nil {
			return err
		}
		if t := byID[id]; t != nil {
			t.Checks = append(t.Checks, c)
		}
		return nil
	})
}

func (d *Database) relations(ctx context.Context, byID map[uint32]*schema.Table) error {
	names := func(relation, numbers string) string {
		return fmt.Sprintf(`ARRAY(SELECT a.attname::text FROM unnest(%s) WITH ORDINALITY k(n, o)
			JOIN pg_attribute a ON a.attrelid = %s AND a.attnum = k.n ORDER BY k.o)`, numbers, relation)
	}
	return d.each(ctx, `SELECT conrelid, confrelid, conname, `+names("conrelid", "conkey")+`, `+names("confrelid",
		"confkey")+`,
			CASE WHEN EXISTS (SELECT 1 FROM pg_trigger g WHERE g.tgconstraint = c.oid AND g.tgenabled = 'D')
			THEN 'its triggers are switched off'
				WHEN to_jsonb(c)->>'conenforced' = 'false' THEN 'it is declared NOT ENFORCED'
				WHEN NOT convalidated THEN 'it was never validated, so older rows may break it' ELSE '' END,
			CASE WHEN to_jsonb(c)->>'conperiod' = 'true' THEN 'it is about periods, which only the database compares'
			ELSE '' END
		FROM pg_constraint c WHERE contype = 'f' AND conparentid = 0 ORDER BY oid`, func(row pgx.Rows) error {
		var child, parent uint32
		var r schema.Relation
		if err := row.Scan(&child, &parent, &r.Name, &r.Columns, &r.ParentColumns, &r.Off, &r.Broken); err != nil {
			return err
		}
		if t, p := byID[child], byID[parent]; t != nil && p != nil {
			if r.Parent = p.Name; r.Broken == "" {
				r.ParentTable = p
			}
			t.Relations = append(t.Relations, r)
		}
		return nil
	})
}

// sequence is the name of the sequence behind the identity column of t, as an SQL literal.
func (d *Database) sequence(ctx context.Context, t *schema.Table) (name string, err error) {
	err = d.conn.QueryRow(ctx, "SELECT pg_catalog.pg_get_serial_sequence($1, $2)", d.table(t), t.Locator).Scan(&name)
	return name, explain(d.name, err)
}

// relationName is the parent of a relation in SQL.
func (d *Database) relationName(r *schema.Relation) string {
	if r.ParentTable != nil {
		return d.table(r.ParentTable)
	}
	return quote(strings.TrimSpace(r.Parent))
}
