package aside

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
