package conformance

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNothingOfOthersIsRun: functions and operators that somebody put beside those of PostgreSQL are not run by a
// person who reads the catalogue or loads, even where their arguments fit better.
func TestNothingOfOthersIsRun(t *testing.T) {
	on := postgresSchema{}
	w := newWorld(t, on, `CREATE TYPE quay AS ENUM ('north', 'south');
		CREATE TABLE berth (id serial PRIMARY KEY, code varchar(8) UNIQUE, side quay, owner citext);
		CREATE TABLE call (id ID, berth_id integer REFERENCES berth (id), n varchar(8) NOT NULL UNIQUE, at date);
		INSERT INTO berth (code, side, owner) VALUES ('N1', 'north', 'Quill');
		CREATE TABLE hijacked (what text)`)
	admin := on.connect(w, w.db)
	defer admin.Close(context.Background())
	hijack := func(signature, result, what string) {
		on.exec(w, admin, "CREATE FUNCTION "+signature+" RETURNS "+result+" LANGUAGE sql VOLATILE AS $$ INSERT INTO "+
			"hijacked VALUES ('"+what+": ' || current_query()); SELECT NULL::"+result+" $$")
	}
	for signature, result := range map[string]string{"pg_get_serial_sequence(text, name)": "text",
		"format(text, name, name)": "text", "has_table_privilege(oid, text)": "boolean", "unnest(text[])": "text",
		"concat_ws(text, text)": "text", "concat_ws(text, text, text)": "text", "max(integer)": "integer",
		"count(integer)":    "bigint",
		"to_regclass(text)": "regclass", "pg_get_indexdef(integer)": "text", "current_schema(text)": "name",
		"has_sequence_privilege(text, text)": "boolean", "quote_ident(name)": "text",
		"pg_table_is_visible(bigint)": "boolean"} {
		hijack(signature, result, signature)
	}
	for _, kind := range []string{"varchar", "quay", "citext", "name", "oid", "\"char\""} {
		hijack("same("+kind+", "+kind+")", "boolean", "= of "+kind)
		if _, err := admin.Exec(context.Background(), "CREATE OPERATOR = (LEFTARG = "+kind+", RIGHTARG = "+kind+
			", FUNCTION = same)"); err != nil {
			t.Log(kind, err)
		}
	}
	w.write("in.csv", "N,B,S,At\n1,N1,north,2026-03-01\n2,S1,south,2026-03-02\n")
	w.write("a.ladle.yaml", `ladle: 1
inputs: {in: {file: in.csv}}
tables:
  berth: {from: in, key: code, already_there: update, columns: {code: B, side: S, owner: {constant: Merrow}}}
  call: {from: in, key: n, columns: {n: N, at: At, berth_id: {from: B, lookup: berth.code}}}
  more: {into: berth, from: in, key: [side], columns: {side: S, owner: {constant: Merrow}, code: B}, not_there: leave_out}
`)
	for _, arguments := range [][]string{{"tables"}, {"try", "a.ladle.yaml"}, {"load", "a.ladle.yaml", "--yes"},
		{"load", "a.ladle.yaml", "--yes"}, {"verify", "a.ladle.yaml"}, {"verify", "1"}, {"runs"}, {"undo", "1",
			"--yes"},
		{"draft", "in.csv"}} {
		r := w.run(append(arguments, "--db", w.db)...)
		assert.Zero(t, r.status, "%v %s%s", arguments, r.stdout, r.stderr)
		assert.Empty(t, on.query(w, "SELECT DISTINCT what FROM hijacked"), "%v", arguments)
	}
	assert.Empty(t, on.query(w, "SELECT DISTINCT what FROM hijacked"))
}
