package aside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/source"
)

func TestGroupsSayWhatWouldSolveThem(t *testing.T) {
	const number, date = "has separators, so it is not a plain number like 1234.5", "is not a date like 2026-03-31"
	for _, c := range []struct {
		why    string
		cells  []string
		advice string
	}{
		{number, []string{"1.234,56", "7,5", "12.000"}, `inputs: calls: columns: Dues: {number: "1.234,50"}`},
		{number, []string{"4,060.00", "n/a", "1,200"}, `2 of them are read by inputs: calls: columns: Dues: {number: "1,234.50"}`},
		{"is not a number", []string{"n/a", "-"}, `inputs: calls: columns: Dues: {blank_is: [n/a, "-"]} if that means nothing`},
		{"has blanks around it, so it is not a plain number", []string{" 12", "7 "}, "inputs: calls: columns: Dues: {clean: trim}"},
		{"is not a number like 1234.5", []string{"€ 12", "€ 13"}, `2 of them are written like "€1234", another notation than the rest of the column`},
		{date, []string{"14/03/2026", "03/04/2026"}, "inputs: calls: columns: Dues: {date: [dd/MM/yyyy, yyyy-MM-dd]}"},
		{date, []string{"03/04/2026"}, "inputs: calls: columns: Dues: {date: dd/MM/yyyy}, or MM/dd/yyyy: no line tells which"},
		{"is not a date and time like 2026-03-31 15:04", []string{"14/03/2026 03:10"}, "inputs: calls: columns: Dues: {date: [\"dd/MM/yyyy HH:mm\", \"yyyy-MM-dd HH:mm\"]}"},
		{date, []string{"soon"}, "inputs: calls: columns: Dues: {blank_is: [soon]} if that means nothing"},
		{"is not a date like dd/MM/yyyy", []string{"2026-03-14"}, "1 of them is written by the pattern yyyy-MM-dd; date: takes a list of patterns"},
		{"is longer than the 40 characters that the column takes", []string{"x"}, "inputs: calls: columns: Dues: {shorten_to: 40} cuts them"},
		{"has more than 2 digits after the point and would be rounded", []string{"1.234"}, "inputs: calls: columns: Dues: {round: 2} rounds them"},
		{"is neither true nor false (1 or 0)", []string{"Y", "N"}, "inputs: calls: columns: Dues: {yes_is: [...], no_is: [...]} with the words of this file: Y, N"},
		{`is not in flag.name; there is "Norway"`, []string{"Norwey"}, "inputs: calls: columns: Dues: {recode: {Norwey: Norway}}"},
		{`can't be added to flag.name: it looks like another name; there is "Norway"`, []string{"Norwey"}, "inputs: calls: columns: Dues: {recode: {Norwey: Norway}}, or similar: accept, behind the find, adds them"},
		{`can't be added to flag.name: it looks like another name; "Norwai" is new too`, []string{"Norwey"}, "similar: accept, behind the find, adds them"},
		{`is not in berth.code; there is "S1"`, []string{"S1 "}, "inputs: calls: columns: Dues: {clean: trim}"},
		{"is not in flag.name", []string{"Merrow"}, "not_found: add, or leave_blank, behind the find takes them"},
		{"is blank, but call.dues must have a value", []string{""}, "inputs: calls: columns: Dues: {default: ...}, or if_blank:, gives it a value"},
		{"starts with a zero, which a number would lose", []string{"007"}, `inputs: calls: columns: Dues: {number: "0001"} if the zeros mean nothing`},
		{"doesn't say its zone (Z, or an offset like +02:00)", []string{"x"}, "inputs: calls: time_zone: ..., with a name like Europe/Lisbon, says which"},
	} {
		var groups Groups
		for _, cell := range c.cells {
			groups.Add("calls", Problem{Column: "Dues", Cell: cell, Why: c.why}, "calls.csv:2")
		}
		list := groups.List()
		require.Len(t, list, 1)
		assert.Equal(t, c.advice, list[0].Advice, c.why)
		assert.EqualValues(t, len(c.cells), list[0].Count)
	}
}

func TestGroupsAreFewWhateverThereIs(t *testing.T) {
	var groups Groups
	for i := range 5000 {
		groups.Add("calls", Problem{Why: fmt.Sprintf("line %d has the same key (reg_no), but another GT", i)}, "calls.csv:3")
		groups.Add("calls", Problem{Column: "Berth", Cell: fmt.Sprint(i), Why: fmt.Sprintf("is not in berth.code; there is %q", fmt.Sprint(i))}, "calls.csv:3")
		groups.Add("calls", Problem{Column: fmt.Sprint("c", i), Cell: "x", Why: "is not a number"}, "calls.csv:3")
	}
	list := groups.List()
	assert.Len(t, list, mostGroups+1)
	assert.Equal(t, []string{"another line has the same key (reg_no), but another GT", "is not in berth.code", otherWhys}, []string{list[0].Why, list[1].Why, list[2].Why})
	total := int64(0)
	for _, g := range list {
		total += g.Count
		assert.LessOrEqual(t, len(g.First), firstOnes)
	}
	assert.EqualValues(t, 15000, total)
}

