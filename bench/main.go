// Bench measures the program against its floors and prints a line a figure: figure NAME VALUE UNIT (bar BAR).
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ladle/demo"
)

func main() {
	if len(os.Args) == 5 && os.Args[1] == "relations-floor" {
		h := demo.NewHarbour(0, flatLines, 1)
		h.Cargo = true
		h.First, _ = strconv.ParseInt(os.Args[3], 10, 64)
		h.Calls, _ = strconv.ParseInt(os.Args[4], 10, 64)
		if s := servers()[os.Args[2]]; s != nil {
			stop(serverFloor(s, h))
		} else {
			stop(floor(os.Args[2], h))
		}
		return
	}
	if len(os.Args) == 4 && os.Args[1] == "floor" {
		calls, _ := strconv.ParseInt(os.Args[3], 10, 64)
		stop(floor(os.Args[2], demo.NewHarbour(0, calls, 1)))
		return
	}
	if len(os.Args) == 4 && os.Args[1] == "server-floor" {
		calls, _ := strconv.ParseInt(os.Args[3], 10, 64)
		stop(serverFloor(servers()[os.Args[2]], demo.NewHarbour(0, calls, 1)))
		return
	}
	if parts := map[string]func(string) error{"split": splitLines, "tokenize": tokenize, "tokens": jsonTokens,
		"read": readAll, "clean": cleanAll, "scan": scan}; len(os.Args) == 3 && parts[os.Args[1]] != nil {
		stop(parts[os.Args[1]](os.Args[2]))
		return
	}
	program := flag.String("ladle", "bin/ladle", "the program to measure")
	runs := flag.Int("runs", 1, "runs of each measurement with 1 million lines; the median counts")
	large := flag.Int("large", 0, "runs of each measurement with 10 million lines, which take long")
	folder := flag.String("o", "bench/out", "folder for files and SQLite databases, about 5 GB with 10 million lines")
	on := flag.String("on", "files,cleaning,structure,sqlite,postgres,mysql,small,relations,keyed,refused,script,proof,relink,interrupts,scale",
		"what to measure: the reading of files, cleaning, proposed tables and dictionaries, loads on kinds of databases, large and small, and "+
			"what relations, refused rows, checks and the logbook cost on each, how soon an interrupt ends a load, and what more processors help")
	base := flag.String("compare", "", "another program, to take turns with in place of measuring figures")
	flag.Parse()
	b := &bench{program: *program, folder: *folder}
	if *base != "" {
		stop(b.against(*base, 2**runs+1))
		return
	}
	all := strings.Split(*on, ",")
	for _, part := range all {
		if len(all) == 1 {
			stop(b.measure(part, *runs, *large))
			continue
		}
		stop(apart(part))
	}
}

// apart has a part measured by a process of its own: the memory of this one would count as that of those it starts, and so
// would what other parts left in it.
func apart(part string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	c := exec.Command(self, append(slices.Clone(os.Args[1:]), "-on", part)...) // the last -on counts
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	begun := time.Now()
	err = c.Run()
	fmt.Printf("%s: measured in %.0f s\n", part, time.Since(begun).Seconds())
	return err
}

// measure measures one part.
func (b *bench) measure(kind string, runs, large int) error {
	switch kind {
	case "files":
		return b.reading(2*runs + 1)
	case "cleaning":
		return b.cleaning(2*runs + 1)
	case "structure":
		return b.structure(runs)
	case "sqlite":
		return b.sqlite(runs, large)
	case "postgres", "mysql":
		return b.server(kind, runs, large)
	}
	part, on, _ := strings.Cut(kind, ":") // of all kinds of databases, or of one
	measure := map[string]func(string, int) error{"relations": b.relations, "keyed": b.keyed, "refused": b.refused,
		"small": b.small, "script": b.script, "proof": b.proof, "relink": b.relink, "interrupts": b.interrupts, "scale": b.scale, "cluster": b.cluster}[part]
	if measure == nil {
		return fmt.Errorf("there is no part %q", part)
	}
	return measure(on, runs)
}

