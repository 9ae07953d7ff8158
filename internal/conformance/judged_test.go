package conformance

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// visits is a table whose CHECK constraints speak of numbers, dates, texts, and what only the database understands.
const visits = `CREATE TABLE stay (id ID, code VARCHAR(8) NOT NULL UNIQUE, n INTEGER, came DATE, went DATE,
	kind VARCHAR(9), note VARCHAR(20), rank INTEGER DEFAULT 1, CONSTRAINT few CHECK (n < 10),
	CONSTRAINT in_order CHECK (went >= came), CONSTRAINT kinds CHECK (kind IN ('tug', 'barge')),
	CONSTRAINT short CHECK (length(note) < 6 OR n * 2 > 16), CONSTRAINT ranked CHECK (n > rank - 3));
	INSERT INTO stay (code, n, came, went, kind, note) VALUES ('old', 5, '2026-01-01', '2026-01-05', 'tug', 'a');`

// TestConstraintsAreJudgedBeforehand: all rows that break a CHECK constraint are told before anything is written, and
// no line is told that only looks as if it did.
func TestConstraintsAreJudgedBeforehand(t *testing.T) {
	relate(t, []relation{
		{
			name: "every bad line is named, equal ones too", script: visits, status: 4,
			tables: "stay: {from: in, key: code, columns: {code: C, n: N, came: A, went: D, kind: K, note: O}}\n" +
				"set_aside_limit: any",
			files: map[string]string{"in": "C,N,A,D,K,O\na,9,2026-01-01,2026-01-01,tug,\nb,99,,,,\n" +
				"c,1,2026-01-02,2026-01-01,,\nb,99,,,,\nd,,,,ufo,\ne,9,,,barge,longer\nf,8,,,,longer\ng,,,,,\n"},
			accounts: []string{"stay: 8, 3 added, 5 aside"},
			asides: []string{"in.csv:3: CHECK few does not hold: n is 99",
				"in.csv:4: CHECK in_order does not hold: went is 2026-01-01, came is 2026-01-02",
				"in.csv:5: CHECK few does not hold: n is 99",
				"in.csv:6: CHECK kinds does not hold: kind is ufo",
				"in.csv:8: CHECK short does not hold: note is longer, n is 8"},
			query: "SELECT code FROM stay ORDER BY id", rows: []string{"old", "a", "e", "g"},
		},
		{
			name: "a row that stays as it is breaks nothing", script: visits,
			tables:   "stay: {from: in, key: code, columns: {code: C, n: N}}",
			files:    map[string]string{"in": "C,N\nold,99\nnew,3\n"},
			accounts: []string{"stay: 2, 1 added, 1 differs"},
			query:    "SELECT code, n FROM stay ORDER BY id", rows: []string{"old|5", "new|3"},
		},
		{
			name: "a row that changes is judged with what stays of it", script: visits, status: 4,
			tables: "stay: {from: in, key: code, already_there: update, columns: {code: C, went: D}}\n" +
				"set_aside_limit: any",
			files:    map[string]string{"in": "C,D\nold,2025-12-31\nnew,2025-12-31\nold,2025-12-31\n"},
			accounts: []string{"stay: 3, 1 added, 2 aside"},
			asides: []string{"in.csv:2: CHECK in_order does not hold: went is 2025-12-31",
				"in.csv:4: CHECK in_order does not hold: went is 2025-12-31"},
			query: "SELECT code, went FROM stay ORDER BY id", rows: []string{"old|2026-01-05", "new|2025-12-31"},
		},
	})
}

// TestATryCountsWhatConstraintsRefuse: try and load say the same, and nothing is written.
func TestATryCountsWhatConstraintsRefuse(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, port)
		w.write("f.ladle.yaml", vesselBlock+"set_aside_limit: any\n")
		w.write("in.csv", "Reg,Name,GT,Flag\nB1,Skua,-1,\nB2,Tern,0,\nB3,Gull,2,\n")
		tried, _ := w.load("try")
		require.Equal(t, 4, tried.Status)
		loaded, _ := w.load("load")
		assert.Equal(t, tried.asides(), loaded.asides())
		assert.Equal(t, "vessel: 3 = 1 added, 0 same, 0 repeated, 2 aside", tried.tallies())
		shown := w.run("try", "f.ladle.yaml", "--db", w.db)
		assert.Regexp(t, `CHECK gt_above_zero \(.?gt.? > .*\) does not hold: in.csv:2 \(gt is -1.0\), in.csv:3`,
			shown.stdout)
	})
}

