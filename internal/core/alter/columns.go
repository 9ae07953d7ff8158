package alter

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/propose"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// compare finds the changes of a table that is there.
func (m *maker) compare(is, want *dictionary.Table) error {
	if is.Comment != want.Comment && m.Dialect != propose.SQLite {
		m.change(altersColumns, &Change{Table: is.Name, Does: fmt.Sprintf("the comment becomes %q", want.Comment),
			Statements: []string{m.tableComment(want)}})
	}
	if is.Form != want.Form {
		m.change(altersColumns, &Change{Table: is.Name, Does: fmt.Sprintf("kept as %q in place of %q", want.Form, is.Form),
			Refused: "how a table is kept can't be changed by a plan; do it by hand"})
	}
	for _, step := range []func(is, want *dictionary.Table) error{m.dropColumns, m.columns, m.keys, m.checks,
		m.relations} {
		if err := step(is, want); err != nil {
			return err
		}
	}
	return nil
}

func (m *maker) tableComment(t *dictionary.Table) string {
	if m.Dialect == propose.MySQL {
		return "ALTER TABLE " + m.Table(t.Name) + " COMMENT = " + m.text(t.Comment)
	}
	return m.comment("TABLE "+m.Table(t.Name), t.Comment)
}

func columnOf(t *dictionary.Table, name string) *schema.ColumnOutline {
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
	}
	return nil
}

// dropColumns drops columns that the plan doesn't have.
func (m *maker) dropColumns(is, want *dictionary.Table) error {
	for _, c := range is.Columns {
		if columnOf(want, c.Name) != nil {
			continue
		}
		n, err := m.count(is.Name, m.Name(c.Name)+" IS NOT NULL")
		if err != nil {
			return err
		}
		change := m.change(altersColumns, &Change{Table: is.Name, Column: c.Name, Does: "the column is dropped",
			Loses: fmt.Sprintf("its values in %s", reason.Plural(n, "row")), Hurt: n, Statements: []string{
				"ALTER TABLE " + m.Table(is.Name) + " DROP COLUMN " + m.Name(c.Name)}})
		if slices.Contains(is.Primary, c.Name) || slices.ContainsFunc(is.PointedBy, func(r schema.Reference) bool {
			return slices.Contains(r.Keys, c.Name)
		}) {
			change.Refused = "it is part of the primary key, or other tables refer to it"
		}
	}
	return nil
}

// columns adds and changes columns.
func (m *maker) columns(is, want *dictionary.Table) error {
	for i := range want.Columns {
		c := &want.Columns[i]
		there := columnOf(is, c.Name)
		if there == nil {
			m.addColumn(is, c)
			continue
		}
		if err := m.alterColumn(is, want, there, c); err != nil {
			return err
		}
	}
	return nil
}

func (m *maker) addColumn(is *dictionary.Table, c *schema.ColumnOutline) {
	change := m.change(altersColumns, &Change{Table: is.Name, Column: c.Name,
		Does:       "the column is new: " + c.Declared + valued(c),
		Statements: []string{"ALTER TABLE " + m.Table(is.Name) + " ADD COLUMN " + m.column(*c)}})
	if m.Dialect == propose.Postgres && c.Comment != "" {
		change.Statements = append(change.Statements, m.comment("COLUMN "+m.Table(is.Name)+"."+m.Name(c.Name), c.Comment))
	}
	switch {
	case c.Declared == "" || !plausible(c.Declared):
		change.Refused = fmt.Sprintf("%q is no type", c.Declared)
	case c.Counted || c.Computed:
		change.Refused = "a column that the database fills can't be added by a plan; do it by hand"
	case c.Required && c.Default == "" && is.Rows > 0:
		change.Refused = fmt.Sprintf("the %s of %s would have no value in it; give it a default, or make it optional",
			reason.Plural(is.Rows, "row"), is.Name)
	}
}

// valued says what stands in a column, as far as that isn't usual.
func valued(c *schema.ColumnOutline) string {
	text := ""
	if c.Required {
		text = ", required"
	}
	if c.Default != "" {
		text += ", default " + c.Default
	}
	return text
}

// alterColumn changes what is different in a column. A blank collation is that of now.
func (m *maker) alterColumn(is, want *dictionary.Table, there, c *schema.ColumnOutline) error {
	if c.Collation == "" {
		c.Collation = there.Collation
	}
	a := &columnChange{m, is, c, "ALTER TABLE " + m.Table(is.Name) + " ALTER COLUMN " + m.Name(c.Name)}
	if there.Counted != c.Counted || there.Computed != c.Computed {
		a.add(Change{Does: "filled by the database in another way", Refused: "that can't be planned; do it by hand"})
		return nil
	}
	if !sameType(there.Declared, c.Declared, m.Dialect) {
		if err := a.retype(there); err != nil {
			return err
		}
	}
	if there.Collation != c.Collation {
		a.add(Change{Does: "the collation becomes " + c.Collation}, " TYPE "+c.Declared+" COLLATE "+c.Collation)
	}
	if c.Counted || c.Computed { // which decides what else stands in it
		return nil
	}
	if !there.Required && c.Required {
		if err := a.require(); err != nil {
			return err
		}
	}
	if there.Required && !c.Required {
		a.add(Change{Does: "optional"}, " DROP NOT NULL")
	}
	switch {
	case sameDefault(there.Default, c.Default):
	case c.Default == "":
		a.add(Change{Does: "has no default any more"}, " DROP DEFAULT")
	default:
		a.add(Change{Does: "the default becomes " + c.Default}, " SET DEFAULT "+c.Default)
	}
	if there.Comment != c.Comment && m.Dialect != propose.SQLite {
		a.comment()
	}
	others := strings.Join(there.Values, ", ") != strings.Join(c.Values, ", ")
	if others && sameChecks(is, want) && there.Declared == c.Declared {
		a.add(Change{Does: "other values are allowed",
			Refused: "the allowed values follow from the CHECK constraints, or from " +
				"the type; change them there"})
	}
	return nil
}

