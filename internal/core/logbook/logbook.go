// Package logbook keeps the runs of ladle files in the database that they loaded, in tables of Ladle's own.
//
// A [Run] is written by [Write] in the transaction of its rows, so it is there exactly when they are. What it did with
// rows, a [Writer] keeps as [Chunk]s; a [Book] holds those of one run against the tables as they are now. Package undo
// takes a run back by them.
package logbook

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"
	"unicode/utf8"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// Kind is what a run did.
type Kind string

const (
	Load Kind = "load"
	Undo Kind = "undo" // it took another run back
	Make Kind = "make" // it made tables
)

// Run is one execution of a ladle file, or the taking back of one.
type Run struct {
	ID        int64     `json:"run"`
	Token     string    `json:"token"` // tells this run from every other one, on any machine
	Kind      Kind      `json:"did"`
	Undoes    int64     `json:"undoes,omitempty"`    // the number of the run that it took back
	UndoneBy  int64     `json:"undone_by,omitempty"` // the number of the run that took it back
	LadleFile string    `json:"ladle_file"`          // its name, without the folder
	LadleSum  string    `json:"ladle_file_sha256"`   // SHA-256 of the ladle file
	Program   string    `json:"ladle_version"`       // the version of the program
	User      string    `json:"database_user"`       // of the database, or of the system where that knows none
	Level     string    `json:"check_level"`
	Format    int64     `json:"logbook_format"` // of the logbook, in which the run is kept
	Started   time.Time `json:"started"`
	Finished  time.Time `json:"finished"` // before the commit
	Inputs    []Input   `json:"inputs"`
	Steps     []Step    `json:"steps"`
	Checks    []Check   `json:"checks"`
	Rows      *Rows     `json:"rows,omitempty"`  // in the list of all runs
	Parts     *Parts    `json:"parts,omitempty"` // those that are committed, of a run in parts
	Database  string    `json:"-"`               // for messages
}

// Rows is what a run did in all.
type Rows struct {
	Added    int64 `json:"added"`
	Updated  int64 `json:"updated"`
	Removed  int64 `json:"removed"`
	Marked   int64 `json:"marked"`      // rows that were gone from the file
	Back     int64 `json:"marked_back"` // marked rows that the file had again
	SetAside int64 `json:"lines_set_aside"`
}

// Input is an input that a run read.
type Input struct {
	Name     string `json:"name"`
	File     string `json:"file"`   // as the ladle file names it
	Size     int64  `json:"bytes"`  // in bytes, of all its files
	Sum      string `json:"sha256"` // SHA-256
	Rows     int64  `json:"lines"`
	SetAside int64  `json:"lines_set_aside"`

	// the columns that its files had; nil where that is not known
	Columns []string `json:"-"`

	Corrected string `json:"corrected_lines_sha256,omitempty"` // SHA-256 of the file of corrected lines; "" for none
}

// Step is what a run did with one table.
type Step struct {
	Name    string `json:"name"`
	Table   string `json:"table"`
	Input   string `json:"input"`
	Tally   Tally  `json:"tally"`
	Removed int64  `json:"removed"`

	Marked     int64 `json:"marked"`      // rows that were gone from the file
	MarkedBack int64 `json:"marked_back"` // marked rows that the file had again

	Numbers []string `json:"stores_numbers,omitempty"` // the columns without a type in which it stores numbers
}

