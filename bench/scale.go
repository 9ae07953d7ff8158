package main

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"

	"ladle/demo"
)

// processors are the numbers of processors that are measured, as far as the machine has them.
var processors = []int{1, 2, 4, 8}

// task is something whose time is taken with some numbers of processors.
type task struct {
	name string
	do   func() (map[string]float64, error) // seconds, of all of it or by phase
}

// scale measures how much faster more processors make what the program does, in turns, and how much of it is serial: the share
// of the time on one processor that more of them don't make shorter, by Amdahl's law.
func (b *bench) scale(_ string, runs int) error {
	tasks, err := b.tasks()
	if err != nil {
		return err
	}
	for _, t := range tasks {
		faster := map[string]map[int][]float64{} // by phase and number of processors, against one
		for range 2*runs + 1 {
			var one map[string]float64
			for _, n := range processors {
				if n > runtime.NumCPU() {
					break
				}
				took := map[string]float64{}
				if err := withProcessors(n, func() (err error) { took, err = t.do(); return err }); err != nil {
					return err
				}
				if n == 1 {
					one = took
					continue
				}
				for phase, seconds := range took {
					if faster[phase] == nil {
						faster[phase] = map[int][]float64{}
					}
					faster[phase][n] = append(faster[phase][n], one[phase]/seconds)
				}
			}
		}
		for _, phase := range slices.Sorted(maps.Keys(faster)) {
			tellScale("scale_"+t.name+phase, faster[phase])
		}
	}
	return nil
}

func tellScale(name string, faster map[int][]float64) {
	most := 0
	for _, n := range slices.Sorted(maps.Keys(faster)) {
		figures(fmt.Sprintf("%s_on_%d", name, n), faster[n], "x as fast as on one processor", "-")
		most = n
	}
	figure(name+"_serial", serial(median(faster[most]), most), "of the time on one processor", "-")
}

// serial is the share of work that is done one thing after the other, if n processors make it so many times as fast.
func serial(faster float64, n int) float64 {
	return min(1, max(0, (float64(n)/faster-1)/float64(n-1)))
}

// tasks are the reader, a cleaning and a survey of a million lines each, and the phases of a load with relations.
func (b *bench) tasks() ([]task, error) {
	folder := filepath.Join(b.folder, "reading")
	if err := demo.NewHarbour(0, million, 1).Generate(folder); err != nil {
		return nil, err
	}
	calls, messy := filepath.Join(folder, demo.FlatFile), filepath.Join(folder, "messy.csv")
	if err := messyFile(messy, million); err != nil {
		return nil, err
	}
	h := demo.NewHarbour(0, million/10, 1)
	h.Cargo = true
	ladle, err := b.with("scale", h)
	if err != nil {
		return nil, err
	}
	place := b.places("sqlite")[0]
	whole := func(u usage, err error) (map[string]float64, error) { return map[string]float64{"": u.wall}, err }
	return []task{
		{"read", func() (map[string]float64, error) { return whole(b.self("read", calls)) }},
		{"clean", func() (map[string]float64, error) { return whole(b.self("clean", messy)) }},
		{"survey", func() (map[string]float64, error) {
			return whole(used(exec.Command(b.program, "survey", "--json", calls)))
		}},
		{"load", func() (map[string]float64, error) {
			url, err := place.create()
			if err != nil {
				return nil, err
			}
			took, all, err := b.clocked("load", ladle, "--db", url, "--yes", "--json")
			return map[string]float64{"": all, "_reading": took.Read, "_judging": took.Judge, "_writing": took.Write,
				"_proving": took.Prove}, err
		}},
	}, nil
}

// withProcessors has programs that are started use n processors.
func withProcessors(n int, do func() error) error {
	before, said := os.LookupEnv("GOMAXPROCS")
	if err := os.Setenv("GOMAXPROCS", strconv.Itoa(n)); err != nil {
		return err
	}
	defer func() {
		if said {
			os.Setenv("GOMAXPROCS", before)
		} else {
			os.Unsetenv("GOMAXPROCS")
		}
	}()
	return do()
}
