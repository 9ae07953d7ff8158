package alter

import (
	"regexp"
	"slices"
	"strings"

	"ladle/internal/core/dictionary"
	"ladle/internal/core/propose"
	"ladle/internal/core/schema"
)

// typeWords are the words of a type, and its numbers.
var typeWords = regexp.MustCompile(`^([A-Za-z][A-Za-z_ ]*?)(\(\d+(?:, ?\d+)?\))?(?: with(?:out)? time zone| unsigned| zerofill)*$`)

// sketched is a type as SQLite takes it; TEXT for one that it can't have.
func sketched(declared string) string {
	m := typeWords.FindStringSubmatch(declared)
	if m == nil || strings.EqualFold(declared, "citext") {
		return "TEXT"
	}
	return m[1] + m[2]
}

// Sketch are statements that make the tables in SQLite, for what is to know their columns, keys and relations, and needs
// no rows: without CHECK constraints and triggers, which are in the words of another database. What has a default there
// has one here, whatever it is.
func Sketch(tables []dictionary.Table) string {
	all := slices.Clone(tables)
	for i := range all {
		t := &all[i]
		t.Checks, t.Form, t.Comment, t.Triggers, t.Partial = nil, "", "", nil, nil
		t.Columns = slices.Clone(t.Columns)
		t.Columns = slices.DeleteFunc(t.Columns, func(c schema.ColumnOutline) bool { return c.Computed })
		for k := range t.Columns {
			c := &t.Columns[k]
			if folds := strings.Contains(c.Collation, "_ci") || strings.EqualFold(c.Declared, "citext"); folds {
				c.Collation = "NOCASE"
			} else if c.Collation != "NOCASE" && c.Collation != "RTRIM" {
				c.Collation = ""
			}
			c.Declared = sketched(c.Declared)
			if c.Default != "" {
				c.Default = "0"
			}
			if c.Counted {
				c.Declared, c.Default = "INTEGER", ""
			}
			c.Comment = ""
		}
	}
	return Definitions(all, propose.SQLite)
}
