package conformance

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestQueriesOfStrangers: a ladle file may come from somebody else. Its queries change nothing, neither when they are
// tried nor when they are asked, and what they answer can't fill the memory or the screen.
func TestQueriesOfStrangers(t *testing.T) {
	type claim struct {
		query  string
		status int
		says   string
	}
	claims := map[string][]claim{
		"mysql": {
			{"select n from (select wrote() as n) q where n < 0", 2, ""}, // at LOCK TABLES, or because it writes
			{"select 1 from kind where name = 'x' /*!50000 into outfile '/tmp/ladle-test-claim' */", 2,
				"SQL in a comment"},
			{"select 1 from kind where name = 'x' /*M! into @x */", 2, "SQL in a comment"},
			{"select 1 from kind --\t'\n into outfile '/tmp/ladle-test-claim' -- '", 2, "INTO"},
			{"select 1) or (select 2", 2, ""},
			{"select repeat('x', 3000000) as big", 1, "xxx…"},
		},
		"postgres": {
			{"select n from (select wrote() as n) q where n < 0", 2, "in a read-only transaction"},
			{"with w as (delete from kind returning id) select id from w", 2, "in a read-only transaction"},
			{"select repeat('x', 3000000) as big", 1, "xxx…"},
			{"select repeat('x', 30000000) as big", 2, "more than 16 MB"},
		},
		"sqlite": {
			{"select zeroblob(1000000000)", 2, "too big"},
			{"select hex(zeroblob(3000000)) as big", 1, "000…"},
			{"pragma user_version = 3", 2, "not a query"},
		},
	}
	functions := map[string]string{
		"mysql": "CREATE TABLE kind (id ID, name VARCHAR(9)); CREATE TABLE written (n INT); CREATE FUNCTION wrote() " +
			"RETURNS INT DETERMINISTIC MODIFIES SQL DATA BEGIN INSERT INTO written VALUES (1); RETURN 1; END;",
		"postgres": "CREATE TABLE kind (id ID, name VARCHAR(9)); CREATE TABLE written (n INT); CREATE FUNCTION " +
			"wrote() RETURNS integer LANGUAGE sql AS $$ INSERT INTO written VALUES (1); SELECT 1 $$",
		"sqlite": "CREATE TABLE kind (id ID, name VARCHAR(9)); CREATE TABLE written (n INT)",
	}
	for kind, on := range servers {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t, on, functions[kind])
			w.write("in.csv", "N\nBarge\n")
			for _, c := range claims[kind] {
				w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv, header: 1}}\ntables: {kind: {from: in, "+
					"key: name, columns: {name: N}}}\nchecks:\n  - claim: all is well\n    no_rows: |-\n      "+
					strings.ReplaceAll(c.query, "\n", "\n      ")+"\n")
				for _, command := range []string{"try", "load", "verify"} {
					arguments := []string{command, "f.ladle.yaml", "--db", w.db}
					if command == "load" {
						arguments = append(arguments, "--yes")
					}
					r := w.run(arguments...)
					assert.Contains(t, []int{c.status, max(1, min(c.status, 2))}, r.status, "%s %s\n%s%s", command,
						c.query, r.stdout, r.stderr)
					assert.Contains(t, r.stdout+r.stderr, c.says, "%s %s", command, c.query)
					assert.Less(t, len(r.stdout+r.stderr), 10_000, c.query)
				}
			}
			assert.Empty(t, w.server.query(w, "SELECT * FROM written"))
			assert.Empty(t, w.server.query(w, "SELECT * FROM kind"))
		})
	}
}
