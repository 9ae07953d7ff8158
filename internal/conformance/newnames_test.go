package conformance

import (
	"strings"
	"testing"
)

// kindsAndVessels fill a lookup table by a block of its own.
const kindsAndVessels = "kind: {from: kinds, key: name, columns: {name: K}}\n  vessel: {from: in, key: reg, columns: " +
	"{reg: R, name: N, kind_id: {from: K, lookup: kind.name}}}"

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
		{
			name: "some of them", script: fleet, status: 4,
			tables: "vessel: {from: in, key: reg, columns: {reg: R, name: N, kind_id: {from: K, lookup: kind.name, " +
				"not_found: add, similar_names: {accept: [Fery], set_aside: [Ferri]}}}}\nset_aside_limit: any",
			files:    map[string]string{"in": "R,N,K\nB1,Rail,Fery\nB2,Rail,Ferri\n"},
			accounts: []string{"vessel: 2, 1 added, 1 aside"},
			asides:   []string{`in.csv:3: K "Ferri" is not added to kind.name: it looks like "Ferry", which is in the table`},
			query:    "SELECT name FROM kind ORDER BY id", rows: []string{"Tug", "Ferry", "Fery"},
		},
		{
			name: "as keys of a block whose rows a lookup finds by them", script: fleet, status: 4,
			tables: kindsAndVessels + "\nset_aside_limit: any",
			files: map[string]string{"kinds": "K\nFery\nLighter\nLigther\nLigther\nT-12\nT-13\n",
				"in": "R,N,K\nB1,Rail,Fery\nB2,Rail,T-13\n"},
			accounts: []string{"kind: 6, 3 added, 3 aside", "vessel: 2, 1 added, 1 aside"},
			asides: []string{`in.csv:2: K "Fery" is not added to kind.name: it looks like "Ferry", which is in the table`,
				`kinds.csv:2: K "Fery" is not added to kind.name: it looks like "Ferry", which is in the table`,
				`kinds.csv:4: K "Ligther" is not added to kind.name: it looks like "Lighter", which is new too`,
				`kinds.csv:5: K "Ligther" is not added to kind.name: it looks like "Lighter", which is new too`},
			query: "SELECT name FROM kind ORDER BY id", rows: []string{"Tug", "Ferry", "Lighter", "T-12", "T-13"},
		},
		{
			name: "as keys that the ladle file accepts", script: fleet,
			tables:   strings.Replace(kindsAndVessels, "key: name,", "key: name, similar_names: {accept: [Fery]},", 1),
			files:    map[string]string{"kinds": "K\nFery\n", "in": "R,N,K\nB1,Rail,Fery\n"},
			accounts: []string{"kind: 1, 1 added", "vessel: 1, 1 added"},
			query:    "SELECT name FROM kind ORDER BY id", rows: []string{"Tug", "Ferry", "Fery"},
		},
		{
			name: "said where there are no names", script: fleet, status: 2,
			tables: "vessel: {from: in, key: reg, not_there: leave_out, similar_names: accept, columns: {reg: R, name: N}}",
			files:  map[string]string{"in": "R,N\nB1,Rail\n"},
			why:    "similar_names: has no effect here: this block adds no rows",
		},
	})
}