func stop(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct{ program, folder string }

const million = 1_000_000

// sqlite measures on SQLite files.
func (b *bench) sqlite(runs, large int) error {
	small, err := b.pairs(million, runs)
	if err != nil {
		return err
	}
	figures("load_1m_time", small.ratios(), "x floor", "1.25")
	figure("load_1m_floor", median(small.floor), "s", "-")
	figure("load_1m_memory", slices.Max(small.memory), "MB", "200")
	if large == 0 {
		return nil
	}
	big, err := b.pairs(10*million, large)
	if err != nil {
		return err
	}
	figures("load_10m_time", big.ratios(), "x floor", "-")
	figure("load_10m_growth", median(big.ratios())/median(small.ratios()), "x growth of floor", "1.1")
	figure("load_10m_memory", slices.Max(big.memory), "MB", "250")
	return b.append(runs)
}

// pairs are measurements of floor and load that took turns.
type pairs struct{ floor, load, memory []float64 }

func (p pairs) ratios() []float64 {
	ratios := make([]float64, len(p.load))
	for i := range ratios {
		ratios[i] = p.load[i] / p.floor[i]
	}
	return ratios
}

func (b *bench) pairs(calls int64, runs int) (p pairs, err error) {
	folder := filepath.Join(b.folder, strconv.FormatInt(calls, 10))
	if err := demo.NewHarbour(0, calls, 1).Generate(folder); err != nil {
		return p, err
	}
	database := filepath.Join(folder, demo.Database)
	self, err := os.Executable()
	if err != nil {
		return p, err
	}
	for range runs {
		floorTime, _, err := fresh(database, self, "floor", database, strconv.FormatInt(calls, 10))
		if err != nil {
			return p, err
		}
		loadTime, memory, err := fresh(database, b.program, "load", filepath.Join(folder, demo.FlatLadle), "--db",
			database, "--yes", "--json")
		if err != nil {
			return p, err
		}
		fmt.Printf("  %d lines: floor %.1f s, load %.1f s, %.0f MB\n", calls, floorTime, loadTime, memory)
		p.floor, p.load, p.memory = append(p.floor, floorTime), append(p.load, loadTime), append(p.memory, memory)
	}
	return p, nil
}

// append measures 1,000 lines into the table of 10 million rows that the last load left.
func (b *bench) append(runs int) error {
	big := filepath.Join(b.folder, strconv.Itoa(10*million))
	var times []float64
	for i := range runs {
		folder := filepath.Join(b.folder, "append")
		if err := demo.NewHarbour(10*million+int64(i)*1000, 1000, 1).Generate(folder); err != nil {
			return err
		}
		seconds, _, err := run(b.program, "load", filepath.Join(folder, demo.FlatLadle), "--db",
			filepath.Join(big, demo.Database), "--yes", "--json")
		if err != nil {
			return err
		}
		times = append(times, seconds)
	}
	figure("append_1k_to_10m", median(times), "s", "3")
	return nil
}

// fresh runs a command on a database made anew.
func fresh(database, name string, arguments ...string) (seconds, megabytes float64, err error) {
	if err := demo.Create(database); err != nil {
		return 0, 0, err
	}
	return run(name, arguments...)
}

// usage is what a whole process took: wall time and CPU time in seconds, and the largest resident memory in MB.
type usage struct{ wall, cpu, memory float64 }

// run returns the wall time and the largest resident memory of a whole process.
func run(name string, arguments ...string) (seconds, megabytes float64, err error) {
	u, err := used(exec.Command(name, arguments...))
	return u.wall, u.memory, err
}

func used(c *exec.Cmd) (u usage, err error) {
	c.Stderr = os.Stderr
	begun, before := time.Now(), serversCPU()
	defer func() {
		if u.wall >= 1 {
			fmt.Printf("    %s %s: %.1f s; CPU: %.1f s, and %.1f s of the servers\n", filepath.Base(c.Path), c.Args[1], u.wall, u.cpu,
				serversCPU()-before)
		}
	}()
	if err := c.Run(); err != nil {
		return u, fmt.Errorf("%s: %w", c, err)
	}
	u.wall = time.Since(begun).Seconds()
	u.cpu = (c.ProcessState.UserTime() + c.ProcessState.SystemTime()).Seconds()
	if usage, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok {
		u.memory = float64(usage.Maxrss) / 1024
	}
	return u, nil
}

// ratios are what processes took in what their floors took, pair by pair.
type ratios struct{ wall, cpu, memory []float64 }

func (r *ratios) add(u, floor usage) {
	r.wall, r.cpu, r.memory = append(r.wall, u.wall/floor.wall), append(r.cpu, u.cpu/floor.cpu), append(r.memory, u.memory)
}

// tell prints the medians, in the unit of a floor.
func (r *ratios) tell(name, floor, wall, cpu, memory string) {
	figures(name+"_time", r.wall, "x "+floor, wall)
	figures(name+"_cpu", r.cpu, "x "+floor, cpu)
	figure(name+"_memory", median(r.memory), "MB", memory)
}

func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[len(sorted)/2]
}

// figures prints the median of values, and the least and the greatest of several.
func figures(name string, values []float64, unit, bar string) {
	if len(values) > 1 {
		bar += fmt.Sprintf("; %.2f to %.2f", slices.Min(values), slices.Max(values))
	}
	figure(name, median(values), unit, bar)
}

func figure(name string, value float64, unit, bar string) {
	fmt.Printf("figure %s %.2f %s (bar %s)\n", name, value, unit, bar)
}
