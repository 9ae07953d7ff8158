package conformance

import "testing"

// TestNewNames: names that look like others are asked about.
func TestNewNames(t *testing.T) {
	relate(t, []relation{
		{
			name: "names that look like others are not added without an answer", script: fleet, status: 4,
			tables: "vessel: {from: in, key: reg, columns: {reg: R, name: N, kind_id: {from: K, lookup: kind.name, " +
				"not_found: add}}}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,K\nB1,Rail,Fery\nB2,Rail,Lighter\nB3,Rail,Ligther\nB4,Rail,Tugs\n"},
			accounts: []string{"vessel: 4, 2 added, 2 aside"},
			asides: []string{`in.csv:2: K "Fery" is not added to kind.name: it looks like "Ferry", which is in the table`,
				`in.csv:4: K "Ligther" is not added to kind.name: it looks like "Lighter", which is new too`},
			query: "SELECT name FROM kind ORDER BY id", rows: []string{"Tug", "Ferry", "Lighter", "Tugs"},
		},
		{
			name: "or with one in the ladle file", script: fleet,
			tables: "vessel: {from: in, key: reg, columns: {reg: R, name: N, kind_id: {from: K, lookup: kind.name, " +
				"not_found: add, similar_names: accept}}}",
			files:    map[string]string{"in": "R,N,K\nB1,Rail,Fery\n"},
			accounts: []string{"vessel: 1, 1 added"},
			query:    "SELECT name FROM kind ORDER BY id", rows: []string{"Tug", "Ferry", "Fery"},
		},
	})
}
