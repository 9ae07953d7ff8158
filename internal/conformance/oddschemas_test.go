package conformance

import "testing"

// TestOddSchemas: relations that nobody declared, keys that are missing, names that need quotes.
func TestOddSchemas(t *testing.T) {
	relate(t, []relation{
		{
			name: "a foreign key that the file fills with ids",
			script: "CREATE TABLE maker (id ID, n VARCHAR(9)); CREATE TABLE tool (id ID, maker_id INTEGER REFERENCES " +
				"maker (id), n VARCHAR(9) UNIQUE); INSERT INTO maker (n) VALUES ('a'), ('b');",
			tables: "tool: {from: in, key: n, columns: {n: N, maker_id: M}}\n  maker: {from: in, key: id, columns: " +
				"{id: K, n: N}, only: not is_blank(k)}\nset_aside_limit: any",
			files:    map[string]string{"in": "N,M,K\nx,1,\ny,9,\nz,,\nw,7,7\n"},
			status:   4,
			accounts: []string{"maker: 4, 1 added, 3 out", "tool: 4, 3 added, 1 aside"},
			asides:   []string{`in.csv:3: M "9" is not in maker.id`},
			query:    "SELECT n, maker_id FROM tool ORDER BY n", rows: []string{"w|7", "x|1", "z|NULL"},
		},
		{
			name: "a diamond of relations",
			script: "CREATE TABLE top (id ID, n VARCHAR(4) UNIQUE); CREATE TABLE l (id ID, n VARCHAR(4) UNIQUE, " +
				"top_id INTEGER REFERENCES top (id)); CREATE TABLE r (id ID, n VARCHAR(4) UNIQUE, top_id INTEGER " +
				"REFERENCES top (id)); CREATE TABLE low (l_id INTEGER REFERENCES l (id), r_id INTEGER REFERENCES r " +
				"(id), PRIMARY KEY (l_id, r_id));",
			tables: "low: {from: in, columns: {l_id: {from: L, lookup: l.n}, r_id: {from: R, lookup: r.n}}}\n  r: " +
				"{from: in, key: n, columns: {n: R, top_id: {from: T, lookup: top.n, not_found: add}}}\n  l: {from: " +
				"in, key: n, columns: {n: L, top_id: {from: T, lookup: top.n, not_found: add}}}",
			files:    map[string]string{"in": "L,R,T\na,x,t\nb,y,t\na,y,t\n"},
			accounts: []string{"r: 3, 2 added, 1 repeated", "l: 3, 2 added, 1 repeated", "low: 3, 3 added"},
			query: "SELECT l.n, r.n, top.n FROM low JOIN l ON l.id = l_id JOIN r ON r.id = r_id JOIN top ON top.id = " +
				"l.top_id AND top.id = r.top_id ORDER BY 1, 2",
			rows: []string{"a|x|t", "a|y|t", "b|y|t"},
		},
		{
			name: "relations that nobody declared, and names that need quotes",
			script: `CREATE TABLE Q[order]Q (id ID, Q[a key]Q VARCHAR(8) NOT NULL UNIQUE); CREATE TABLE Q[line's "x"]Q (id ID, order_id INTEGER NOT NULL, Q[select]Q INTEGER, Q[from, to]Q VARCHAR(8));
				INSERT INTO Q[order]Q (Q[a key]Q) VALUES ('O1');`,
			tables: "'line''s \"x\"': {from: in, already_there: update, key: [order_id, select], columns: {order_id: " +
				"{from: O, lookup: order.a key}, select: S, 'from, to': F}}\n  order: {from: in, columns: {a key: O}}",
			files:    map[string]string{"in": "O,S,F\nO1,1,a\nO2,2,b\n"},
			accounts: []string{"order: 2, 1 added, 1 same", `line's "x": 2, 2 added`},
			query:    `SELECT Q[a key]Q, Q[select]Q, Q[from, to]Q FROM Q[line's "x"]Q l JOIN Q[order]Q o ON o.id = l.order_id ORDER BY 1`, rows: []string{"O1|1|a", "O2|2|b"},
		},
		{
			name: "no primary key",
			script: "CREATE TABLE watch (day DATE, words VARCHAR(20), n INTEGER); INSERT INTO watch VALUES " +
				"('2026-01-01', 'fog', 1), ('2026-01-01', 'fog', 1);",
			tables: "watch: {from: in, key: [day, words], columns: {day: D, words: W, n: N}}",
			files: map[string]string{"in": "D,W,N\n2026-01-01,fog,2\n2026-01-02,fog,2\n2026-01-02,fog,2\n" +
				"2026-01-02,rain,\n"},
			accounts: []string{"watch: 4, 2 added, 1 differs, 1 repeated"},
			query:    "SELECT day, words, n FROM watch ORDER BY day, words",
			rows:     []string{"2026-01-01|fog|1", "2026-01-01|fog|1", "2026-01-02|fog|2", "2026-01-02|rain|NULL"},
		},
		{
			name:     "no primary key, and nothing else that tells rows apart",
			script:   "CREATE TABLE watch (day DATE, words VARCHAR(20)); INSERT INTO watch VALUES ('2026-01-01', 'fog');",
			tables:   "watch: {from: in, key: none, columns: {day: D, words: W}}",
			files:    map[string]string{"in": "D,W\n2026-01-01,fog\n2026-01-01,fog\n,\n2026-01-02,x\n"},
			accounts: []string{"watch: 3, 3 added"},
			query:    "SELECT day, words FROM watch ORDER BY day, words",
			rows:     []string{"2026-01-01|fog", "2026-01-01|fog", "2026-01-01|fog", "2026-01-02|x"},
		},
	})
}
