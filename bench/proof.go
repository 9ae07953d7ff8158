package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"time"

	"ladle/demo"
)

// proof measures what checks and the logbook cost, on one kind of database or on all: by the load's own clock, since
// two loads differ by more than that from one minute to the next; and what taking a load back costs.
func (b *bench) proof(only string, runs int) error {
	h := demo.NewHarbour(0, flatLines, 1)
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
		url, err := p.create()
		if err != nil {
			return err
		}
		if _, _, err := run(b.program, "load", ladle, "--db", url, "--yes", "--json", "--no-logbook"); err != nil {
			return err
		}
		bare := sizeOf(url)
		if url, err = p.create(); err != nil {
			return err
		}
		took, whole, err := b.clocked("load", ladle, "--db", url, "--yes", "--json")
		if err != nil {
			return err
		}
		size.floor, size.load = append(size.floor, bare), append(size.load, sizeOf(url)-bare)
		back, memory, err := run(b.program, "undo", "1", "--db", url, "--yes", "--json")
		if err != nil {
			return err
		}
		fmt.Printf("  %s: %.1f s, of which checks %.1f s and logbook %.1f s; undone in %.1f s\n", p.name, whole,
			took.Prove, took.Logbook, back)
		checks.floor, checks.load = append(checks.floor, whole), append(checks.load, took.Prove)
		book.floor, book.load = append(book.floor, whole), append(book.load, took.Logbook)
		undo.floor, undo.load, undo.memory = append(undo.floor, whole), append(undo.load, back),
			append(undo.memory, memory)
	}
	figures(p.name+"_checks", checks.ratios(), "of the load's time", "0.25")
	figures(p.name+"_logbook", book.ratios(), "of the load's time", "0.10")
	if size.floor[0] > 0 {
		figures(p.name+"_logbook_size", size.ratios(), "of the database's size", "-")
	}
	figures(p.name+"_undo", undo.ratios(), "x load", "1.0")
	figure(p.name+"_undo_memory", largest(undo.memory), "MB", "250")
	return nil
}

// sizeOf is the size of a database that is a file, else 0.
func sizeOf(url string) float64 {
	info, err := os.Stat(url)
	if err != nil {
		return 0
	}
	return float64(info.Size())
}

// clock is the part of a report that says how long parts of a load took, by the load's own clock.
type clock struct{ Read, Judge, Write, Prove, Logbook float64 }

// clocked runs the program, and returns its own account of the time and that of the whole process.
func (b *bench) clocked(arguments ...string) (took clock, whole float64, err error) {
	var report struct {
		Phases clock `json:"phase_seconds"`
	}
	begun := time.Now()
	out, err := exec.Command(b.program, arguments...).Output()
	if err == nil {
		err = json.Unmarshal(out, &report)
	}
	whole = time.Since(begun).Seconds()
	if err == nil && report.Phases.Prove == 0 {
		err = fmt.Errorf("%s: no time of its checks is told", b.program)
	}
	return report.Phases, whole, err
}
