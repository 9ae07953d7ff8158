package main

import (
	"bufio"
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"ladle/internal/core/clean"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// messy is the ladle file for messyFile: two dates, three decimals by example, five texts with two cleanings each.
const messy = `ladle: 1
inputs:
  calls:
    file: messy.csv
    columns:
      Arrived: {date: dd/MM/yyyy HH:mm}
      Departed: {date: d MMM yyyy}
      Dues: {number: "€1.234,56"}
      Tons: {number: "1 234,5"}
      Share: {number: "12,5 %"}
      Reg. No.: {clean: [trim, upper]}
      Vessel: {clean: [squeeze, title]}
      Phone: {clean: [digits, {add_prefix: "0"}]}
      Berth: {clean: [upper, {drop_prefix: "BERTH "}]}
      Agent: {clean: [trim, {replace: {"&": and}}]}
tables: {t: {from: calls, columns: {a: b}}}
`

// messyTypes are as what the columns of messyFile are read.
var messyTypes = []value.Type{{Kind: value.DateTime}, {Kind: value.Date}, {Kind: value.Fixed, Precision: 12, Scale: 2},
	{Kind: value.Fixed, Precision: 12, Scale: 2},
	{Kind: value.Fixed, Precision: 6, Scale: 2}, {Length: 10}, {Length: 40}, {Length: 20}, {Length: 10}, {Length: 40}}

// messyFile writes rows lines as messy as real ones.
func messyFile(path string, rows int) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriterSize(f, 1<<20)
	fmt.Fprint(w, "Arrived;Departed;Dues;Tons;Share;Reg. No.;Vessel;Phone;Berth;Agent\r\n")
	months := []string{"Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"}
	for i := range rows {
		x := uint64(i) * 0x9e3779b97f4a7c15
		fmt.Fprintf(w, "%02d/%02d/%d %02d:%02d;%d %s %d;€%d.%03d,%02d;%d %03d,%d;%d,%d %%; pm-%06d;GREY  HERON "+
			"%d;(0555) %04d-%02d;berth n%d; Quill & Daughters %d\r\n",
			x%28+1, x>>8%12+1, 2000+x>>16%26, x>>24%24, x>>30%60, x>>36%28+1, months[x>>40%12], 2000+x>>44%26,
			x>>20%9+1, x>>10%1000, x>>33%100, x>>15%90+1, x>>21%1000, x>>50%10, x>>12%100, x>>55%10,
			x>>18%8000, x>>18%8000, x>>22%10000, x>>40%100, x>>45%60, x>>50%40)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

// messyInput opens messyFile in a folder, with its recipe.
func messyInput(path string) (source.Table, *clean.Recipe, error) {
	f, err := ladlefile.Decode(filepath.Join(filepath.Dir(path), "messy.ladle.yaml"), []byte(messy))
	if err != nil {
		return nil, nil, err
	}
	t, err := source.Open(f.Inputs[0].Paths, source.ReadOptions{})
	if err != nil {
		return nil, nil, err
	}
	recipe, err := plan.Recipe(f.Path, f.Inputs[0], t.Header())
	return t, recipe, err
}

// cleanAll cleans messyFile into a spool, as a load does.
func cleanAll(path string) error {
	t, recipe, err := messyInput(path)
	if err != nil {
		return err
	}
	defer t.Close()
	var columns []clean.Column
	for i, typ := range messyTypes {
		columns = append(columns, clean.Column{Of: i, Type: typ})
	}
	rows, err := clean.Read(context.Background(), t, recipe, columns, filepath.Dir(path), nil)
	if err != nil {
		return err
	}
	if n := rows.Problems.Len(); n > 0 {
		return fmt.Errorf("%d cells are bad", n)
	}
	return rows.Close()
}

// cleaning measures the cleaning of a whole input on one core against finding its line ends, and each cleaning alone.
func (b *bench) cleaning(runs int) error {
	folder := filepath.Join(b.folder, "reading")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	path := filepath.Join(folder, "messy.csv")
	if err := messyFile(path, million); err != nil {
		return err
	}
	var all ratios
	err := withProcessors(1, func() error {
		for range runs {
			split, err := b.self("split", path)
			if err != nil {
				return err
			}
			cleaned, err := b.self("clean", path)
			if err != nil {
				return err
			}
			fmt.Printf("  cleaning on one core: split %.3f s, cleaned %.3f s of CPU, %.0f MB\n", split.cpu, cleaned.cpu,
				cleaned.memory)
			all.add(cleaned, split)
		}
		return nil
	})
	if err != nil {
		return err
	}
	all.tell("clean", "split", "-", "15", "200")
	if err := eachCleaning(); err != nil {
		return err
	}
	return eachInColumns(folder)
}

// eachCleaning measures rules alone, a cell at a time.
func eachCleaning() error {
	for _, c := range []struct{ name, rule, cell string }{
		{"nothing", "{}", "PM-000101"}, {"trim", "{clean: trim}", " PM-000101 "},
		{"squeeze", "{clean: squeeze}", "Grey  Heron 17"},
		{"upper", "{clean: upper}", "pm-000101"}, {"lower", "{clean: lower}", "PM-000101"},
		{"title", "{clean: title}", "GREY HERON 17"},
		{"digits", "{clean: digits}", "(0555) 01-17"}, {"letters", "{clean: letters}", "Berth 17"},
		{"nfc", "{clean: nfc}", "Grey Heron"},
		{"ascii", "{clean: ascii}", "Ærø"}, {"strip", `{clean: {without: "()- "}}`, "(0555) 01-17"},
		{"prefix", "{clean: {add_prefix: PM-}}", "000101"},
		{"no_prefix", "{clean: {drop_prefix: PM-}}", "PM-000101"},
		{"replace", `{clean: {replace: {"&": and}}}`, "Quill & Daughters"},
		{"pattern", `{clean: {regex: '^(\d+)-(\d+)$', becomes: $2/$1}}`, "0555-0117"},
		{"pad", "{clean: {pad: 6}}", "101"}, {"part", `{clean: {part: 2, at: "/"}}`, "N1/Salt Wharf"},
		{"blank_is", "{blank_is: [n/a, '-']}", "N/A"}, {"recode", "{recode: {UK: United Kingdom}}", "UK"},
		{"number", `{number: "€1.234,56"}`, "€4.060,50"},
		{"number_plain", `{number: "1234.5"}`, "4060.5"}, {"date", "{date: dd/MM/yyyy}", "14/03/2026"},
		{"date_month", "{date: d MMM yyyy}", "14 Mar 2026"},
		{"yes", "{yes_is: y, no_is: n}", "Y"}, {"round", `{number: "1234.5", round: 1}`, "4060.25"},
		{"shorten_to", "{shorten_to: 5}", "Grey Heron"},
		{"default", "{default: none}", ""}, {"if_blank", `{if_blank: {formula: 'upper("n1")'}}`, ""},
	} {
		if err := oneCleaning(c.name, "columns: {Cell: "+c.rule+"}", c.cell); err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
	}
	return nil
}

// eachInColumns measures rules and formulas in the lines of a file with one column, as a load does, against lines whose cell is
// left as it is; and what a formula takes for a line by itself, as for a row of a workbook.
func eachInColumns(folder string) error {
	for _, c := range []struct {
		name, rule, computed, cell string // with three digits of the line, or six
		made                       value.Type
		bar                        string
	}{
		{"number", `{number: "1234.5"}`, "", "4%03d.25", fourPlaces, "-"},
		{"round", `{number: "1234.5", round: 1}`, "", "4%03d.25", fourPlaces, "150"},
		{"pattern", `{clean: {regex: '^(\d+)-(\d+)$', becomes: $2/$1}}`, "", "0555-0%06d", value.Type{Length: 20}, "150"},
		{"formula_text", "{}", `{formula: 'upper(trim(cell))'}`, " n%03d", value.Type{Length: 20}, "150"},
		{"formula_join", "{}", `{formula: 'join("-", "PM", cell)'}`, "0%03d", value.Type{Length: 20}, "150"},
		{"formula_number", `{number: "1234.5"}`, `{formula: 'cell * 1.19 + 5'}`, "4%03d.25", fourPlaces, "150"},
		{"formula_round", `{number: "1234.5"}`, `{formula: 'round(cell / 3, 2)'}`, "4%03d.25", fourPlaces, "150"},
		{"formula_quotient", `{number: "1234.5"}`, "{formula: cell / 3, round: 2}", "4%03d.25", fourPlaces, "150"},
		{"formula_choose", `{number: "1234.5"}`, `{formula: 'choose(cell > 4500, "large", "small")'}`, "4%03d.25", value.Type{Length: 20}, "150"},
		{"formula_date", "{date: yyyy-MM-dd}", `{formula: 'days_between("2026-01-01", cell)'}`, "2%03d-03-14", value.Type{Kind: value.Int}, "150"},
	} {
		rules := "columns: {Cell: " + c.rule + "}"
		if c.computed != "" {
			rules += ", new_columns: {made: " + c.computed + "}"
		}
		line, nothing, err := inColumns(folder, rules, c.cell, c.made)
		if err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
		fmt.Printf("figure clean_%s_in_columns %.1f ns/cell (bar %s), %.1f ns/line with reading and spooling\n", c.name, line-nothing, c.bar, line)
		if c.computed == "" {
			continue
		}
		if err := oneCleaning(c.name+"_alone", rules, fmt.Sprintf(c.cell, 101)); err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
	}
	return nil
}

var fourPlaces = value.Type{Kind: value.Fixed, Precision: 12, Scale: 4}

// inColumns cleans the last column that the rules give for the lines of a file, on one core, in turns with one whose cells are left
// as they are, and returns the nanoseconds that a line takes of both, the best of some times.
func inColumns(folder, rules, cell string, made value.Type) (line, nothing float64, err error) {
	path := filepath.Join(folder, "cells.csv")
	var lines strings.Builder
	lines.WriteString("Cell\n")
	for i := range cellLines {
		line := i
		if strings.Contains(cell, "%03d") {
			line %= 1000
		}
		fmt.Fprintf(&lines, cell+"\n", line)
	}
	if err := os.WriteFile(path, []byte(lines.String()), 0o600); err != nil {
		return 0, 0, err
	}
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	line, nothing = math.MaxFloat64, math.MaxFloat64
	for range 9 {
		took, err := lastColumn(path, rules, made)
		if err != nil {
			return 0, 0, err
		}
		line = min(line, took)
		if took, err = lastColumn(path, "columns: {Cell: {}}", value.Type{Length: 20}); err != nil {
			return 0, 0, err
		}
		nothing = min(nothing, took)
	}
	return line, nothing, nil
}

const cellLines = 300_000

// lastColumn cleans the last column that the rules give for a file, and returns the nanoseconds that a line takes.
func lastColumn(path, rules string, made value.Type) (float64, error) {
	t, err := source.Open([]string{path}, source.ReadOptions{})
	if err != nil {
		return 0, err
	}
	defer t.Close()
	recipe, err := recipeOf(rules, t.Header())
	if err != nil {
		return 0, err
	}
	start := time.Now()
	rows, err := clean.Read(context.Background(), t, recipe, []clean.Column{{Of: len(recipe.Names()) - 1, Type: made}},
		filepath.Dir(path), nil)
	if err != nil {
		return 0, err
	}
	took := time.Since(start)
	if n := rows.Problems.Len(); n > 0 || rows.Len() != cellLines {
		return 0, fmt.Errorf("%d of %d lines are bad", n, rows.Len())
	}
	return float64(took) / cellLines, rows.Close()
}

// recipeOf is the recipe of an input with the given keys.
func recipeOf(rules string, header source.Header) (*clean.Recipe, error) {
	f, err := ladlefile.Decode("f", []byte("ladle: 1\ninputs: {in: {file: a, "+rules+
		"}}\ntables: {t: {from: in, columns: {a: b}}}\n"))
	if err != nil {
		return nil, err
	}
	return plan.Recipe("f", f.Inputs[0], header)
}

func oneCleaning(name, rules, cell string) error {
	recipe, err := recipeOf(rules, source.Header{Names: []string{"Cell"}, Line: 1})
	if err != nil {
		return err
	}
	cells, r := recipe.NewCells(), &source.Record{Fields: [][]byte{[]byte(cell)}}
	if cells.Clean(r); len(cells.Bad()) > 0 {
		return fmt.Errorf("%q is bad", cell)
	}
	allocated := testing.AllocsPerRun(1000, func() { cells.Clean(r) })
	result := testing.Benchmark(func(b *testing.B) {
		for range b.N {
			cells.Clean(r)
		}
	})
	fmt.Printf("figure clean_%s %.1f ns/cell, %.0f allocations\n", strings.ReplaceAll(name, " ", "_"),
		float64(result.NsPerOp()), allocated)
	return nil
}
