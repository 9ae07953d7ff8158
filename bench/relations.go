package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ladle/demo"
)

// place is a database that is made anew for each measurement.
type place struct {
	name   string
	floor  string // as the floor is told of it
	create func() (url string, err error)
}

func (b *bench) places(only string) []place {
	file := filepath.Join(b.folder, "relations.db")
	all := []place{{"sqlite", file, func() (string, error) { return file, demo.Create(file) }}}
	for _, name := range []string{"postgres", "mysql"} {
		all = append(all, place{name, name, servers()[name].create})
	}
	for _, p := range all {
		if p.name == only {
			return []place{p}
		}
	}
	return all
}

// relations measures what relations cost, on one kind of database or on all: a file with finds over five lookups and
// two parents of which half is there; an update among many rows; and many new names for a lookup.
func (b *bench) relations(only string, runs int) error {
	for _, p := range b.places(only) {
		for _, measure := range []func(place, int) error{b.half, b.update, b.names} {
			if err := measure(p, runs); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
		}
	}
	return nil
}

// folder is one of the bench's, with a flat file of the harbour and its ladle file.
func (b *bench) with(name string, h demo.Harbour, change ...string) (ladle string, err error) {
	folder := filepath.Join(b.folder, name)
	if err := h.Generate(folder); err != nil {
		return "", err
	}
	ladle = filepath.Join(folder, demo.FlatLadle)
	content, err := os.ReadFile(ladle)
	if err != nil {
		return "", err
	}
	return ladle, os.WriteFile(ladle, []byte(strings.NewReplacer(change...).Replace(string(content))), 0o644)
}

// load returns the seconds and megabytes of a whole load.
func (b *bench) load(ladle, url string) (seconds, megabytes float64, err error) {
	return run(b.program, "load", ladle, "--db", url, "--yes", "--json")
}

// flatLines is the number of lines of files with finds over lookups and parents.
const flatLines = million / 2

// half measures lines of which half are there, against the floor of all of them.
func (b *bench) half(p place, runs int) error {
	whole, part := demo.NewHarbour(0, flatLines, 1), demo.NewHarbour(0, flatLines, 1)
	whole.Cargo, part.Cargo = true, true
	part.Calls /= 2
	all, err := b.with("relations", whole)
	if err != nil {
		return err
	}
	first, err := b.with("relations-half", part)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	var taken, empty, rest pairs
	for range runs {
		if _, err := p.create(); err != nil {
			return err
		}
		before, _, err := run(self, "relations-floor", p.floor, "0", fmt.Sprint(flatLines/2))
		if err != nil {
			return err
		}
		behind, _, err := run(self, "relations-floor", p.floor, fmt.Sprint(flatLines/2), fmt.Sprint(flatLines/2))
		if err != nil {
			return err
		}
		floor := before + behind
		url, err := p.create()
		if err != nil {
			return err
		}
		fresh, most, err := b.load(all, url)
		if err != nil {
			return err
		}
		if url, err = p.create(); err != nil {
			return err
		}
		if _, _, err = b.load(first, url); err != nil {
			return err
		}
		held, memory, err := b.load(all, url)
		if err != nil {
			return err
		}
		fmt.Printf("  %s, calls and cargo: floor %.1f s, empty %.1f s, half there %.1f s, %.0f MB\n", p.name, floor,
			fresh, held, max(memory, most))
		empty.floor, empty.load = append(empty.floor, floor), append(empty.load, fresh)
		rest.floor, rest.load = append(rest.floor, behind), append(rest.load, held)
		taken.floor, taken.load, taken.memory = append(taken.floor, floor), append(taken.load, held),
			append(taken.memory, max(memory, most))
	}
	figures(p.name+"_relations_empty", empty.ratios(), "x floor", map[bool]string{true: "1.4", false: "1.25"}[p.name == "mysql"])
	figures(p.name+"_relations_half_there", taken.ratios(), "x floor of all rows", "1.6")
	figures(p.name+"_relations_half_there_rest", rest.ratios(), "x floor of the rows that are not there", "1.4")
	figure(p.name+"_relations_memory", largest(taken.memory), "MB", "250")
	return nil
}