// TestMostDecidesByColumn: of lines with the same key, each column gets the value that most of them have.
func TestMostDecidesByColumn(t *testing.T) {
	const most = "vessel: {from: in, key: reg, contradictions: most, columns: {reg: R, name: N, gt: G, kind_id: " +
		"{from: K, lookup: kind.name, not_found: add}}}"
	relate(t, []relation{
		{
			name: "a line that has all of them stands for the key, else one takes them from others", script: fleet,
			tables: most,
			files: map[string]string{"in": "R,N,G,K\nA7,Rail,5,\nA7,Rial,5,Sloop\nA7,Rail,6,\nA8,Tern,,Tug\nA8,Tern,,Tug\n" +
				"A8,Skua,1,\nA9,,7,Ketch\nA9,Gull,7,\n"},
			accounts: []string{"vessel: 8, 3 added, 5 overruled"},
			query: "SELECT reg, v.name, gt, k.name FROM vessel v LEFT JOIN kind k ON k.id = kind_id WHERE reg > 'A6' " +
				"ORDER BY reg",
			rows: []string{"A7|Rail|5|Sloop", "A8|Tern|1|Tug", "A9|Gull|7|Ketch"},
		},
		{
			name: "a tie, and a blank that nobody fills, set aside", script: fleet, status: 4,
			tables: most + "\nset_aside_limit: any",
			files: map[string]string{"in": "R,N,G,K\nA7,Rail,5,\nA7,Rail,6,\nA8,,1,\nA8,,2,\nA8,,1,Tug\nA9,Tern,1,\n" +
				"A9,Tern,1,\nA9,Tern,2,\n"},
			accounts: []string{"vessel: 8, 1 added, 1 repeated, 3 overruled, 3 aside"},
			asides: []string{`in.csv:2: line 3 has the same key (reg), but a different G: "5.0" here, "6.0" there`,
				`in.csv:3: line 2 has the same key (reg), but a different G: "6.0" here, "5.0" there`,
				"in.csv:6: N is blank, but vessel.name is NOT NULL, and there is no row with this key yet"},
			query: "SELECT reg FROM vessel WHERE reg > 'A6'", rows: []string{"A9"},
		},
		{
			name: "what they agree on is held against a row that is there", script: fleet,
			tables:   strings.Replace(most, "key: reg,", "key: reg, already_there: update,", 1),
			files:    map[string]string{"in": "R,N,G,K\nA1,Heron,1,\nA1,Heron,,Ferry\nA1,Other,1,\nA2,Skua,20,\nA2,Skua,20,\n"},
			accounts: []string{"vessel: 5, 1 updated, 1 unchanged, 1 repeated, 2 overruled"},
			query:    "SELECT reg, v.name, gt, k.name FROM vessel v JOIN kind k ON k.id = kind_id WHERE reg = 'A1'",
			rows:     []string{"A1|Heron|1|Ferry"},
		},
		{
			name: "a second half reads one line, so a line must have all of them", status: 4,
			script: "CREATE TABLE crew (id ID, no VARCHAR(4) NOT NULL UNIQUE, rank INTEGER, boss INTEGER REFERENCES " +
				"crew (id));",
			tables: "crew: {from: in, key: no, contradictions: most, columns: {no: N, rank: R, boss: {from: B, " +
				"lookup: crew.no}}}\nset_aside_limit: any",
			files: map[string]string{"in": "N,R,B\n1,1,\n2,2,1\n2,2,1\n2,9,1\n3,3,1\n3,3,\n3,,1\n4,4,\n4,,1\n"},
			accounts: []string{"crew: 9, 3 added, 1 repeated, 3 overruled, 2 aside",
				"crew.boss: 9, 2 updated, 1 unchanged, 1 repeated, 3 overruled, 2 aside"},
			asides: []string{"in.csv:9: line 10 has the same key (no), but a different R, B",
				"in.csv:10: line 9 has the same key (no), but a different R, B"},
			query: "SELECT c.no, c.rank, b.no FROM crew c LEFT JOIN crew b ON b.id = c.boss ORDER BY c.no",
			rows:  []string{"1|1|NULL", "2|2|1", "3|3|1"},
		},
	})
}