// columnChange is the changes of a column.
type columnChange struct {
	*maker
	is    *dictionary.Table
	c     *schema.ColumnOutline
	begin string // of the statements of PostgreSQL
}

// add adds a change: by a statement of PostgreSQL, of which rest is what comes behind its beginning. MySQL has one
// for all that is different in a column, and a table of SQLite is rebuilt.
func (a *columnChange) add(change Change, rest ...string) {
	change.Table, change.Column = a.is.Name, a.c.Name
	switch a.Dialect {
	case propose.Postgres:
		for _, r := range rest {
			change.Statements = append(change.Statements, a.begin+r)
		}
	case propose.MySQL:
		modify := []string{"ALTER TABLE " + a.Table(a.is.Name) + " MODIFY COLUMN " + a.column(*a.c)}
		if !slices.ContainsFunc(a.made.Changes, func(o *Change) bool { return slices.Equal(o.Statements, modify) }) {
			change.Statements = modify
		}
		if a.setsItself(a.is.Name, a.c.Name) {
			change.Refused = "it is ON UPDATE CURRENT_TIMESTAMP, which a plan doesn't hold; change it by hand"
		}
	}
	a.change(altersColumns, &change)
}

// require makes the column NOT NULL, where no row has NULL in it.
func (a *columnChange) require() error {
	isNull := a.Name(a.c.Name) + " IS NULL"
	n, err := a.count(a.is.Name, isNull)
	if err != nil {
		return err
	}
	change := Change{Does: "required"}
	if n > 0 {
		names, err := a.named(a.is, isNull)
		if err != nil {
			return err
		}
		change.Refused = fmt.Sprintf("%s %s NULL in it: %s", reason.Plural(n, "row"), reason.Verb(n, "has", "have"), names)
	}
	a.add(change, " SET NOT NULL")
	return nil
}

// comment gives the column its comment, for which PostgreSQL has a statement of its own.
func (a *columnChange) comment() {
	change := Change{Does: fmt.Sprintf("the comment becomes %q", a.c.Comment)}
	if a.Dialect == propose.Postgres {
		on := "COLUMN " + a.Table(a.is.Name) + "." + a.Name(a.c.Name)
		change.Statements = []string{a.maker.comment(on, a.c.Comment)}
	}
	a.add(change)
}

// retype changes the type of the column: where that loses nothing, or it is allowed.
func (a *columnChange) retype(there *schema.ColumnOutline) error {
	old, oldKnown := typeOf(there.Declared, a.Dialect)
	to, known := typeOf(a.c.Declared, a.Dialect)
	rest := " TYPE " + a.c.Declared
	if !(oldKnown && known && old.Kind == to.Kind) {
		rest += " USING " + a.Name(a.c.Name) + "::" + a.c.Declared
	}
	change := Change{Does: there.Declared + " becomes " + a.c.Declared}
	switch {
	case !plausible(a.c.Declared) || a.c.Declared == "":
		change.Refused = fmt.Sprintf("%q is no type", a.c.Declared)
	case oldKnown && known && widens(old, to):
	case !known:
		change.Hurt, change.Loses = -1, "what doesn't fit; in how many rows that is can't be told"
	default:
		var err error
		if change.Hurt, err = a.unfit(a.is.Name, a.c.Name, to); err != nil {
			return err
		}
		switch {
		case change.Hurt == 0:
			change.Loses = "only room: the values of all rows fit"
		case a.Dialect == propose.SQLite:
			change.Loses = fmt.Sprintf("the type of %s, which SQLite keeps as they are", reason.Plural(change.Hurt, "value"))
		default:
			change.Loses = "what doesn't fit, in " + reason.Plural(change.Hurt, "row")
		}
	}
	a.add(change, rest)
	return nil
}

// sameType reports whether two types are the same, however they are spelt.
func sameType(a, b string, d propose.Dialect) bool {
	if strings.EqualFold(a, b) {
		return true
	}
	x, xKnown := typeOf(a, d)
	y, yKnown := typeOf(b, d)
	return xKnown && yKnown && x == y && d != propose.SQLite // which keeps types as they are spelt
}

// cast is what PostgreSQL writes behind a default: its type.
var cast = regexp.MustCompile(`::[a-z "]+(\([0-9, ]+\))?$`)

// sameDefault reports whether two defaults are the same but for a cast.
func sameDefault(a, b string) bool {
	return cast.ReplaceAllString(a, "") == cast.ReplaceAllString(b, "")
}

func sameChecks(a, b *dictionary.Table) bool {
	return slices.EqualFunc(a.Checks, b.Checks, func(x,
		y schema.Check) bool {
		return enclosed(x.Says) == enclosed(y.Says)
	})
}
