package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

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
	before, said := os.LookupEnv("GOMAXPROCS")
	if err := os.Setenv("GOMAXPROCS", "1"); err != nil {
		return err
	}
	var all ratios
	for range runs {
		split, err := b.self("split", path)
		if err != nil {
			return err
		}
		cleaned, err := b.self("clean", path)
		if err != nil {
			return err
		}
		fmt.Printf("  cleaning on one core: split %.3f s, cleaned %.3f s of CPU, %.0f MB\n", split.cpu, cleaned.cpu, cleaned.memory)
		all.add(cleaned, split)
	}
	all.tell("clean", "split", "-", "15", "200")
	if said {
		os.Setenv("GOMAXPROCS", before)
	} else {
		os.Unsetenv("GOMAXPROCS")
	}
	return eachCleaning()
}

// eachCleaning measures rules alone, a cell at a time; formulas with the cell that they use.
func eachCleaning() error {
	bars := map[string]string{"pattern": "150", "round": "150"}
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
		if err := oneCleaning(c.name, "columns: {Cell: "+c.rule+"}", c.cell, first(bars[c.name], "-")); err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
	}
	for _, c := range []struct{ name, rule, formula, cell string }{
		{"text", "{}", `upper(trim(cell))`, " n1"}, {"join", "{}", `join("-", "PM", cell)`, "0101"},
		{"number", `{number: "1234.5"}`, "cell * 1.19 + 5", "4060.25"}, {"round", `{number: "1234.5"}`, "round(cell / 3, 2)", "4060.25"},
		{"choose", `{number: "1234.5"}`, `choose(cell > 100, "large", "small")`, "4060.25"},
		{"date", "{date: yyyy-MM-dd}", `days_between("2026-01-01", cell)`, "2026-03-14"},
	} {
		rules := fmt.Sprintf("columns: {Cell: %s}, new_columns: {made: {formula: '%s'}}", c.rule, c.formula)
		if err := oneCleaning("formula_"+c.name, rules, c.cell, "150"); err != nil {
			return fmt.Errorf("%s: %w", c.formula, err)
		}
	}
	return nil
}

func oneCleaning(name, rules, cell, bar string) error {
	f, err := ladlefile.Decode("f", []byte("ladle: 1\ninputs: {in: {file: a, "+rules+
		"}}\ntables: {t: {from: in, columns: {a: b}}}\n"))
	if err != nil {
		return err
	}
	recipe, err := plan.Recipe("f", f.Inputs[0], source.Header{Names: []string{"Cell"}, Line: 1})
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
	fmt.Printf("figure clean_%s %.1f ns/cell, %.0f allocations (bar %s)\n", strings.ReplaceAll(name, " ", "_"),
		float64(result.NsPerOp()), allocated, bar)
	return nil
}