// TestConstraintsThatOnlyTheServerCanJudge: of many rows, those that a CHECK constraint with a function of the person's own
// keeps out are set aside, whether it says no or has no result, and so are those that something else keeps out.
func TestConstraintsThatOnlyTheServerCanJudge(t *testing.T) {
	const functions = `CREATE FUNCTION deep(n int) RETURNS bool LANGUAGE plpgsql AS $$ BEGIN RETURN 10 / n > 1; END $$;
		CREATE FUNCTION mine() RETURNS int LANGUAGE sql AS $$ SELECT 3 $$;
		CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF new.n = 1 THEN RAISE 'no ones'; END IF;
			RETURN new; END $$;
		CREATE TABLE stay (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, code text UNIQUE, n int, note text DEFAULT 'x',
			CONSTRAINT deep_enough CHECK (deep(n)), CONSTRAINT not_mine CHECK (n <> mine() OR note <> 'x'));
		INSERT INTO stay (code, n) VALUES ('c8', 2), ('c9', 2);`
	for name, trigger := range map[string]string{"alone": "", "with a trigger": "CREATE TRIGGER no BEFORE INSERT ON stay FOR " +
		"EACH ROW EXECUTE FUNCTION no();"} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, servers["postgres"], functions+trigger)
			w.write("in.csv", "C,N\nc0,0\nc1,1\nc2,2\nc3,3\nc4,4\nc5,5\nc6,\nc7,7\nc8,8\nc9,4\n")
			w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\ntables: {stay: {from: in, "+
				"key: code, already_there: update, columns: {code: C, n: N}}}\n")
			doc, out := w.load("load")
			require.Equal(t, 4, doc.Status, out.stdout+out.stderr)
			asides := []string{"2: the database rejects the row: division by zero",
				"3: the database rejects the row: no ones",
				"5: CHECK not_mine does not hold: n is 3",
				"9: CHECK deep_enough does not hold: n is 7",
				"10: CHECK deep_enough does not hold: n is 8"}
			rows := []string{"c1|1", "c2|2", "c4|4", "c5|5", "c6|NULL", "c8|2", "c9|4"}
			if trigger == "" {
				asides = slices.Delete(asides, 1, 2)
			} else {
				rows = rows[1:]
			}
			for i := range asides {
				asides[i] = "in.csv:" + asides[i]
			}
			assert.Equal(t, asides, doc.asides())
			assert.Equal(t, rows, w.query("SELECT code, n FROM stay ORDER BY code"))
		})
	}
}

// TestConstraintsThatAreKnownWhenARowIsWritten: a default of the database decides, and all databases say it in the same words.
func TestConstraintsThatAreKnownWhenARowIsWritten(t *testing.T) {
	everywhere(t, func(t *testing.T, on server) {
		w := newWorld(t, on, "CREATE TABLE stay (id ID, code VARCHAR(8) UNIQUE, n INTEGER, low INTEGER DEFAULT 5, CONSTRAINT above "+
			"CHECK (n > low), CHECK ( n < low + 90 ));")
		w.write("in.csv", "C,N\na,7\nb,3\nc,99\nd,4\ne,8\n")
		w.write("f.ladle.yaml", "ladle: 1\ninputs: {in: {file: in.csv}}\nset_aside_limit: any\ntables: {stay: {from: in, key: code, "+
			"columns: {code: C, n: N}}}\n")
		doc, out := w.load("load")
		require.Equal(t, 4, doc.Status, out.stdout+out.stderr)
		asides := doc.asides()
		require.Len(t, asides, 3)
		assert.Equal(t, "in.csv:3: CHECK above does not hold: n is 3", asides[0])
		assert.Regexp(t, `^in.csv:4: CHECK (\( n < low \+ 90 \)|stay_check|CONSTRAINT_1|stay_chk_\d) does not hold: n is 99$`, asides[1])
		assert.Equal(t, "in.csv:5: CHECK above does not hold: n is 4", asides[2])
		assert.Equal(t, []string{"a|7", "e|8"}, w.query("SELECT code, n FROM stay ORDER BY code"))
	})
}
