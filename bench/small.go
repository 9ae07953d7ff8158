package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"ladle/demo"
)

// small measures loads of the sizes that most loads have, each against its floor, and what ten lines cost beyond connecting.
func (b *bench) small(only string, runs int) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, p := range b.places(only) {
		for _, n := range []int64{10_000, 100_000, 300_000} {
			folder := filepath.Join(b.folder, strconv.FormatInt(n, 10))
			if err := demo.NewHarbour(0, n, 1).Generate(folder); err != nil {
				return err
			}
			rounds := 2*runs + 1
			if n == 300_000 {
				rounds = runs
			}
			var both pairs
			for range rounds {
				url, err := p.create()
				if err != nil {
					return err
				}
				floor := []string{"server-floor", p.name, strconv.FormatInt(n, 10)}
				if p.name == "sqlite" {
					floor = []string{"floor", url, strconv.FormatInt(n, 10)}
				}
				took, _, err := run(self, floor...)
				if err != nil {
					return err
				}
				if url, err = p.create(); err != nil {
					return err
				}
				load, memory, err := b.load(filepath.Join(folder, demo.FlatLadle), url)
				if err != nil {
					return err
				}
				both.floor, both.load, both.memory = append(both.floor, took), append(both.load, load), append(both.memory, memory)
			}
			fmt.Printf("  %s: %d lines: floor %.3f s, load %.3f s, %.0f MB\n", p.name, n, median(both.floor), median(both.load),
				median(both.memory))
			figures(fmt.Sprintf("small_%dk_%s", n/1000, p.name), both.ratios(), "x floor", "1.5")
		}
		if err := b.ten(p, 2*runs+1); err != nil {
			return err
		}
	}
	return nil
}

// ten measures a load of ten lines into a database with a logbook, against connecting and asking one question.
func (b *bench) ten(p place, runs int) error {
	folder := filepath.Join(b.folder, "10")
	if err := demo.NewHarbour(0, 10, 1).Generate(folder); err != nil {
		return err
	}
	url, err := p.create()
	if err != nil {
		return err
	}
	var more []float64
	for range runs {
		begun := time.Now()
		if err := execute(p.name, url, "SELECT 1"); err != nil {
			return err
		}
		connecting := time.Since(begun).Seconds()
		took, _, err := b.load(filepath.Join(folder, demo.FlatLadle), url)
		if err != nil {
			return err
		}
		more = append(more, (took-connecting)*1000)
	}
	figure("small_10_lines_"+p.name, median(more), "ms more than connecting", "150")
	return nil
}