func largest(values []float64) (most float64) {
	for _, v := range values {
		most = max(most, v)
	}
	return most
}

// update measures 100,000 lines that change rows among a million, against loading 300,000 new ones.
func (b *bench) update(p place, runs int) error {
	base, err := b.with("base", demo.NewHarbour(0, million, 1))
	if err != nil {
		return err
	}
	fresh, err := b.with("fresh", demo.NewHarbour(million, 300_000, 1))
	if err != nil {
		return err
	}
	raised := demo.NewHarbour(0, million, 1)
	raised.First, raised.Calls, raised.Raise = 400_000, 100_000, 1
	changed, err := b.with("changed", raised, "    key: [vessel_id, arrived]",
		"    key: [vessel_id, arrived]\n    already_there: update")
	if err != nil {
		return err
	}
	var all pairs
	for range runs {
		url, err := p.create()
		if err != nil {
			return err
		}
		if _, _, err := b.load(base, url); err != nil {
			return err
		}
		update, memory, err := b.load(changed, url)
		if err != nil {
			return err
		}
		add, _, err := b.load(fresh, url)
		if err != nil {
			return err
		}
		fmt.Printf("  %s: update of 100,000 %.1f s, load of 300,000 %.1f s, %.0f MB\n", p.name, update, add, memory)
		all.floor, all.load, all.memory = append(all.floor, add), append(all.load, update), append(all.memory, memory)
	}
	figures(p.name+"_update_100k_of_1m", all.ratios(), "x load of 300,000", "1.0")
	figure(p.name+"_update_memory", largest(all.memory), "MB", "250")
	return nil
}

// names measures 20,000 new names for a lookup, each held against all others, against 2,000 of them.
func (b *bench) names(p place, runs int) error {
	folder := filepath.Join(b.folder, "names")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	files := map[int]string{2000: "", 20_000: ""}
	for n := range files {
		var file strings.Builder
		file.WriteString("Reg. No.,Arrived,Berth,Agent\n")
		for i := range n {
			x := uint64(i) * 0x9e3779b97f4a7c15
			fmt.Fprintf(&file, "PM-010%d,%d-01-%02d %02d:%02d,N1,%s Agency\n", i%4+1, 2001+i/40000, i/1440%28+1,
				i/60%24, i%60, letters(x))
		}
		files[n] = filepath.Join(folder, fmt.Sprintf("names-%d.ladle.yaml", n))
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("names-%d.csv", n)), []byte(file.String()),
			0o644); err != nil {
			return err
		}
		ladle := fmt.Sprintf("ladle: 1\ninputs: {calls: {file: names-%d.csv, header: 1}}\nset_aside_limit: any\n"+
			"tables: {port_call: {from: calls, key: [vessel_id, arrived], columns: "+
			"{vessel_id: {from: Reg. No., lookup: vessel.reg_no}, arrived: Arrived, berth_id: {from: Berth, lookup: "+
			"berth.code}, agent_id: {from: Agent, lookup: agent.name, not_found: add}, entered_by: {constant: x}}}}\n",
			n)
		if err := os.WriteFile(files[n], []byte(ladle), 0o644); err != nil {
			return err
		}
	}
	var all pairs
	for range runs {
		var seconds [2]float64
		for i, n := range []int{2000, 20_000} {
			url, err := p.create()
			if err == nil {
				seconds[i], _, err = b.load(files[n], url)
			}
			if err != nil {
				return err
			}
		}
		fmt.Printf("  %s: 2,000 new names %.2f s, 20,000 %.2f s\n", p.name, seconds[0], seconds[1])
		all.floor, all.load = append(all.floor, seconds[0]), append(all.load, seconds[1])
	}
	figures(p.name+"_20k_new_names", all.ratios(), "x 2,000 new names", "10")
	return nil
}

// letters makes a word of a number.
func letters(x uint64) string {
	var b strings.Builder
	for range 9 {
		b.WriteByte('a' + byte(x>>32%26))
		x = x*6364136223846793005 + 1442695040888963407
	}
	return b.String()
}
