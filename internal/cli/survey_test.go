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
		m     source.Format
		words string
		notes []string
	}{
		{"plain text", source.Format{Format: "text", Encoding: source.Setting{Value: "UTF-8", Confidence: 1},
			Delimiter: source.Setting{Value: ",", Confidence: 1}, Quote: `"`, LineEndings: "LF",
			Header: source.Setting{Value: "1", Confidence: 1}},
			"text in UTF-8, commas, LF, header on line 1", nil},
		{"guesses", source.Format{Format: "text", Encoding: source.Setting{Value: "windows-1250", Confidence: 0.55},
			Delimiter: source.Setting{Value: "^", Confidence: 0.4}, Quote: "none", LineEndings: "CR",
			Header: source.Setting{Value: "none", Confidence: 0.6}},
			`text in windows-1250 (a guess: 55 % certain), "^" between fields (a guess: 40 % certain), CR, quotes are part of the data, no header (a guess: 60 % certain)`, nil},
		{"what is said is no guess", source.Format{Format: "text", Compression: "gzip",
			Encoding:  source.Setting{Value: "UTF-8", Confidence: 1},
			Delimiter: source.Setting{Value: "\t", Confidence: 0.1, Given: true}, Quote: "'",
			Header: source.Setting{Value: "3-4", Confidence: 0.1, Given: true}},
			"text in UTF-8, tabs, ' around fields, compressed with gzip, header on line 3-4", nil},
		{"a sheet", source.Format{File: source.File{Sheet: "Calls"}, Format: "ods",
			Header:       source.Setting{Value: "4", Confidence: 1},
			SkippedLines: 2, SkippedTexts: []string{"Calls"}, Blank: 1, HiddenRows: 2, HiddenColumns: []string{"C"},
			Merged: 1, Formulas: 3,
			Sheets: []source.Sheet{{Name: "Calls"}, {Name: "Old", Hidden: true}}},
			"workbook (ods), header on row 4", []string{`2 rows above the header: "Calls"`,
				"1 blank row between the rows", "2 hidden rows, read like the others",
				"hidden columns, read like the others: C",
				"1 block of merged cells among the rows; only the first cell of each holds a value, and " +
					"if_blank: above gives it to those below",
				"3 formulas, of which the stored results are read", "sheets of the workbook: Calls, Old (hidden)"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.words, formatWords(&c.m))
			assert.Equal(t, c.notes, formatNotes(&c.m))
		})
	}
}

func TestWhatIsOddInWords(t *testing.T) {
	text := &survey.Input{Read: &source.Format{Format: "text"}}
	sheet := &survey.Input{Read: &source.Format{File: source.File{Sheet: "Calls"}, Format: "xlsx"}}
	places := []survey.Place{{Line: 7, Says: "x"}, {Line: 9, Says: "y"}}
	cells := []survey.Place{{Line: 7, Cell: "C7", Says: "x"}}
	cases := []struct {
		in     *survey.Input
		column survey.Column
		want   []string
	}{
		{text, survey.Column{Name: "GT", Type: "whole number", Fit: 8,
			Misfits: survey.Oddity{Count: 2, Places: places}},
			[]string{`GT: 2 of 10 cells are not a whole number: line 7 "x", line 9 "y"`}},
		{sheet, survey.Column{Name: "GT", Type: "date", Fit: 2, Misfits: survey.Oddity{Count: 4, Places: cells}},
			[]string{`GT: 4 of 6 cells are not a date: C7 "x" and 3 more`}},
		{text, survey.Column{Name: "Flag", Words: []survey.Oddity{{What: "n/a", Count: 2, Places: places}}},
			[]string{`Flag: "n/a" seems to mean blank: lines 7, 9`}},
		{sheet, survey.Column{Name: "Flag", Words: []survey.Oddity{{What: "-", Count: 1, Places: cells}}},
			[]string{`Flag: "-" seems to mean blank: C7`}},
		{text, survey.Column{Name: "Dues", Unclear: "unclear",
			Also: []survey.Count{{Value: "€1234.5", Count: 3}, {Value: "1234.5", Count: 2000}}, Looks: "postcodes"},
			[]string{"Dues: unclear", "Dues: written in several ways: €1234.5 (3), 1234.5 (2,000)",
				"Dues: looks like postcodes"}},
		{text, survey.Column{Name: "Flag", Oddities: []survey.Oddity{{What: "spellings of one word", Count: 9,
			Places: places}, {What: "with leading or trailing blanks", Count: 1, Places: places[:1]}}},
			[]string{`Flag: possibly one word in two spellings: "x", "y"`,
				`Flag: 1 cell with leading or trailing blanks: line 7 "x"`}},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, columnItems(c.in, &c.column))
	}
}

func TestKeysAndRelationsInWords(t *testing.T) {
	in := &survey.Input{Read: &source.Format{Format: "text"}, Bounds: survey.Bounds{SampleRows: 20_000},
		Keys: []survey.Key{{Columns: []string{"Reg. No.", "Arrived"}},
			{Columns: []string{"Call"}, Blanks: 2, Repeats: 1, First: []survey.Repeat{{Line: 9, Earlier: 4}}}},
		Parents: []survey.Parent{{Column: "Reg. No.", Distinct: 300,
			Decides: []survey.Decision{{Column: "Vessel"}, {Column: "Flag",
				Against: survey.Oddity{Count: 1, Places: []survey.Place{{Line: 8, Says: "PM-1"}}}}}}}}
	var out bytes.Buffer
	s := term.NewPlain(&out, 120)
	showKeys(s, in)
	showParents(s, in)
	assert.Equal(t, `
Possible keys
  - Reg. No. + Arrived
  - Call, but blank on 2 lines, but for 1 duplicate: line 9 repeats 4
  found in the first 20,000 rows, verified over all rows

Columns that belong together: possibly a table of their own
  - each of the 300 values of Reg. No. always comes with the same Vessel, Flag (except Flag on line 8 "PM-1")
`, out.String())
	assert.Equal(t,
		`Berth of a.csv: 6 of 7 distinct values also occur in Code of b.csv, but not "S9" (compared by a sample of the values)`,
		relationWords(survey.Relation{Input: "a.csv", Column: "Berth", Parent: "b.csv", Key: "Code", Shared: 6,
			Values: 7, Missing: []string{"S9"}, Sampled: true}))
	assert.Equal(t, "Berth of a.csv: all 7 distinct values also occur in Code of b.csv",
		relationWords(survey.Relation{Input: "a.csv", Column: "Berth", Parent: "b.csv", Key: "Code", Shared: 7,
			Values: 7}))
}

func TestHistograms(t *testing.T) {
	var out bytes.Buffer
	showBars(term.NewPlain(&out, 30), "Values", []survey.Bar{{From: "0", To: "5", Count: 20},
		{From: "5", To: "10", Count: 1}, {From: "10", To: "15"}})
	assert.Equal(t, "\nValues\n    0 – 5  ▆▆▆▆▆▆▆▆▆▆ 20\n   5 – 10  ▆ 1\n  10 – 15   0\n", out.String())
	out.Reset()
	showBars(term.NewPlain(&out, 30), "Values", []survey.Bar{{From: "7", To: "7", Count: 3}})
	assert.Empty(t, out.String(), "one bar says nothing")
	assert.Equal(t, []string{"abc", "ab…", "…a/file.csv"}, []string{cut("abc", 3), cut("abcd", 3),
		cutLeft("a/long/path/to/a/file.csv", 11)})
}
