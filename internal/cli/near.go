package cli

import (
	"cmp"
	"slices"

	"ladle/internal/core/text"
)

// meant are options by other names that people know.
var meant = map[string]string{"database": "db", "url": "db", "connection": "db", "dsn": "db", "out": "output",
	"outfile": "output", "file": "output", "force": "yes", "y": "yes", "no-prompt": "yes", "overwrite": "replace",
	"separator": "delimiter", "limit": "first", "rows": "first", "charset": "encoding", "page": "html",
	"report": "html", "nolog": "no-logbook"}

// nearestOption is the option that was most likely meant by name, or "".
func nearestOption(name string, names []string) string {
	all := slices.Clone(names)
	for other, name := range meant {
		if slices.Contains(names, name) {
			all = append(all, other)
		}
	}
	slices.Sort(all[len(names):])
	near := text.Nearest(name, all)
	return cmp.Or(meant[near], near)
}