// calls opens a table of three files with a line each that is called by its place.
func calls(t *testing.T, contents ...string) source.Table {
	dir := t.TempDir()
	for i, c := range contents {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("calls-%d.csv", i+1)), []byte(c), 0o600))
	}
	table, err := source.Open([]string{filepath.Join(dir, "calls-*.csv")}, source.Asked{})
	require.NoError(t, err)
	t.Cleanup(func() { table.Close() })
	return table
}

// place writes a set-aside file of a table with the given lines behind its head.
func place(t *testing.T, table source.Table, lines string) string {
	path := filepath.Join(t.TempDir(), "calls.set-aside.csv")
	sum, err := table.Sum()
	require.NoError(t, err)
	d := source.DialectOf(table)
	moved, err := Place(path, Title(2, FileNames(table), sum, "NOT LOADED"), d, func(out io.Writer) error {
		_, err := io.WriteString(out, Head(d, table.Header())+lines)
		return err
	})
	require.NoError(t, err)
	require.Empty(t, moved)
	return path
}

func TestMendedLinesTakeThePlaceOfTheirOrigin(t *testing.T) {
	table := calls(t, "Reg,Tons\nR1,a\nR2,2\n", "Reg,Tons\nR3,b\nR4\n")
	path := place(t, table, "calls-2.csv:2,\"Tons \"\"b\"\" is not a number\",R3,3\ncalls-1.csv:2,why,R1,\"1,5\"\ncalls-2.csv:3,the line has only 1 of 2 fields,R4\n")
	sum, err := table.Sum()
	require.NoError(t, err)
	mended, err := Mend(table, path, sum)
	require.NoError(t, err)
	defer mended.Close()
	require.Error(t, mended.Unused(), "nothing was read yet")
	var all []string
	work := func(c *source.Chunk) (lines []string) {
		var r source.Record
		for c.Next(&r) {
			lines = append(lines, fmt.Sprintf("%s %q %s", PlaceOf(mended, r.Position), r.Fields, source.Misshapen(&r, 2)))
		}
		return lines
	}
	require.NoError(t, source.Each(context.Background(), mended, work, func(_ *source.Chunk, lines []string) error { all = append(all, lines...); return nil }))
	assert.Equal(t, []string{`calls-1.csv:2 ["R1" "1,5"] `, `calls-1.csv:3 ["R2" "2"] `, `calls-2.csv:2 ["R3" "3"] `, `calls-2.csv:3 ["R4"] the line has only 1 of 2 fields`}, all)
	require.NoError(t, mended.Unused())
	both, err := mended.Sum()
	require.NoError(t, err)
	assert.Equal(t, sum, both, "it is still the same input")
}

func TestMendedLinesThatFitNothingAreRefused(t *testing.T) {
	table := calls(t, "Reg,Tons\nR1,a\n", "Reg,Tons\nR3,b\n")
	sum, err := table.Sum()
	require.NoError(t, err)
	for lines, why := range map[string]string{
		"calls-1.csv:2,x,R1,1\ncalls-1.csv:2,x,R1,2\n": "it has line 2 twice", "calls-3.csv:2,x,R1,1\n": `"calls-3.csv:2" names no line`, "calls-1.csv:0,x,R1,1\n": "names no line",
		",x,R1,1\n": "names no line", "calls-1.csv:two,x,R1,1\n": "names no line", "calls-1.csv:2\n": "the line has only 1 of 4 fields",
	} {
		_, err := Mend(table, place(t, table, lines), sum)
		assert.ErrorContains(t, err, why, lines)
	}
	_, err = Mend(table, place(t, table, ""), strings.Repeat("0", 64))
	assert.ErrorContains(t, err, "are from another calls-1.csv, calls-2.csv")
	_, err = Mend(table, filepath.Join(t.TempDir(), "none.csv"), sum)
	assert.ErrorContains(t, err, "none.csv")
}

func TestASetAsideFileIsWholeOrAbsent(t *testing.T) {
	table := calls(t, "Reg,Tons\nR1,a\n")
	path := place(t, table, "2,x,R1,a\n")
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	failed := errors.New("the disk is full")
	_, err = Place(path, "title", source.DialectOf(table), func(out io.Writer) error {
		_, err := io.WriteString(out, "half a li")
		return errors.Join(err, failed)
	})
	require.ErrorIs(t, err, failed)
	again, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(whole), string(again))
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing half is left beside it")
	require.NoError(t, os.WriteFile(path, append(whole, "3,x,R2,b\n"...), 0o600))
	moved, err := Place(path, "title", source.DialectOf(table), func(io.Writer) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSuffix(path, ".csv")+".edited-1.csv", moved)
}
