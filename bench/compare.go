package main

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"

	"ladle/demo"
)

// job is a command that two programs do in turns.
type job struct {
	name  string
	ready func() error // before each
	with  []string
}

// against has two programs do the same in turns, and prints the time of this one in that of the other: the median of the
// pairs, and the least and the greatest, in CPU time of the program and in wall time. On one machine and in one run a few
// per cent can be told from noise so.
func (b *bench) against(base string, runs int) error {
	jobs, err := b.jobs()
	if err != nil {
		return err
	}
	fmt.Printf("%-28s %-24s %s\n", "this in that", "CPU", "wall")
	for _, j := range jobs {
		var cpu, wall []float64
		for i := range runs + 1 { // the first pair warms up
			programs := []string{base, b.program}
			if i%2 == 1 {
				slices.Reverse(programs)
			}
			took := map[string]usage{}
			for _, p := range programs {
				if err := j.ready(); err != nil {
					return err
				}
				if took[p], err = used(exec.Command(p, j.with...)); err != nil {
					return err
				}
			}
			if i > 0 {
				cpu = append(cpu, took[b.program].cpu/took[base].cpu)
				wall = append(wall, took[b.program].wall/took[base].wall)
			}
		}
		fmt.Printf("%-28s %-24s %s\n", j.name, spread(cpu), spread(wall))
	}
	return nil
}

func spread(ratios []float64) string {
	return fmt.Sprintf("%.2f (%.2f to %.2f)", median(ratios), slices.Min(ratios), slices.Max(ratios))
}

// jobs are a survey and a cleaning of a million lines, and loads of several sizes into each kind of database.
func (b *bench) jobs() (all []job, err error) {
	folders := map[int64]string{}
	for _, n := range []int64{10, 10_000, 100_000, million} {
		folders[n] = filepath.Join(b.folder, strconv.FormatInt(n, 10))
		if err := demo.NewHarbour(0, n, 1).Generate(folders[n]); err != nil {
			return nil, err
		}
	}
	flat := filepath.Join(folders[million], demo.FlatLadle)
	none := func() error { return nil }
	all = append(all, job{"survey, 1,000,000 lines", none, []string{"survey", filepath.Join(folders[million], demo.FlatFile), "--json"}},
		job{"prepare, 1,000,000 lines", none, []string{"prepare", flat, "-o", filepath.Join(b.folder, "prepared"), "--replace", "--json"}})
	for _, n := range []int64{10, 10_000, 100_000, million} {
		ladle := filepath.Join(folders[n], demo.FlatLadle)
		database := filepath.Join(folders[n], demo.Database)
		name := fmt.Sprintf("load, %d lines, ", n)
		all = append(all, job{name + "sqlite", func() error { return demo.Create(database) },
			[]string{"load", ladle, "--db", database, "--yes", "--json"}})
		for _, kind := range []string{"postgres", "mysql"} {
			url, err := servers()[kind].create()
			if err != nil {
				return nil, err
			}
			ready := func() error {
				_, err := servers()[kind].create()
				return err
			}
			all = append(all, job{name + kind, ready, []string{"load", ladle, "--db", url, "--yes", "--json"}})
		}
	}
	return all, nil
}
