package cli

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"

	"ladle/internal/core/source"
	"ladle/internal/core/survey"
	"ladle/internal/term"
)

func TestHowAFileWasReadInWords(t *testing.T) {
	cases := []struct {
		name  string
		m     source.Manner
		words string
		notes []string
	}{
		{"plain text", source.Manner{Format: "text", Encoding: source.Guess{Is: "UTF-8", Sure: 1}, Limits: source.Guess{Is: ",", Sure: 1}, Quote: `"`, Ends: "LF", Header: source.Guess{Is: "1", Sure: 1}},
			"text in UTF-8, commas, LF, names of columns on line 1", nil},
		{"guesses", source.Manner{Format: "text", Encoding: source.Guess{Is: "windows-1250", Sure: 0.55}, Limits: source.Guess{Is: "^", Sure: 0.4}, Quote: "none", Ends: "CR", Header: source.Guess{Is: "none", Sure: 0.6}},
			`text in windows-1250 (a guess, 55 % sure), "^" between fields (a guess, 40 % sure), CR, quotes are part of the data, no line with names of columns (a guess, 60 % sure)`, nil},
		{"what is said is no guess", source.Manner{Format: "text", Packed: "gzip", Encoding: source.Guess{Is: "UTF-8", Sure: 1}, Limits: source.Guess{Is: "\t", Sure: 0.1, Said: true}, Quote: "'", Header: source.Guess{Is: "3-4", Sure: 0.1, Said: true}},
			"text in UTF-8, tabs, ' around fields, packed with gzip, names of columns on line 3-4", nil},
		{"a sheet", source.Manner{Format: "ods", Sheet: "Calls", Header: source.Guess{Is: "4", Sure: 1}, Above: 2, Titles: []string{"Calls"}, Blank: 1, HiddenRows: 2, HiddenColumns: []string{"C"}, Merged: 1, Formulas: 3,
			Sheets: []source.Sheet{{Name: "Calls"}, {Name: "Old", Hidden: true}}},
			"workbook (ods), names of columns on row 4", []string{`2 rows above the names: "Calls"`, "1 blank row between the rows", "2 hidden rows, read all the same", "hidden columns, read all the same: C",
				"1 block of merged cells among the rows; only the first cell of each holds a value", "3 formulas, read by the results that are stored", "sheets of the workbook: Calls, Old (hidden)"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.words, mannerWords(&c.m))
			assert.Equal(t, c.notes, mannerNotes(&c.m))
		})
	}
}

func TestWhatIsOddInWords(t *testing.T) {
	text := &survey.Input{Read: &source.Manner{Format: "text"}}
	sheet := &survey.Input{Read: &source.Manner{Format: "xlsx", Sheet: "Calls"}}
	places := []survey.Place{{Line: 7, Says: "x"}, {Line: 9, Says: "y"}}
	cells := []survey.Place{{Line: 7, Cell: "C7", Says: "x"}}
	cases := []struct {
		in     *survey.Input
		column survey.Column
		want   []string
	}{
		{text, survey.Column{Name: "GT", Type: "whole number", Fit: 8, Misfits: survey.Oddity{Count: 2, Places: places}}, []string{`GT: no whole number in 2 of 10 cells: line 7 "x", line 9 "y"`}},
		{sheet, survey.Column{Name: "GT", Type: "date", Fit: 2, Misfits: survey.Oddity{Count: 4, Places: cells}}, []string{`GT: no date in 4 of 6 cells: C7 "x" and 3 more`}},
		{text, survey.Column{Name: "Flag", Words: []survey.Oddity{{What: "n/a", Count: 2, Places: places}}}, []string{`Flag: "n/a" seems to mean blank: lines 7, 9`}},
		{sheet, survey.Column{Name: "Flag", Words: []survey.Oddity{{What: "-", Count: 1, Places: cells}}}, []string{`Flag: "-" seems to mean blank: C7`}},
		{text, survey.Column{Name: "Dues", Unclear: "unclear", Also: []survey.Count{{Value: "€1234.5", Count: 3}, {Value: "1234.5", Count: 2000}}, Looks: "postcodes"},
			[]string{"Dues: unclear", "Dues: written in several ways: €1234.5 (3), 1234.5 (2 000)", "Dues: looks like postcodes"}},
		{text, survey.Column{Name: "Flag", Oddities: []survey.Oddity{{What: "spellings of one word", Count: 9, Places: places}, {What: "with blanks around", Count: 1, Places: places[:1]}}},
			[]string{`Flag: perhaps one word in 2 spellings: "x", "y"`, `Flag: 1 cell with blanks around: line 7 "x"`}},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, columnItems(c.in, &c.column))
	}
}

func TestKeysAndRelationsInWords(t *testing.T) {
	in := &survey.Input{Read: &source.Manner{Format: "text"}, Bounds: survey.Bounds{SampleRows: 20_000},
		Keys: []survey.Key{{Columns: []string{"Reg. No.", "Arrived"}}, {Columns: []string{"Call"}, Blanks: 2, Repeats: 1, First: []survey.Repeat{{Line: 9, Earlier: 4}}}},
		Parents: []survey.Parent{{Column: "Reg. No.", Distinct: 300, Decides: []survey.Decision{{Column: "Vessel"}, {Column: "Flag",
			Against: survey.Oddity{Count: 1, Places: []survey.Place{{Line: 8, Says: "PM-1"}}}}}}}}
	var out bytes.Buffer
	s := term.NewPlain(&out, 120)
	showKeys(s, in)
	showParents(s, in)
	assert.Equal(t, `
Keys: columns that tell the rows apart
  - Reg. No. + Arrived
  - Call, but 2 lines are blank in it, but 1 repeat: 9 repeats 4
  looked for in the first 20 000 rows, verified over all of them

Columns that go together: perhaps a table of their own
  - each of the 300 different Reg. No. always has the same Vessel, Flag, but not Flag of line 8 "PM-1"
`, out.String())
	assert.Equal(t, `Berth of a.csv: 6 of 7 different values stand in Code of b.csv, but not "S9" (by a sample of the values)`,
		relationWords(survey.Relation{Input: "a.csv", Column: "Berth", Parent: "b.csv", Key: "Code", Shared: 6, Values: 7, Missing: []string{"S9"}, Sampled: true}))
	assert.Equal(t, "Berth of a.csv: all 7 different values stand in Code of b.csv",
		relationWords(survey.Relation{Input: "a.csv", Column: "Berth", Parent: "b.csv", Key: "Code", Shared: 7, Values: 7}))
}

func TestHistograms(t *testing.T) {
	var out bytes.Buffer
	showBars(term.NewPlain(&out, 30), "Values", []survey.Bar{{From: "0", To: "5", Count: 20}, {From: "5", To: "10", Count: 1}, {From: "10", To: "15"}})
	assert.Equal(t, "\nValues\n    0 – 5  ▆▆▆▆▆▆▆▆▆▆ 20\n   5 – 10  ▆ 1\n  10 – 15   0\n", out.String())
	out.Reset()
	showBars(term.NewPlain(&out, 30), "Values", []survey.Bar{{From: "7", To: "7", Count: 3}})
	assert.Empty(t, out.String(), "one bar says nothing")
	assert.Equal(t, []string{"abc", "ab…", "…a/file.csv"}, []string{cut("abc", 3), cut("abcd", 3), cutLeft("a/long/path/to/a/file.csv", 11)})
}
