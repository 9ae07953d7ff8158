package propose

import (
	"regexp"
	"strings"
)

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

// Name is an identifier, in quotes where it needs them.
func (d Dialect) Name(n string) string {
	switch {
	case plainName.MatchString(n) && !Reserved(n):
		return n
	case d == MySQL:
		return "`" + strings.ReplaceAll(n, "`", "``") + "`"
	}
	return `"` + strings.ReplaceAll(n, `"`, `""`) + `"`
}

// Table is the name of a table, which may have its schema in front where the database has schemas.
func (d Dialect) Table(n string) string {
	if schema, rest, found := strings.Cut(n, "."); found && (d == Postgres || d == Standard) {
		return d.Name(schema) + "." + d.Name(rest)
	}
	return d.Name(n)
}

// Names are identifiers with commas between them.
func (d Dialect) Names(all []string) string {
	quoted := make([]string, len(all))
	for i, n := range all {
		quoted[i] = d.Name(n)
	}
	return strings.Join(quoted, ", ")
}
