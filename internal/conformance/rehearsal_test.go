package conformance

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestARehearsalCostsNothing: however often a load is tried, the ids that it gets afterwards are those that it would
// have
// got without, on MariaDB at most one round of them later; and one that has to write twice draws them once.
func TestARehearsalCostsNothing(t *testing.T) {
	for kind, on := range map[string]server{"postgres": postgresSchema{}, "mysql": mysqlDatabase{},
		"sqlite": sqliteFile{}} {
		t.Run(kind, func(t *testing.T) {
			alone(t, on)
			w := newWorld(t, on, "CREATE TABLE mark (id ID, n VARCHAR(9) NOT NULL UNIQUE, v VARCHAR(9) "+
				"UNIQUE); INSERT INTO mark (n, v) VALUES ('first', 'taken');")
			var file strings.Builder
			file.WriteString("N,V\n")
			for i := range 100 {
				fmt.Fprintf(&file, "m%03d,v%03d\n", i, i)
			}
			file.WriteString("x,taken\n") // what only the database rejects
			w.write("in.csv", file.String())
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {mark: {from: in, "+
				"key: n, columns: {n: N, v: V}}}\nset_aside_limit: any\n")
			for range 3 {
				require.Equal(t, 4, w.run("try", "f.ladle.yaml", "--db", w.db).status)
			}
			require.Equal(t, 4, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes").status)
			first := w.query("SELECT min(id) FROM mark WHERE n <> 'first'")[0]
			switch kind {
			case "mysql":
				assert.Contains(t, []string{"2", "102", "103"}, first)
			default:
				assert.Equal(t, "2", first)
			}
			assert.Equal(t, "101", w.query("SELECT count(*) FROM mark")[0])
			w.write("in.csv", "N,V\nnext,w\n")
			require.Equal(t, 0, w.run("load", "f.ladle.yaml", "--db", w.db, "--yes").status)
			if kind == "postgres" {
				assert.Equal(t, "103", w.query("SELECT id FROM mark WHERE n = 'next'")[0],
					"one number for the rejected line")
			}
		})
	}
}
