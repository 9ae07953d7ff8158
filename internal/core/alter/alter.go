// Package alter finds the statements that lead from the tables of a database to planned ones.
//
// [Make] compares the dictionary of a database with one that a person has changed, asks the database whether its rows
// satisfy what is new, and writes the statements in an order in which they can be run. What would lose data is written
// only where it is allowed by name.
package alter

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/propose"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// Alteration is what leads to the planned tables.
type Alteration struct {
	Changes []*Change `json:"changes"`
	Notes   []string  `json:"notes"` // what the plan leaves open

	dialect propose.Dialect
}

// Change is one difference between the plan and the database.
type Change struct {
	Table  string `json:"table"`
	Column string `json:"column,omitempty"`
	Does   string `json:"does"` // in words

	// Loses says what is lost: such a change must be allowed by its name. Hurt is the number of rows that lose
	// something; -1 where that can't be told.
	Loses   string `json:"loses,omitempty"`
	Hurt    int64  `json:"rows_hurt"`
	Allowed bool   `json:"allowed"`

	// Refused is why it can't be done; empty when it can.
	Refused string `json:"refused,omitempty"`

	Statements []string `json:"statements"`
	phase      int
}

// The order in which statements are run.
const (
	dropsRelations = iota
	dropsKeys
	dropsTables
	makesTables
	altersColumns
	addsKeys
	addsChecks
	addsRelations
)

// Name is what a person allows the change by: TABLE, or TABLE.COLUMN.
func (c *Change) Name() string {
	if c.Column == "" {
		return c.Table
	}
	return c.Table + "." + c.Column
}

// Stops reports whether the change can't be done, or may not.
func (c *Change) Stops() bool { return c.Refused != "" || c.Loses != "" && !c.Allowed }

// Stopped lists the changes that stop the plan.
func (a *Alteration) Stopped() []*Change {
	return slices.DeleteFunc(slices.Clone(a.Changes), func(c *Change) bool { return !c.Stops() })
}

