package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
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
	clear(d.sequences)
	d.own.Forget()
	visible := map[uint32]bool{}
	err := d.each(ctx, "SELECT c.oid FROM pg_catalog.pg_class c WHERE c.relkind OPERATOR(pg_catalog.=) ANY ('{r,p,v,m,f}'::pg_catalog."+
		"\"char\"[]) AND pg_catalog.pg_table_is_visible(c.oid)",
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
	types, err := d.typesOf(ctx, byID)
	if err != nil {
		return err
	}
	return d.each(ctx, `SELECT a.attrelid, a.attname, a.atttypid, a.atttypmod, format_type(a.atttypid, a.atttypmod),
			a.attnotnull, a.atthasdef, a.attgenerated <> '',
			a.attidentity <> '' OR EXISTS (SELECT 1 FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S'
				WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = a.attrelid
				AND d.refobjsubid = a.attnum AND d.deptype IN ('a', 'i')), -- as pg_get_serial_sequence
			coalesce((SELECT o.collnamespace::regnamespace || '.' || quote_ident(o.collname) FROM pg_collation o
				WHERE o.oid = a.attcollation AND NOT o.collisdeterministic), ''),
			coalesce((SELECT pg_get_expr(f.adbin, f.adrelid) FROM pg_attrdef f
				WHERE f.adrelid = a.attrelid AND f.adnum = a.attnum), ''),
			coalesce(col_description(a.attrelid, a.attnum), '')
		FROM pg_attribute a WHERE a.attrelid = ANY ($1) AND a.attnum > 0 AND NOT a.attisdropped
		ORDER BY a.attrelid, a.attnum`, func(row pgx.Rows) error {
		var table, kind uint32
		var modifier int
		var c schema.Column
		if err := row.Scan(&table, &c.Name, &kind, &modifier, &c.Declared, &c.Required, &c.Defaulted, &c.Generated,
			&c.Identity, &c.Collation, &c.Default, &c.Comment); err != nil {
			return err
		}
		if c.Identity || c.Generated {
			c.Default = ""
		}
		own := types[kind]
		base := own
		for base.kind == domain {
			c.Required = c.Required || base.required
			if modifier < 0 {
				modifier = base.modifier
			}
			base = types[base.of]
		}
		c.Type, c.Odd = typeOf(base.name, base.kind, modifier, base.labels)
		if short, is := strings.CutPrefix(c.Declared, own.schema+"."); is {
			if known := d.types[short]; known == "" || known == c.Declared {
				d.types[short], c.Declared = c.Declared, short
			}
		}
		if base.name == citext {
			c.Collation, d.citextSchema = citext, base.schema
		}
		t := byID[table]
		t.Columns = append(t.Columns, c)
		return nil
	}, idsOf(byID))
}

// idsOf are the numbers of tables, as an argument of a query.
func idsOf(byID map[uint32]*schema.Table) []uint32 { return slices.Sorted(maps.Keys(byID)) }

// domain is the kind of domains in the catalogue.
const domain = "d"

// typeEntry is a type of the catalogue.
type typeEntry struct {
	name     string
	kind     string
	schema   string   // in SQL
	labels   []string // of an enumeration
	of       uint32   // the type that a domain is made of
	modifier int      // that a domain gives to it; -1 for none
	required bool     // a domain takes no NULL
}

