package conformance

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNewerPostgres: what PostgreSQL 18 brought is read as it is: references between periods, constraints that nobody
// enforces, columns that are computed when they are read.
func TestNewerPostgres(t *testing.T) {
	w := newWorld(t, postgresSchema{}, "SELECT 1")
	if version, err := strconv.Atoi(w.query("SELECT current_setting('server_version_num')")[0]); err != nil || version < 180000 {
		t.Skip("make postgres18")
	}
	require.NoError(t, onPostgres(w.db, `CREATE EXTENSION IF NOT EXISTS btree_gist;
		CREATE TABLE berth (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, code text NOT NULL, used daterange NOT NULL,
			UNIQUE (code, used WITHOUT OVERLAPS));
		CREATE TABLE booking (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, berth_code text NOT NULL, during daterange,
			tons numeric(8, 2), kg numeric GENERATED ALWAYS AS (tons * 1000) VIRTUAL,
			CONSTRAINT tons_ok CHECK (tons > 0) NOT ENFORCED,
			FOREIGN KEY (berth_code, PERIOD during) REFERENCES berth (code, PERIOD used));
		CREATE TABLE crane (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text UNIQUE NOT NULL,
			booking_id int REFERENCES booking (id) NOT ENFORCED);
		INSERT INTO berth (code, used) VALUES ('N1', '[2026-01-01,2026-06-01)'), ('N1', '[2026-06-01,2027-01-01)');
		INSERT INTO booking (berth_code, during, tons) VALUES ('N1', '[2026-05-01,2026-07-01)', 5);
		INSERT INTO crane (name, booking_id) VALUES ('old', 99)`))
	for table, says := range map[string][]string{
		"booking": {"kg numeric computed", "tons_ok: CHECK (tons > 0::numeric) NOT ENFORCED",
			"booking.berth_code, during -> berth can't be followed, so it is not checked: it is about periods"},
		"crane": {"crane.booking_id -> booking is not enforced: it is declared NOT ENFORCED"},
	} {
		r := w.run("tables", "--db", w.db, "--table", table)
		for _, part := range says {
			assert.Contains(t, strings.Join(strings.Fields(r.stdout), " "), part)
		}
	}
	w.write("in.csv", "B,T\nN1,7\nN9,-7\n")
	w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\ntables: {booking: {from: in, key: none, columns: {berth_code: B, "+
		"tons: T}}}\n")
	doc, r := w.load("load")
	require.Equal(t, 0, r.status, r.stdout)
	assert.Contains(t, strings.Join(doc.Notes, "\n"), "not checked: the foreign key booking.berth_code, during -> berth")
	assert.Equal(t, []string{"N1|7000", "N9|-7000"}, w.query("SELECT berth_code, kg FROM booking WHERE id > 1 ORDER BY id"))
}