// Make compares a plan with a database. allow has the names of changes that may lose data.
func Make(ctx context.Context, db engine.Database, s *schema.Schema, plan *dictionary.Dictionary, d propose.Dialect,
	allow []string) (*Alteration, error) {
	now, err := dictionary.Make(ctx, db, s, dictionary.Options{})
	if err != nil {
		return nil, err
	}
	m := &maker{made: &Alteration{Changes: []*Change{}, Notes: []string{}, dialect: d}, ctx: ctx, db: db, schema: s,
		writer: writer{Dialect: d}, plan: plan, allow: allow}
	if err := m.tables(now); err != nil {
		return nil, err
	}
	if d == propose.SQLite {
		if err := m.rebuildAll(now); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(m.made.Changes, func(a, b *Change) int { return a.phase - b.phase })
	return m.made, m.unused()
}

// maker makes an Alteration.
type maker struct {
	writer
	made   *Alteration
	ctx    context.Context //nolint:containedctx // it lives as long as the call that has it
	db     engine.Database
	schema *schema.Schema
	plan   *dictionary.Dictionary
	allow  []string
	used   []string
}

// change adds a change, and looks whether it is allowed.
func (m *maker) change(phase int, c *Change) *Change {
	c.phase = phase
	if c.Statements == nil {
		c.Statements = []string{}
	}
	if c.Loses != "" && slices.Contains(m.allow, c.Name()) {
		c.Allowed = true
		m.used = append(m.used, c.Name())
	}
	m.made.Changes = append(m.made.Changes, c)
	return c
}

// unused refuses names that allow nothing, since they may be mistyped.
func (m *maker) unused() error {
	for _, name := range m.allow {
		if !slices.Contains(m.used, name) {
			var could []string
			for _, c := range m.made.Changes {
				if c.Loses != "" {
					could = append(could, c.Name())
				}
			}
			return fault.New(fault.Wrong, fmt.Sprintf("no change of this plan loses data of %s", name), fault.DidYouMean(name,
				could))
		}
	}
	return nil
}

// tables compares all tables.
func (m *maker) tables(now *dictionary.Dictionary) error {
	for i := range now.Tables {
		if err := m.missing(&now.Tables[i]); err != nil {
			return err
		}
	}
	fresh := m.fresh(now)
	for _, t := range fresh {
		m.newTable(t, fresh)
	}
	for i := range m.plan.Tables {
		t := &m.plan.Tables[i]
		if is := tableOf(now, t.Name); is != nil {
			if err := m.compare(is, t); err != nil {
				return err
			}
		}
	}
	return nil
}

func tableOf(d *dictionary.Dictionary, name string) *dictionary.Table {
	for i := range d.Tables {
		if d.Tables[i].Name == name {
			return &d.Tables[i]
		}
	}
	return nil
}

// missing drops a table that the plan doesn't have where that is allowed; others stay.
func (m *maker) missing(t *dictionary.Table) error {
	if tableOf(m.plan, t.Name) != nil {
		return nil
	}
	if !slices.Contains(m.allow, t.Name) {
		m.made.Notes = append(m.made.Notes, fmt.Sprintf("the table %s is not in the plan, and stays", t.Name))
		return nil
	}
	c := m.change(dropsTables, &Change{Table: t.Name, Does: "the table is dropped", Loses: "all of its rows", Hurt: t.Rows,
		Statements: []string{"DROP TABLE " + m.Table(t.Name)}})
	for _, r := range t.PointedBy {
		if tableOf(m.plan, r.Table) != nil && r.Table != t.Name {
			c.Refused = fmt.Sprintf("%s refers to it; take that relation out of the plan first", r.Table)
		}
	}
	return nil
}

// fresh are the tables that are to be made, each behind those that it refers to.
func (m *maker) fresh(now *dictionary.Dictionary) (all []*dictionary.Table) {
	var rest []*dictionary.Table
	for i := range m.plan.Tables {
		if t := &m.plan.Tables[i]; tableOf(now, t.Name) == nil {
			rest = append(rest, t)
		}
	}
	for len(rest) > 0 {
		at := slices.IndexFunc(rest, func(t *dictionary.Table) bool {
			return !slices.ContainsFunc(t.PointsAt, func(r schema.Reference) bool {
				return r.Table != t.Name && slices.ContainsFunc(rest, func(o *dictionary.Table) bool { return o.Name == r.Table })
			})
		})
		at = max(at, 0) // tables that refer to each other: relations are added once all are there
		all, rest = append(all, rest[at]), slices.Delete(rest, at, at+1)
	}
	return all
}

// newTable makes a table, with its rows.
func (m *maker) newTable(t *dictionary.Table, fresh []*dictionary.Table) {
	sqlite := m.Dialect == propose.SQLite
	c := m.change(makesTables, &Change{Table: t.Name,
		Does: "the table is new, with " + reason.Plural(int64(len(t.Columns)), "column")})
	if len(t.Lookups) > 0 {
		c.Does += " and " + reason.Plural(int64(len(t.Lookups)), "row")
	}
	c.Statements = append([]string{m.create(t, sqlite)}, m.comments(t)...)
	for _, row := range t.Lookups {
		c.Statements = append(c.Statements, m.row(t, row))
	}
	c.Refused = m.cantMake(t)
	for _, r := range t.PointsAt {
		parent := tableOf(m.plan, r.Table)
		there := m.schema.Table(r.Table) != nil && (parent != nil || !slices.Contains(m.allow, r.Table))
		if !there && !slices.Contains(fresh, parent) {
			c.Refused = fmt.Sprintf("it refers to %s, which is not there", r.Table)
		}
		if !sqlite {
			m.change(addsRelations, &Change{Table: t.Name, Does: "refers to " + r.Table + " by " + strings.Join(r.Columns, ", "),
				Statements: []string{"ALTER TABLE " + m.Table(t.Name) + " ADD " + m.foreignKey(r)}})
		}
	}
}

// cantMake is why a table can't be made; "" when it can.
func (m *maker) cantMake(t *dictionary.Table) string {
	if len(t.Columns) == 0 {
		return "it has no columns"
	}
	counted := ""
	for _, c := range t.Columns {
		switch {
		case c.Declared == "":
			return fmt.Sprintf("%s has no type", c.Name)
		case !plausible(c.Declared) || !plausible(c.Collation):
			return fmt.Sprintf("the type of %s is %q, which is no type", c.Name, c.Declared)
		case c.Computed:
			return fmt.Sprintf("%s is computed, and the plan doesn't say how; make the table by hand", c.Name)
		case c.Counted && counted != "":
			return fmt.Sprintf("%s and %s are both auto-numbered", counted, c.Name)
		case c.Counted:
			counted = c.Name
		}
	}
	if m.Dialect == propose.SQLite && counted != "" && !slices.Equal(t.Primary, []string{counted}) {
		return fmt.Sprintf("SQLite numbers only the primary key, and %s isn't that", counted)
	}
	if m.Dialect != propose.SQLite && t.Form != "" {
		return fmt.Sprintf("it is kept as %s; make it by hand", t.Form)
	}
	return ""
}

// plausible reports whether a type ends no statement and begins no comment.
func plausible(declared string) bool {
	return !strings.ContainsAny(declared, ";\n") && !strings.Contains(declared, "--") && !strings.Contains(declared, "/*")
}

// SQL writes the changes as a script, with what they do as comments; in one transaction where the database rolls such
// statements back.
func (a *Alteration) SQL() string {
	var b strings.Builder
	fmt.Fprintf(&b, "-- Planned by ladle: %s. Look at them, and run them with the database's own client.\n",
		reason.Plural(int64(len(a.Changes)), "change"))
	together := a.dialect != propose.MySQL && len(a.Changes) > 0
	if !together && len(a.Changes) > 0 {
		b.WriteString("-- Each statement commits by itself here: when one fails, those before it stay.\n")
	}
	rebuilt := a.dialect == propose.SQLite && strings.Contains(fmt.Sprint(a.statements()), "RENAME TO")
	if rebuilt {
		b.WriteString("PRAGMA foreign_keys = OFF;\n")
	}
	if together {
		b.WriteString("BEGIN;\n")
	}
	for _, c := range a.Changes {
		b.WriteString("\n-- " + propose.OneLine(c.Name()+": "+c.Does))
		if c.Loses != "" {
			fmt.Fprintf(&b, " (loses %s)", propose.OneLine(c.Loses))
		}
		b.WriteString("\n")
		for _, s := range c.Statements {
			b.WriteString(s + ";\n")
		}
	}
	if together {
		b.WriteString("\nCOMMIT;\n")
	}
	if rebuilt {
		b.WriteString("PRAGMA foreign_keys = ON;\nPRAGMA foreign_key_check;\n")
	}
	return b.String()
}

func (a *Alteration) statements() (all []string) {
	for _, c := range a.Changes {
		all = append(all, c.Statements...)
	}
	return all
}
