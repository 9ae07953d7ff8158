package prepare

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/ladlefile"
)

// prepared writes the cleaned lines of an input in.NAME with the given keys, and returns them, and those that are set
// aside.
func prepared(t *testing.T, name, content, keys string) (lines, aside string) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	path := filepath.Join(dir, "f.ladle.yaml")
	require.NoError(t, os.WriteFile(path, []byte("ladle: 1\ninputs:\n  in:\n    file: "+name+"\n"+keys+
		"tables: {t: {from: in, columns: {a: b}}}\nset_aside_limit: any\n"), 0o600))
	f, err := ladlefile.Read(path)
	require.NoError(t, err)
	_, err = Run(context.Background(), f, nil, Options{Folder: filepath.Join(dir, "out"), Format: CSV})
	require.NoError(t, err)
	read := func(name string) string {
		content, err := os.ReadFile(filepath.Join(dir, "out", name))
		if err != nil {
			return ""
		}
		return strings.ReplaceAll(string(content), "\r\n", "\n")
	}
	return read("in.csv"), read("in.set-aside.csv")
}

// TestShapesArePrepared: what is written to files is what a load would clean.
func TestShapesArePrepared(t *testing.T) {
	lines, aside := prepared(t, "in.csv", "Quay,Berth,Jan,Feb\nNorth,N1,1,x\n,N2,,3\nSouth\n,S1,4,\nEast,E1,5,6\n",
		"    header: 1\n    columns_to_rows: {columns: {from: Jan}, heading: Month, value: Tons}\n"+
			"    columns: {Quay: {if_blank: above}, Tons: {number: '1'}}\n    new_columns: {At: 'line_number()'}\n")
	assert.Equal(t, "Quay,Berth,Month,Tons,At\nNorth,N1,Jan,1,2\nNorth,N2,Feb,3,3\nEast,E1,Jan,5,6\nEast,E1,Feb,6,6\n",
		lines)
	for _, says := range []string{`2 part 2,"Tons ""x"" is not a number like 1",North,N1,Feb,x`,
		"4,the line has only 1 of 4 fields,South",
		"5 part 1,\"Quay takes the value of the line above, and that can't be read\",,S1,Jan,4"} {
		assert.Contains(t, aside, says)
	}
}

func TestJSONIsPrepared(t *testing.T) {
	lines, aside := prepared(t, "in.jsonl", `{"vessel":{"reg":"A1"},"cargo":["Wheat","Salt"],"tons":1e2}`+"\n"+
		`{"vessel":{"reg":"A2"},"cargo":"Coal","tons":"x"}`+"\n{broken\n",
		"    parts_to_rows: {column: cargo, number: part}\n    columns: {tons: {number: '1'}}\n")
	assert.Equal(t, "vessel.reg,cargo,tons,part\nA1,Wheat,100,1\nA1,Salt,100,2\n", lines)
	assert.Contains(t, aside, `2 part 1,"tons ""x"" is not a number like 1",A2,Coal,x,1`)
	assert.Contains(t, aside, "3,the line is not a JSON object: the name of a member is expected,{broken")
}
