package main

import (
	"fmt"
	"os"

	"ladle/demo"
)

// proof measures what checks and the logbook cost, on one kind of database or on all: of loads of a million lines with and
// without them, and of the undoing of one.
func (b *bench) proof(only string, runs int) error {
	h := demo.NewHarbour(0, million, 1)
	h.Cargo = true
	ladle, err := b.with("relations", h)
	if err != nil {
		return err
	}
	for _, p := range b.places(only) {
		if err := b.proofOn(p, ladle, runs); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return nil
}

func (b *bench) proofOn(p place, ladle string, runs int) error {
	var book, checks, undo, size pairs
	for range runs {
		var seconds, bytes [3]float64
		for i, more := range [][]string{{"--no-logbook", "--check-level", "balance"}, {"--no-logbook"}, {}} {
			url, err := p.create()
			if err != nil {
				return err
			}
			if seconds[i], _, err = run(b.program, append([]string{"load", ladle, "--db", url, "--yes", "--json"}, more...)...); err != nil {
				return err
			}
			if info, err := os.Stat(url); err == nil {
				bytes[i] = float64(info.Size())
			}
			if i < 2 {
				continue
			}
			back, memory, err := run(b.program, "undo", "1", "--db", url, "--yes", "--json")
			if err != nil {
				return err
			}
			undo.floor, undo.load, undo.memory = append(undo.floor, seconds[i]), append(undo.load, back), append(undo.memory, memory)
		}
		fmt.Printf("  %s: balance only %.1f s, all checks %.1f s, and the logbook %.1f s, undone %.1f s\n", p.name, seconds[0], seconds[1], seconds[2], undo.load[len(undo.load)-1])
		checks.floor, checks.load = append(checks.floor, seconds[1]), append(checks.load, seconds[1]-seconds[0])
		book.floor, book.load = append(book.floor, seconds[2]), append(book.load, seconds[2]-seconds[1])
		size.floor, size.load = append(size.floor, bytes[1]), append(size.load, bytes[2]-bytes[1])
	}
	figure(p.name+"_checks", checks.ratio(), "of the load's time", "0.25")
	figure(p.name+"_logbook", book.ratio(), "of the load's time", "0.10")
	if size.floor[0] > 0 {
		figure(p.name+"_logbook_size", size.ratio(), "of the database's size", "-")
	}
	figure(p.name+"_undo", undo.ratio(), "x load", "-")
	figure(p.name+"_undo_memory", largest(undo.memory), "MB", "250")
	return nil
}
