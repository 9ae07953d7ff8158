package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// script measures a load of a million flat lines as a script: writing it against the dry run; writing it unrehearsed against
// the reading and judging of the lines in the same run; and running it with the database's own client against INSERTs of the
// same rows, as many to a statement, in one transaction.
func (b *bench) script(only string, runs int) error {
	if err := os.MkdirAll(b.folder, 0o755); err != nil {
		return err
	}
	ladle, plain, made := filepath.Join(b.folder, "script.ladle.yaml"), filepath.Join(b.folder, "inserts.sql"),
		filepath.Join(b.folder, "script.sql")
	if err := b.scriptFiles(plain); err != nil {
		return err
	}
	if err := os.WriteFile(ladle, []byte(strings.ReplaceAll(keyedLadle, "keyed.csv", "script.csv")), 0o644); err != nil {
		return err
	}
	for _, p := range b.places(only) {
		var writing, judging, running pairs
		for range runs {
			at, err := p.create()
			if err == nil {
				err = execute(p.name, at, keyedTable)
			}
			if err != nil {
				return err
			}
			tried, _, err := run(b.program, "try", ladle, "--db", at, "--json")
			if err != nil {
				return err
			}
			wrote, memory, err := run(b.program, "script", ladle, "--db", at, "-o", made, "--replace", "--json")
			if err != nil {
				return err
			}
			writing.floor, writing.load = append(writing.floor, tried), append(writing.load, wrote)
			writing.memory = append(writing.memory, memory)
			reading, whole, err := b.unrehearsed(ladle, at)
			if err != nil {
				return err
			}
			judging.floor, judging.load = append(judging.floor, reading), append(judging.load, whole)
			ran, err := client(p.name, at, made)
			if err != nil {
				return err
			}
			if at, err = p.create(); err == nil {
				err = execute(p.name, at, keyedTable)
			}
			if err != nil {
				return err
			}
			floor, err := client(p.name, at, plain)
			if err != nil {
				return err
			}
			running.floor, running.load = append(running.floor, floor), append(running.load, ran)
			fmt.Printf("  %s: script: try %.3f s, written %.3f s, %.0f MB; inserts %.3f s, run %.3f s\n", p.name, tried, wrote,
				memory, floor, ran)
		}
		figures("script_written_"+p.name, writing.ratios(), "x try", "2.0")
		figures("script_unrehearsed_"+p.name, judging.ratios(), "x reading", "2.0")
		figures("script_run_"+p.name, running.ratios(), "x floor", "1.5")
		figure("script_memory_"+p.name, largest(writing.memory), "MB", "200")
	}
	return nil
}

// unrehearsed writes the script from what was judged; reading is the time until that was known, of all that it took.
func (b *bench) unrehearsed(ladle, at string) (reading, whole float64, err error) {
	out, err := exec.Command(b.program, "script", ladle, "--db", at, "-o", filepath.Join(b.folder, "unrehearsed.sql"), "--replace",
		"--unrehearsed", "--json").Output()
	if err != nil {
		return 0, 0, err
	}
	var document struct {
		Seconds struct{ Read, Judge, Total float64 } `json:"phase_seconds"`
	}
	err = json.Unmarshal(out, &document)
	return document.Seconds.Read + document.Seconds.Judge, document.Seconds.Total, err
}

// scriptFiles writes the lines, and the plain INSERTs of the same rows.
func (b *bench) scriptFiles(plain string) error {
	lines, err := os.Create(filepath.Join(b.folder, "script.csv"))
	if err != nil {
		return err
	}
	defer lines.Close()
	inserts, err := os.Create(plain)
	if err != nil {
		return err
	}
	defer inserts.Close()
	csv, sql := bufio.NewWriter(lines), bufio.NewWriter(inserts)
	fmt.Fprintln(csv, "R,N,G")
	fmt.Fprintln(sql, "BEGIN;")
	const together = 500
	for i := range million {
		row := [3]string{fmt.Sprintf("PM-%07d", i*7919%million), fmt.Sprintf("Vessel %d", i), fmt.Sprintf("%d.5", i%900)}
		fmt.Fprintln(csv, strings.Join(row[:], ","))
		if i%together == 0 {
			fmt.Fprintln(sql, "INSERT INTO craft (reg, name, gt) VALUES")
		}
		end := ","
		if i%together == together-1 {
			end = ";"
		}
		fmt.Fprintf(sql, "('%s', '%s', %s)%s\n", row[0], row[1], row[2], end)
	}
	fmt.Fprintln(sql, "COMMIT;")
	if err := csv.Flush(); err != nil {
		return err
	}
	return sql.Flush()
}

// client has the database's own client run a script, and returns the seconds that it took.
func client(kind, at, file string) (float64, error) {
	script, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer script.Close()
	c := exec.Command("sqlite3", at)
	switch kind {
	case "postgres":
		c = exec.Command("psql", "-X", "-q", at)
	case "mysql":
		u, err := url.Parse(at)
		if err != nil {
			return 0, err
		}
		c = exec.Command("mariadb", "--no-defaults", "-h", u.Hostname(), "-P", first(u.Port(), "3306"), "-u",
			u.User.Username(), strings.Trim(u.Path, "/"))
	}
	c.Stdin = script
	begun := time.Now()
	if said, err := c.CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%s: %w\n%.2000s", file, err, said)
	}
	return time.Since(begun).Seconds(), nil
}
