package dictionary

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/engine/sqlite"
)

const harbour = `
	CREATE TABLE quay (id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(20) NOT NULL UNIQUE);
	CREATE TABLE berth (id INTEGER PRIMARY KEY AUTOINCREMENT, code VARCHAR(8) NOT NULL CHECK (code IN ('N1', 'S1')), quay_id INTEGER NOT NULL REFERENCES quay (id),
		depth_m DECIMAL(4,1) DEFAULT 5 CHECK (depth_m > 0), label TEXT GENERATED ALWAYS AS (code || '|'), UNIQUE (quay_id, code));
	INSERT INTO quay (name) VALUES ('North'), ('So*th_'), ('=East');
	INSERT INTO berth (code, quay_id, depth_m) VALUES ('N1', 1, 9.5), ('S1', 2, NULL);`

func described(t *testing.T, o Options) *Dictionary {
	t.Helper()
	db, err := sqlite.NewScratch(harbour)
	require.NoError(t, err)
	defer db.Close()
	s, err := db.Schema(context.Background())
	require.NoError(t, err)
	d, err := Make(context.Background(), db, s, o)
	require.NoError(t, err)
	return d
}

func TestColumnsSayWhatStandsInThem(t *testing.T) {
	d := described(t, Options{Values: true})
	cells := map[string][]any{}
	for _, row := range d.Columns().Rows {
		cells[row[0].(string)+"."+row[2].(string)] = row[3:]
	}
	for column, want := range map[string][]any{
		"quay.id": {"INTEGER", "auto-numbered", "primary key", "", "", "", "BINARY", int64(0), int64(3), "1", "3",
			int64(1), nil, "1; 2; 3"},
		"quay.name": {"VARCHAR(20)", "required", "unique", "", "", "", "BINARY", int64(0), int64(3), "=East", "So*th_",
			int64(6), int64(20), "North; So*th_; =East"},
		"berth.code": {"VARCHAR(8)", "required", "unique with quay_id", "", "N1, S1", "", "BINARY", int64(0), int64(2), "N1",
			"S1", int64(2), int64(8), "N1; S1"},
		"berth.quay_id": {"INTEGER", "required", "unique with code", "quay.id", "", "", "BINARY", int64(0), int64(2), "1",
			"2", int64(1), nil, "1; 2"},
		"berth.depth_m": {"DECIMAL(4,1)", "default 5", "", "", "", "", "BINARY", int64(1), int64(1), "9.5", "9.5", int64(3),
			nil, "9.5"},
	} {
		assert.Equal(t, want, cells[column], column)
	}
	assert.Equal(t, "computed", cells["berth.label"][1])
	assert.Equal(t, [][]string{{"1", "North"}, {"2", "So*th_"}, {"3", "=East"}}, d.Tables[0].Lookups)
	assert.Empty(t, d.Tables[1].Lookups, "nothing refers to it")
}

func TestSheets(t *testing.T) {
	var names []string
	for _, s := range described(t, Options{}).Sheets() {
		names = append(names, s.Name)
		for _, row := range s.Rows {
			assert.Len(t, row, len(s.Header), s.Name)
		}
	}
	assert.Equal(t, []string{"tables", "columns", "relations", "CHECK constraints"}, names, "lookup values only with all values")
	one := described(t, Options{Tables: []string{"berth"}})
	require.Len(t, one.Tables, 1)
	assert.Equal(t, [][]any{{"berth", "quay_id", "quay", "id", "yes"}}, one.relations().Rows)
	assert.Equal(t, []any{"berth", "", int64(2), "id", "quay_id, code", "", "", ""}, one.tables().Rows[0])
}

func TestMarkdownMeansNothingButItself(t *testing.T) {
	var text bytes.Buffer
	require.NoError(t, described(t, Options{Values: true}).Markdown(&text))
	for _, says := range []string{"\n## quay\n\n3 rows.\n\n", `| North; So\*th\_; =East |`, "| depth_m | DECIMAL(4,1) | default 5 |",
		"\n- no two rows have the same quay_id and code\n", "\n- quay_id refers to quay (id)\n",
		"\n- CHECK (depth_m > 0)\n"} {
		assert.Contains(t, text.String(), says)
	}
	for _, l := range strings.Split(text.String(), "\n") {
		if strings.HasPrefix(l, "|") {
			cells := strings.Count(strings.ReplaceAll(l, `\|`, ""), "|")
			assert.Contains(t, []int{11, 13}, cells, "each table has as many cells in all of its lines: "+l)
		}
	}
	assert.Equal(t, `a\*b \<i> \[x\] c_d \_e\_ \\ \| `, marked("a*b <i> [x] c_d _e_ \\ |\n"))
}

func TestCSVGuardsFormulas(t *testing.T) {
	var text bytes.Buffer
	require.NoError(t, described(t, Options{Values: true, Tables: []string{"quay"}}).CSV(&text))
	assert.Contains(t, text.String(), `,'=East,So*th_,6,20,`)
}
