// Package logbook keeps the runs of ladle files in the database that they loaded, in tables of Ladle's own, and takes
// runs back. A run is written in the transaction of its rows, so it is there exactly when they are.
package logbook

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
)

// Kind is what a run did.
type Kind string

const (
	Load Kind = "load"
	Undo Kind = "undo" // it took another run back
)

// Run is one execution of a ladle file, or the taking back of one.
type Run struct {
	ID        int64     `json:"run"`
	Token     string    `json:"token"` // tells this run from every other one, on any machine
	Kind      Kind      `json:"kind"`
	Undoes    int64     `json:"undoes,omitempty"`    // the number of the run that it took back
	UndoneBy  int64     `json:"undone_by,omitempty"` // the number of the run that took it back
	LadleFile string    `json:"ladle_file"`          // its name, without the folder
	LadleSum  string    `json:"ladle_sum"`           // SHA-256 of the ladle file
	Program   string    `json:"program"`             // the version of the program
	User      string    `json:"user"`                // of the database, or of the system where that knows none
	Level     string    `json:"check_level"`
	Started   time.Time `json:"started"`
	Finished  time.Time `json:"finished"` // before the commit
	Inputs    []Input   `json:"inputs,omitempty"`
	Steps     []Step    `json:"steps,omitempty"`
	Checks    []Check   `json:"checks,omitempty"`
}

// Input is an input that a run read.
type Input struct {
	Name     string `json:"input"`
	File     string `json:"file"` // as the ladle file names it
	Size     int64  `json:"size"` // in bytes, of all its files
	Sum      string `json:"sum"`  // SHA-256
	Rows     int64  `json:"rows"`
	SetAside int64  `json:"set_aside"`
}

// Step is what a run did with one table.
type Step struct {
	Name      string `json:"step"`
	Table     string `json:"table"`
	Input     string `json:"input"`
	Read      int64  `json:"read"`
	Added     int64  `json:"added"`
	Updated   int64  `json:"updated"`
	Unchanged int64  `json:"unchanged"`
	Kept      int64  `json:"kept"`
	Repeated  int64  `json:"repeated"`
	LeftOut   int64  `json:"left_out"`
	SetAside  int64  `json:"set_aside"`
	Removed   int64  `json:"removed"`
}

// Check is a check that held.
type Check struct {
	Asked string `json:"check"`
	Table string `json:"table"` // "" for claims and totals
	Says  string `json:"says"`
}

// Held lists checks in the few words in which the logbook keeps them; one that had nothing to look at is left out.
func Held(results []check.Result) (held []Check) {
	for _, r := range results {
		if c := (Check{r.Check, r.Table, r.Short}); r.Short != "" && !slices.Contains(held, c) {
			held = append(held, c)
		}
	}
	return held
}

// NewToken makes a token of 130 random bits.
func NewToken() string { return rand.Text() }

const moment = "2006-01-02T15:04:05.000Z" // RFC 3339, in UTC

// Write adds the run and gives its number.
func Write(ctx context.Context, tx engine.Tx, r *Run) (int64, error) {
	run := newRows(runs)
	run.add(r.Token, string(r.Kind), r.Undoes, r.LadleFile, r.LadleSum, r.Program, r.User, r.Level, r.Started.UTC().Format(moment), time.Now().UTC().Format(moment))
	id, err := run.write(ctx, tx)
	if err != nil {
		return 0, err
	}
	read, did, held := newRows(inputs), newRows(steps), newRows(checks)
	for _, in := range r.Inputs {
		read.add(r.Token, in.Name, in.File, in.Size, in.Sum, in.Rows, in.SetAside)
	}
	for _, s := range r.Steps {
		did.add(r.Token, s.Name, s.Table, s.Input, s.Read, s.Added, s.Updated, s.Unchanged, s.Kept, s.Repeated, s.LeftOut, s.SetAside, s.Removed)
	}
	for _, c := range r.Checks {
		held.add(r.Token, c.Asked, c.Table, c.Says)
	}
	for _, r := range []*rows{read, did, held} {
		if _, err := r.write(ctx, tx); err != nil {
			return 0, err
		}
	}
	return id, nil
}

// Has tells whether the run with a token is in the logbook: whether its commit took place.
func Has(ctx context.Context, db engine.Reader, token string) (found bool, err error) {
	err = read(ctx, db, runs, of(token), []string{"id"}, func(cells) error {
		found = true
		return nil
	})
	return found, err
}