// typesOf are the types of the columns of some tables, by their numbers, and those that domains among them are made of.
func (d *Database) typesOf(ctx context.Context, byID map[uint32]*schema.Table) (map[uint32]typeEntry, error) {
	types := map[uint32]typeEntry{}
	which, ids := "SELECT atttypid FROM pg_attribute WHERE attrelid = ANY ($1) AND attnum > 0 AND NOT attisdropped",
		idsOf(byID)
	for len(ids) > 0 {
		var below []uint32
		err := d.each(ctx, `SELECT t.oid, t.typname, t.typtype::text, t.typnamespace::regnamespace::text, t.typbasetype,
				t.typtypmod, t.typnotnull,
				ARRAY(SELECT e.enumlabel::text FROM pg_enum e WHERE e.enumtypid = t.oid ORDER BY e.enumsortorder)
			FROM pg_type t WHERE t.oid IN (`+which+`)`, func(row pgx.Rows) error {
			var id uint32
			var e typeEntry
			err := row.Scan(&id, &e.name, &e.kind, &e.schema, &e.of, &e.modifier, &e.required, &e.labels)
			types[id] = e
			if e.kind == domain {
				below = append(below, e.of)
			}
			return err
		}, ids)
		if err != nil {
			return nil, err
		}
		which, ids = "SELECT unnest($1::oid[])", below
	}
	return types, nil
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
		FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indrelid = ANY ($1)
		ORDER BY i.indrelid, i.indisprimary DESC, i.indexrelid`,
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
			case !plain:
				t.Partial = append(t.Partial, definition)
			case len(columns) > 0:
				t.Indexes = append(t.Indexes, columns)
				if unique {
					t.Keys = append(t.Keys, schema.Key{Name: name, Columns: columns, Primary: primary})
				}
			}
			return nil
		}, idsOf(byID))
}

func (d *Database) checks(ctx context.Context, byID map[uint32]*schema.Table) error {
	return d.each(ctx, `SELECT conrelid, conname, CASE contype
			WHEN 'c' THEN 'CHECK (' || coalesce(pg_get_expr(conbin, conrelid, true), '') || ')'
				|| CASE WHEN to_jsonb(c)->>'conenforced' = 'false' THEN ' NOT ENFORCED' WHEN convalidated THEN ''
					ELSE ' NOT VALID' END
			ELSE coalesce(pg_get_constraintdef(oid, true), '') END,
			CASE WHEN contype = 'c' AND coalesce(to_jsonb(c)->>'conenforced', 'true') = 'true'
			THEN coalesce(pg_get_expr(conbin, conrelid, true), '') ELSE '' END FROM pg_constraint c
		WHERE contype IN ('c', 'x') AND conrelid = ANY ($1)
		ORDER BY conname`, func(row pgx.Rows) error {
		var id uint32
		var c schema.Check
		if err := row.Scan(&id, &c.Name, &c.Says, &c.Condition); err != nil {
			return err
		}
		byID[id].Checks = append(byID[id].Checks, c)
		return nil
	}, idsOf(byID))
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
		FROM pg_constraint c WHERE contype = 'f' AND conparentid = 0 AND conrelid = ANY ($1) AND confrelid = ANY ($1)
		ORDER BY oid`, func(row pgx.Rows) error {
		var child, parent uint32
		var r schema.Relation
		if err := row.Scan(&child, &parent, &r.Name, &r.Columns, &r.ParentColumns, &r.Off, &r.Broken); err != nil {
			return err
		}
		t, p := byID[child], byID[parent]
		if r.Parent = p.Name; r.Broken == "" {
			r.ParentTable = p
		}
		t.Relations = append(t.Relations, r)
		return nil
	}, idsOf(byID))
}

// sequence is what numbers the rows of a table.
type sequence struct {
	name          string // as an SQL literal
	use, set, see bool   // whether this user may draw from it, set it, and look at it
}

// sequence is that behind the identity column of t; it is asked for once.
func (d *Database) sequence(ctx context.Context, t *schema.Table) (s sequence, err error) {
	table := d.table(t)
	if s, known := d.sequences[table]; known {
		return s, nil
	}
	err = d.conn.QueryRow(ctx, `SELECT s, pg_catalog.has_sequence_privilege(s, 'USAGE'),
		pg_catalog.has_sequence_privilege(s, 'UPDATE'), pg_catalog.has_sequence_privilege(s, 'SELECT')
		FROM pg_catalog.pg_get_serial_sequence($1, $2) s`, table, t.Locator).Scan(&s.name, &s.use, &s.set, &s.see)
	if err == nil {
		d.sequences[table] = s
	}
	return s, explain(d.name, err)
}

// relationName is the parent of a relation in SQL.
func (d *Database) relationName(r *schema.Relation) string {
	if r.ParentTable != nil {
		return d.table(r.ParentTable)
	}
	return quote(strings.TrimSpace(r.Parent))
}
