package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"
)

const (
	keyedRows  = 300_000
	keyedTable = "CREATE TABLE craft (reg VARCHAR(12) PRIMARY KEY, name VARCHAR(40), gt DECIMAL(8,1))"
	keyedLadle = "ladle: 1\ninputs: {in: {file: keyed.csv}}\ntables: {craft: {from: in, key: reg, columns: {reg: R, name: N, " +
		"gt: G}}}\n"
)

// keyedLine is the row with a number, in an order that is not that of its key.
func keyedLine(i int) [3]string {
	return [3]string{fmt.Sprintf("PM-%06d", i*7919%keyedRows), fmt.Sprintf("Vessel %d", i), fmt.Sprintf("%d.5", i%900)}
}

// keyed measures a load into an empty table whose key comes from the file, against the bulk load of the same rows; and the
// same load once more, when all is there.
func (b *bench) keyed(only string, runs int) error {
	if err := os.MkdirAll(b.folder, 0o755); err != nil {
		return err
	}
	var lines bytes.Buffer
	lines.WriteString("R,N,G\n")
	for i := range keyedRows {
		row := keyedLine(i)
		lines.WriteString(strings.Join(row[:], ",") + "\n")
	}
	ladle := filepath.Join(b.folder, "keyed.ladle.yaml")
	if err := os.WriteFile(filepath.Join(b.folder, "keyed.csv"), lines.Bytes(), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(ladle, []byte(keyedLadle), 0o644); err != nil {
		return err
	}
	for _, p := range b.places(only) {
		var both, again pairs
		for range runs {
			url, err := p.create()
			if err == nil {
				err = execute(p.name, url, keyedTable)
			}
			if err != nil {
				return err
			}
			begun := time.Now()
			if err := keyedFloor(p.name, url); err != nil {
				return err
			}
			floor := time.Since(begun).Seconds()
			if url, err = p.create(); err == nil {
				err = execute(p.name, url, keyedTable)
			}
			if err != nil {
				return err
			}
			took, memory, err := b.load(ladle, url)
			if err != nil {
				return err
			}
			there, _, err := b.load(ladle, url)
			if err != nil {
				return err
			}
			again.floor, again.load = append(again.floor, took), append(again.load, there)
			fmt.Printf("  %s: keyed: floor %.3f s, load %.3f s, %.0f MB, loaded again %.3f s\n", p.name, floor, took, memory, there)
			both.floor, both.load, both.memory = append(both.floor, floor), append(both.load, took),
				append(both.memory, memory)
		}
		figures("keyed_300k_"+p.name, both.ratios(), "x floor", "2.0")
		figures("keyed_300k_all_there_"+p.name, again.ratios(), "x first load", "0.5")
		figure("keyed_300k_memory_"+p.name, largest(both.memory), "MB", "200")
	}
	return nil
}

// keyedFloor loads the rows in bulk, as the engine does it by itself.
func keyedFloor(kind, url string) error {
	if kind != "sqlite" {
		var lines bytes.Buffer
		for i := range keyedRows {
			row := keyedLine(i)
			lines.WriteString(strings.Join(row[:], "\t") + "\n")
		}
		return servers()[kind].bulk("craft", "reg, name, gt", &lines)
	}
	conn, err := sqlite.OpenConn(url)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := sqlitex.ExecuteTransient(conn, "BEGIN", nil); err != nil {
		return err
	}
	s, err := conn.Prepare("INSERT INTO craft VALUES (?, ?, ?)")
	if err != nil {
		return err
	}
	for i := range keyedRows {
		for c, cell := range keyedLine(i) {
			s.BindText(c+1, cell)
		}
		if err := once(s); err != nil {
			return err
		}
	}
	return sqlitex.ExecuteTransient(conn, "COMMIT", nil)
}