// List gives all runs, the newest first, without their parts.
func List(ctx context.Context, db engine.Reader) ([]*Run, error) {
	var all []*Run
	byID := map[int64]*Run{}
	err := read(ctx, db, runs, "1 = 1", runs.Names(), func(c cells) error {
		r := &Run{ID: c.number("id"), Token: c.text("token"), Kind: Kind(c.text("kind")), Undoes: c.number("undoes"), LadleFile: c.text("ladle_file"),
			LadleSum: c.text("ladle_sum"), Program: c.text("program"), User: c.text("db_user"), Level: c.text("check_level")}
		r.Started, _ = time.Parse(moment, c.text("started")) // a moment that can't be read is zero
		r.Finished, _ = time.Parse(moment, c.text("finished"))
		all, byID[r.ID] = append(all, r), r
		return nil
	})
	for _, r := range all {
		if undone := byID[r.Undoes]; undone != nil && r.Kind == Undo {
			undone.UndoneBy = r.ID
		}
	}
	slices.SortFunc(all, func(a, b *Run) int { return cmp.Compare(b.ID, a.ID) })
	return all, err
}

// Find gives the run with a number, with all its parts.
func Find(ctx context.Context, db engine.Reader, id int64) (*Run, error) {
	all, err := List(ctx, db)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(r *Run) bool { return r.ID == id })
	if at < 0 {
		do := "the logbook of this database holds no run yet"
		if len(all) > 0 {
			do = fmt.Sprintf("the logbook holds %d runs, the newest is %d; see: ladle runs", len(all), all[0].ID)
		}
		return nil, fault.New(fault.Wrong, fmt.Sprintf("there is no run %d", id), do)
	}
	return all[at], all[at].fill(ctx, db)
}

// fill reads the parts of a run.
func (r *Run) fill(ctx context.Context, db engine.Reader) error {
	err := read(ctx, db, inputs, of(r.Token), inputs.Names(), func(c cells) error {
		r.Inputs = append(r.Inputs, Input{c.text("input"), c.text("file"), c.number("size"), c.text("sum"), c.number("rows_read"), c.number("rows_set_aside")})
		return nil
	})
	if err != nil {
		return err
	}
	err = read(ctx, db, steps, of(r.Token), steps.Names(), func(c cells) error {
		r.Steps = append(r.Steps, Step{c.text("step"), c.text("table_name"), c.text("input"), c.number("rows_read"), c.number("rows_added"), c.number("rows_updated"),
			c.number("rows_unchanged"), c.number("rows_kept"), c.number("rows_repeated"), c.number("rows_left_out"), c.number("rows_set_aside"), c.number("rows_removed")})
		return nil
	})
	if err != nil {
		return err
	}
	return read(ctx, db, checks, of(r.Token), checks.Names(), func(c cells) error {
		r.Checks = append(r.Checks, Check{c.text("asked"), c.text("table_name"), c.text("says")})
		return nil
	})
}

// Loaded gives the runs, the newest first, that loaded an input of this checksum and were not taken back; with their
// parts.
func Loaded(ctx context.Context, db engine.Reader, sum string) ([]*Run, error) {
	tokens := map[string]bool{}
	err := read(ctx, db, inputs, "1 = 1", []string{"token", "sum"}, func(c cells) error {
		if c.text("sum") == sum {
			tokens[c.text("token")] = true
		}
		return nil
	})
	if err != nil || len(tokens) == 0 {
		return nil, err
	}
	all, err := List(ctx, db)
	all = slices.DeleteFunc(all, func(r *Run) bool { return !tokens[r.Token] || r.UndoneBy != 0 })
	for _, r := range all {
		if err == nil {
			err = r.fill(ctx, db)
		}
	}
	return all, err
}

// Sizes gives the sizes of all inputs that were ever loaded: a file of another size is none of them.
func Sizes(ctx context.Context, db engine.Reader) (map[int64]bool, error) {
	sizes := map[int64]bool{}
	return sizes, read(ctx, db, inputs, "1 = 1", []string{"size"}, func(c cells) error {
		sizes[c.number("size")] = true
		return nil
	})
}

// FilledBy tells whether a step of the run filled a table from an input of a checksum.
func (r *Run) FilledBy(table, sum string) bool {
	return slices.ContainsFunc(r.Steps, func(s Step) bool {
		return s.Table == table && slices.ContainsFunc(r.Inputs, func(in Input) bool { return in.Name == s.Input && in.Sum == sum })
	})
}
