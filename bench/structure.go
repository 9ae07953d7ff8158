package main

import (
	"fmt"
	"path/filepath"
	"strings"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/demo"
)

// structure measures proposed tables against the survey that they need, and a dictionary with all values of a harbour of
// a million calls against the engine's own scan of its tables.
func (b *bench) structure(runs int) error {
	folder := filepath.Join(b.folder, "structure")
	if err := demo.NewHarbour(0, million, 1).Generate(folder); err != nil {
		return err
	}
	calls, database := filepath.Join(folder, demo.FlatFile), filepath.Join(folder, "harbour.db")
	if err := demo.Create(database); err != nil {
		return err
	}
	if err := floor(database, demo.NewHarbour(0, million, 1)); err != nil {
		return err
	}
	var propose, dictionary pairs
	for range runs {
		for _, m := range []struct {
			of          *pairs
			floor, does func() (float64, float64, error)
		}{
			{&propose, func() (float64, float64, error) { return run(b.program, "survey", "--json", calls) },
				func() (float64, float64, error) { return run(b.program, "propose", "--json", calls) }},
			{&dictionary, func() (float64, float64, error) {
				u, err := b.self("scan", database)
				return u.wall, u.memory, err
			},
				func() (float64, float64, error) {
					return run(b.program, "dictionary", "--values", "--json", "--db", database)
				}},
		} {
			floor, _, err := m.floor()
			if err != nil {
				return err
			}
			took, memory, err := m.does()
			if err != nil {
				return err
			}
			fmt.Printf("  floor %.3f s, ladle %.3f s, %.0f MB\n", floor, took, memory)
			m.of.floor, m.of.load, m.of.memory = append(m.of.floor, floor), append(m.of.load, took),
				append(m.of.memory, memory)
		}
	}
	figures("propose_time", propose.ratios(), "x survey", "1.1")
	figure("propose_memory", largest(propose.memory), "MB", "-")
	figures("dictionary_time", dictionary.ratios(), "x scan", "1.5")
	figure("dictionary_memory", largest(dictionary.memory), "MB", "-")
	return nil
}

// scan reads all cells of all tables as texts.
func scan(database string) error {
	conn, err := sqlite.OpenConn(database, sqlite.OpenReadOnly)
	if err != nil {
		return err
	}
	defer conn.Close()
	var tables []string
	err = sqlitex.Execute(conn, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%'",
		&sqlitex.ExecOptions{ResultFunc: func(s *sqlite.Stmt) error {
			tables = append(tables, s.ColumnText(0))
			return nil
		}})
	bytes := 0
	for _, t := range tables {
		if err != nil {
			break
		}
		err = sqlitex.Execute(conn, `SELECT * FROM "`+strings.ReplaceAll(t, `"`, `""`)+`"`,
			&sqlitex.ExecOptions{ResultFunc: func(s *sqlite.Stmt) error {
				for i := range s.ColumnCount() {
					bytes += len(s.ColumnText(i))
				}
				return nil
			}})
	}
	fmt.Println(bytes)
	return err
}