// Tally is what became of the lines of a step: Read is the sum of the others.
type Tally struct {
	Read      int64 `json:"read"`
	Added     int64 `json:"added"`
	Updated   int64 `json:"updated"`
	Unchanged int64 `json:"unchanged"`
	Same      int64 `json:"same"`
	Differs   int64 `json:"differs"`
	// Kept is the number of both in runs of older versions, which did not tell them apart, nor repeated lines from
	// overruled ones.
	Kept      *int64 `json:"kept,omitempty"`
	Repeated  int64  `json:"repeated"`
	Overruled int64  `json:"overruled"`
	LeftOut   int64  `json:"left_out"`
	SetAside  int64  `json:"set_aside"`
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

// Write adds the run and returns its number.
func Write(ctx context.Context, tx engine.Tx, r *Run) (int64, error) {
	kept := int64(format)
	if r.Parts != nil {
		kept = formatOfParts
	}
	run := newRows(runs)
	run.add(text(r.Token), text(r.Kind), number(r.Undoes), text(r.LadleFile), text(r.LadleSum), text(r.Program),
		text(r.User), text(r.Level),
		text(r.Started.UTC().Format(moment)), text(time.Now().UTC().Format(moment)), number(kept))
	id, err := run.write(ctx, tx)
	if err != nil {
		return 0, err
	}
	return id, Add(ctx, tx, r)
}

// Add adds inputs, steps and checks to a run that is in the logbook. What is added to a step goes together with what
// it has done already; an input takes the place of what was said of it before.
func Add(ctx context.Context, tx engine.Tx, r *Run) error {
	read, did, held := newRows(inputs), newRows(steps), newRows(checks)
	for _, in := range r.Inputs {
		read.add(text(r.Token), text(in.Name), text(in.File), number(in.Size), text(in.Sum), number(in.Rows),
			number(in.SetAside), text(in.Corrected), text(headings(in.Columns)))
	}
	for _, s := range r.Steps {
		y := s.Tally
		did.add(text(r.Token), text(s.Name), text(s.Table), text(s.Input), number(y.Read), number(y.Added),
			number(y.Updated), number(y.Unchanged), number(y.Same+y.Differs), number(y.Repeated), number(y.LeftOut),
			number(y.SetAside), number(s.Removed), number(y.Differs), number(y.Overruled), text(list(s.Numbers)),
			number(s.Marked), number(s.MarkedBack))
	}
	for _, c := range r.Checks {
		held.add(text(r.Token), text(c.Asked), text(c.Table), text(c.Says))
	}
	for _, r := range []*rows{read, did, held} {
		if _, err := r.write(ctx, tx); err != nil {
			return err
		}
	}
	return nil
}

// List returns all runs, the newest first, without their parts.
func List(ctx context.Context, db engine.Reader) ([]*Run, error) {
	var all []*Run
	byID := map[int64]*Run{}
	err := read(ctx, db, runs, which{}, runs.Names(), func(c record) error {
		r := &Run{ID: c.number("id"), Token: c.text("token"), Kind: Kind(c.text("kind")), Undoes: c.number("undoes"),
			LadleFile: c.text("ladle_file"),
			LadleSum:  c.text("ladle_sum"), Program: c.text("program"), User: c.text("db_user"),
			Level: c.text("check_level"), Format: c.number("format")}
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
	for _, r := range all {
		if r.Format == formatOfParts && err == nil {
			err = r.findParts(ctx, db)
		}
	}
	return all, err
}

// Sum adds up what each of some runs did.
func Sum(ctx context.Context, db engine.Reader, all []*Run) error {
	byToken := map[string]*Rows{}
	for _, r := range all {
		r.Rows = &Rows{}
		byToken[r.Token] = r.Rows
	}
	err := read(ctx, db, steps, which{}, []string{"token", "rows_added", "rows_updated", "rows_removed", "rows_marked",
		"rows_marked_back"},
		func(c record) error {
			if r := byToken[c.text("token")]; r != nil {
				r.Added += c.number("rows_added")
				r.Updated += c.number("rows_updated")
				r.Removed += c.number("rows_removed")
				r.Marked += c.number("rows_marked")
				r.Back += c.number("rows_marked_back")
			}
			return nil
		})
	if err != nil {
		return err
	}
	return read(ctx, db, inputs, which{}, []string{"token", "rows_set_aside"}, func(c record) error {
		if r := byToken[c.text("token")]; r != nil {
			r.SetAside += c.number("rows_set_aside")
		}
		return nil
	})
}

// Find returns the run with a number, with all its parts.
func Find(ctx context.Context, db engine.Reader, id int64) (*Run, error) {
	all, err := List(ctx, db)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(all, func(r *Run) bool { return r.ID == id })
	if at < 0 {
		do := "the logbook of this database holds no runs yet"
		if len(all) > 0 {
			do = fmt.Sprintf("the logbook holds %s, the newest is %d", reason.Plural(int64(len(all)), "run"), all[0].ID)
		}
		return nil, fault.New(fault.Wrong, fmt.Sprintf("there is no run %d", id), do)
	}
	if all[at].Format > formatOfParts {
		return nil, fault.New(fault.Failed, fmt.Sprintf("run %d was recorded by a later version of ladle (%s)", id,
			all[at].Program), "use that version")
	}
	return all[at], fill(ctx, db, all[at])
}

// headings are columns as the logbook keeps them, as a JSON array; nothing where they are too many.
func headings(columns []string) string {
	const most = 4000 // characters
	all, err := json.Marshal(columns)
	if err != nil || utf8.RuneCount(all) > most {
		return ""
	}
	return string(all)
}

// Before returns the newest run that loaded a ladle file of that name and was not taken back; nil where there is none.
func Before(ctx context.Context, db engine.Reader, ladleFile string) (*Run, error) {
	all, err := List(ctx, db)
	if err != nil {
		return nil, err
	}
	for _, r := range all { // the newest first
		if r.Kind == Load && r.LadleFile == ladleFile && r.UndoneBy == 0 && r.Format <= formatOfParts {
			return r, fill(ctx, db, r)
		}
	}
	return nil, nil
}

// fill reads the inputs, steps and checks of some runs.
func fill(ctx context.Context, db engine.Reader, some ...*Run) error {
	if len(some) == 0 {
		return nil
	}
	tokens := make([]string, len(some))
	for i, r := range some {
		tokens[i] = r.Token
	}
	given, err := inOrder(ctx, db, inputs, tokens, func(c record) Input {
		return Input{Name: c.text("input"), File: c.text("file"), Size: c.number("size"), Sum: c.text("sum"),
			Rows: c.number("rows_read"), SetAside: c.number("rows_set_aside"), Corrected: c.text("corrected"),
			Columns: namesIn(c.text("headings"))}
	})
	if err != nil {
		return err
	}
	did, err := inOrder(ctx, db, steps, tokens, func(c record) Step {
		return Step{Name: c.text("step"), Table: c.text("table_name"), Input: c.text("input"), Tally: tally(c),
			Removed: c.number("rows_removed"), Marked: c.number("rows_marked"), MarkedBack: c.number("rows_marked_back"),
			Numbers: namesIn(c.text("stores_numbers"))}
	})
	if err != nil {
		return err
	}
	held, err := inOrder(ctx, db, checks, tokens, func(c record) Check {
		return Check{c.text("asked"), c.text("table_name"), c.text("says")}
	})
	for _, r := range some {
		r.Inputs, r.Steps, r.Checks = given(r.Token), did(r.Token), held(r.Token)
		r.join()
	}
	return err
}

// namesIn reads a JSON array of names; "" is none.
func namesIn(list string) (names []string) {
	_ = json.Unmarshal([]byte(list), &names) // older runs have ""
	if len(names) == 0 {
		return nil
	}
	return names
}

// tally reads that of a step.
func tally(c record) Tally {
	y := Tally{Read: c.number("rows_read"), Added: c.number("rows_added"), Updated: c.number("rows_updated"),
		Unchanged: c.number("rows_unchanged"), Repeated: c.number("rows_repeated"), LeftOut: c.number("rows_left_out"),
		SetAside: c.number("rows_set_aside")}
	kept, differs := c.number("rows_kept"), c.number("rows_differs")
	if differs < 0 {
		y.Kept = &kept
		return y
	}
	y.Same, y.Differs, y.Overruled = kept-differs, differs, c.number("rows_overruled")
	return y
}

// inOrder returns, for the token of each of some runs, what part makes of its rows, in the order in which they were
// written.
func inOrder[T any](ctx context.Context, db engine.Reader, t *schema.Table, tokens []string, part func(record) T) (
	func(token string) []T, error) {
	byID := map[string]map[int64]T{}
	err := read(ctx, db, t, of(tokens...), t.Names(), func(c record) error {
		token := c.text("token")
		if byID[token] == nil {
			byID[token] = map[int64]T{}
		}
		byID[token][c.number("id")] = part(c)
		return nil
	})
	return func(token string) []T {
		all := make([]T, 0, len(byID[token]))
		for _, id := range slices.Sorted(maps.Keys(byID[token])) {
			all = append(all, byID[token][id])
		}
		return all
	}, err
}

// Loaded returns the runs, the newest first, that loaded an input of this checksum and were not taken back; with their
// parts.
func Loaded(ctx context.Context, db engine.Reader, sum string) ([]*Run, error) {
	tokens := map[string]bool{}
	err := read(ctx, db, inputs, which{}, []string{"token", "sum"}, func(c record) error {
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
	if err != nil {
		return nil, err
	}
	return all, fill(ctx, db, all...)
}

// Sizes returns the sizes of all inputs that were ever loaded: a file of another size is none of them.
func Sizes(ctx context.Context, db engine.Reader) (map[int64]bool, error) {
	sizes := map[int64]bool{}
	return sizes, read(ctx, db, inputs, which{}, []string{"size"}, func(c record) error {
		sizes[c.number("size")] = true
		return nil
	})
}

// NotLoaded is the number of lines of an input that the run set aside.
func (r *Run) NotLoaded(input string) (n int64) {
	for _, in := range r.Inputs {
		if in.Name == input {
			n += in.SetAside
		}
	}
	return n
}

// FilledBy reports whether a step of the run filled a table from an input of a checksum.
func (r *Run) FilledBy(table, sum string) bool {
	return slices.ContainsFunc(r.Steps, func(s Step) bool {
		return s.Table == table && slices.ContainsFunc(r.Inputs,
			func(in Input) bool { return in.Name == s.Input && in.Sum == sum })
	})
}
