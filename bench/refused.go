package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

const (
	refusedRows  = 100_000
	refusedTable = "CREATE TABLE lighter (id %s, lighter_no INT NOT NULL UNIQUE, berth_id INT REFERENCES berth (id), " +
		"tons INT CHECK (tons < 1000))"
	refusedLadle = "ladle: 1\ninputs: {in: {file: %s}}\ntables: {lighter: {from: in, key: lighter_no, columns: {lighter_no: " +
		"No., berth_id: Berth, tons: Tons}}}\nset_aside_limit: any\n"
)

// refusing is a file of which every second line breaks a constraint, or none.
type refusing struct {
	name        string
	berth, tons int // of every second line
	status      int // with which a load of it exits: 4 where lines are set aside
}

var refusals = []refusing{{"clean", 2, 500, 0}, {"foreign_key", 999, 500, 4}, {"check", 2, 5000, 4}}

// refused measures loads of which half of the lines break a constraint and are set aside, against one with none that does.
func (b *bench) refused(only string, runs int) error {
	if err := os.MkdirAll(b.folder, 0o755); err != nil {
		return err
	}
	for _, r := range refusals {
		if err := b.refusedFile(r); err != nil {
			return err
		}
	}
	for _, p := range b.places(only) {
		took := map[string][]float64{}
		for range runs {
			for _, r := range refusals {
				url, err := p.create()
				if err == nil {
					err = execute(p.name, url, fmt.Sprintf(refusedTable, ids[p.name]))
				}
				if err != nil {
					return err
				}
				c := exec.Command(b.program, "load", b.refusedPath(r, ".ladle.yaml"), "--db", url, "--yes", "--json")
				begun := time.Now()
				if err := c.Run(); c.ProcessState.ExitCode() != r.status {
					return fmt.Errorf("%s: %v, and not exit status %d", c, err, r.status)
				}
				took[r.name] = append(took[r.name], time.Since(begun).Seconds())
			}
		}
		fmt.Printf("  %s: none refused %.2f s, half by a foreign key %.2f s, half by a CHECK %.2f s\n", p.name, median(took["clean"]),
			median(took["foreign_key"]), median(took["check"]))
		for _, r := range refusals[1:] {
			figures("refused_"+r.name+"_"+p.name, pairs{floor: took["clean"], load: took[r.name]}.ratios(), "x clean", "2.5")
		}
	}
	return nil
}

func (b *bench) refusedPath(r refusing, end string) string {
	return filepath.Join(b.folder, "refused_"+r.name+end)
}

// refusedFile writes a file of lines and its ladle file.
func (b *bench) refusedFile(r refusing) error {
	var lines bytes.Buffer
	lines.WriteString("No.,Berth,Tons\n")
	for i := range refusedRows {
		berth, tons := 1, 400
		if i%2 == 1 {
			berth, tons = r.berth, r.tons
		}
		fmt.Fprintf(&lines, "%d,%d,%d\n", i, berth, tons)
	}
	path := b.refusedPath(r, ".csv")
	if err := os.WriteFile(path, lines.Bytes(), 0o644); err != nil {
		return err
	}
	return os.WriteFile(b.refusedPath(r, ".ladle.yaml"), fmt.Appendf(nil, refusedLadle, filepath.Base(path)), 0o644)
}
