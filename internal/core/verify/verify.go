// Package verify holds the inputs of a ladle file against a database, and changes nothing: each line is judged, those
// with a key are looked for and compared cell by cell, also where a load would leave them as they are.
package verify

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ladle/internal/core/changes"
	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/intake"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/setaside"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Verification is what became, in the database, of the inputs of a ladle file.
type Verification struct {
	LadleFile string `json:"ladle_file"`
	Database  string `json:"database"`
	// nothing is missing, differs, or is there that should be gone; and all lines could be compared, but for those that a
	// run has set aside
	Same    bool            `json:"same"`
	Steps   []Step          `json:"steps"`
	Lookups []report.Lookup `json:"missing_names"` // names that lookups would add
	Checks  []check.Result  `json:"checks"`        // claims, and the totals that senders state
	// lines that can't be compared, without those that a run of the logbook has set aside
	NotCompared int64            `json:"lines_not_compared"`
	Groups      []setaside.Group `json:"reasons"` // why they can't be
	Excepted    []Excepted       `json:"excepted"`
	Notes       []string         `json:"notes"`
	Seconds     float64          `json:"seconds"`

	agrees bool
}

// Agrees reports whether all that could be compared is the same.
func (v *Verification) Agrees() bool { return v.agrees }

// Why says why lines are excepted.
type Why string

const (
	SetAside     Why = "set_aside"     // they can't be compared, and the run has set them aside
	ChangedLater Why = "changed_later" // their rows differ, since the run has changed them
	RemovedLater Why = "removed_later" // their rows are missing, since the run has removed them
)

// Excepted is lines of an input that a run explains.
type Excepted struct {
	Input string `json:"input"`
	Run   int64  `json:"run"`
	Why   Why    `json:"why"`
	Lines int64  `json:"lines"`
}

// Step is what became of the lines of one step.
type Step struct {
	Step   string   `json:"name"`
	Table  string   `json:"table"`
	Input  string   `json:"input"`
	Key    []string `json:"key"`
	Tally  Tally    `json:"tally"`
	Gone   bool     `json:"removes_extra_rows"` // the ladle file says that these are removed or marked
	Missed []string `json:"missing_rows"`       // the first of them
	Differ []string `json:"differing_cells"`    // likewise
	Extras []string `json:"extra_rows"`         // likewise

	StillMarked report.Marked `json:"still_marked"` // rows that are marked as gone, though the input has them
}

// Tally is the account of the lines of a step: Read is the sum of all others but Extra.
type Tally struct {
	Read        int64  `json:"read"`
	Same        int64  `json:"same"`
	Missing     int64  `json:"missing"`
	Differs     int64  `json:"differs"`
	Repeated    int64  `json:"repeated"`
	Overruled   int64  `json:"overruled"`
	LeftOut     int64  `json:"left_out"`
	NotCompared int64  `json:"not_compared"`
	Excepted    int64  `json:"excepted"` // a run of the logbook explains why they are not compared, missing or differ
	Extra       *int64 `json:"extra"`    // rows of the table that the input does not have; nil where that is not known
}

// mostNamed is the number of rows or cells that are named.
const mostNamed = 20

// Options say how inputs are compared.
type Options struct {
	intake.Options
	// Progress hears of the bytes of an input that are done; nil when nobody listens.
	Progress func(input string, done, of int64)
	After    int64 // the number of a run: what later runs have changed or removed is excepted; 0 for nothing
	// Change is given each row that is missing or extra, and each cell that differs; nil when nobody wants to know.
	Change func(changes.Record) error
}

// tell gives a record to the one who wants to know.
func (c *comparison) tell(r changes.Record) error {
	if c.change == nil {
		return nil
	}
	r.Table = c.step.Table.Name
	return c.change(r)
}

// Run compares the inputs of a ladle file with the database.
func Run(ctx context.Context, file *ladlefile.File, db engine.Database, o Options) (*Verification, error) {
	started := time.Now()
	o.Compare = true
	in, err := intake.Open(ctx, file, db, o.Options)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if err := in.Foresee(ctx, db); err != nil {
		return nil, err
	}
	if err := in.Read(ctx, o.Progress); err != nil {
		return nil, err
	}
	j, err := judge.Judge(ctx, in.Judging(db))
	if err != nil {
		return nil, err
	}
	defer j.Close()
	v := &Verification{LadleFile: file.Path, Database: in.Plan.Schema.Database, Steps: []Step{}, Excepted: []Excepted{},
		Notes: slices.Concat([]string{}, db.Notes(), in.Notes)}
	if err := v.compare(ctx, db, in, j, o); err != nil {
		return nil, err
	}
	held, err := check.Ask(ctx, db, in.Claims())
	if err != nil {
		return nil, err
	}
	v.Checks = append(append([]check.Result{}, in.Stated()...), held...)
	v.agrees = v.agrees && !check.Failed(v.Checks)
	v.Same = v.agrees && v.NotCompared == 0
	v.Seconds = time.Since(started).Seconds()
	return v, nil
}

// compare fills the verification from a judgement.
func (v *Verification) compare(ctx context.Context, db engine.Reader, in *intake.Intake, j *judge.Judgement,
	o Options) error {
	r := report.New(in.Plan, in.FileNames(), check.Cells, nil)
	if err := r.Fill(j); err != nil {
		return err
	}
	v.Lookups = r.Lookups
	excepted, err := v.excepted(ctx, db, in, j)
	if err != nil {
		return err
	}
	for i := range in.Plan.Feeds {
		v.NotCompared += j.SetAside[i].Without(excepted[i]).Len()
	}
	v.agrees = len(v.Lookups) == 0
	var since *later
	if o.After > 0 {
		if since, err = laterThan(ctx, db, in.Plan.Schema, o.After); err != nil {
			return err
		}
	}
	for _, s := range j.Steps {
		c := &comparison{db: db, in: in, judgement: j, step: s, made: &Step{}, change: o.Change, later: since,
			excepted: excepted[s.Feed.Number]}
		if err := c.run(ctx); err != nil {
			return err
		}
		m := c.made
		v.agrees = v.agrees && m.Tally.Missing+m.Tally.Differs == 0 && (!m.Gone || m.Tally.Extra == nil ||
			*m.Tally.Extra == 0) && m.StillMarked.Rows == 0
		v.Steps, v.Excepted = append(v.Steps, *m), append(v.Excepted, c.laterRuns...)
	}
	groups := setaside.Groups{File: in.File}
	for i := range in.Plan.Feeds {
		lines := in.SetAside(i, j)
		if lines.Set = j.SetAside[i].Without(excepted[i]); lines.Set.Len() == 0 {
			continue
		}
		if err := lines.Explain(&groups); err != nil {
			return err
		}
	}
	v.Groups = groups.List()
	return nil
}

// comparison is a step at work.
type comparison struct {
	db        engine.Reader
	in        *intake.Intake
	judgement *judge.Judgement
	step      *judge.Step
	made      *Step
	excepted  spool.RowSet
	change    func(changes.Record) error
	later     *later
	laterRuns []Excepted // differences that later runs have made
}

func (c *comparison) run(ctx context.Context) (err error) {
	s, y := c.step, c.step.Tally
	*c.made = Step{Step: s.Name, Table: s.Table.Name, Input: s.Feed.Name(), Key: s.Recognised().RecognisedBy(),
		Tally: Tally{Read: y.Read, Same: y.Unchanged + y.Same, Missing: y.Added, Repeated: y.Repeated,
			Overruled: y.Overruled,
			LeftOut:   y.LeftOut}, StillMarked: report.NoneMarked()}
	c.made.Tally.NotCompared = s.SetAside.Without(c.excepted).Len()
	c.made.Tally.Excepted = y.SetAside - c.made.Tally.NotCompared
	if s.First == nil && !s.Recognises() {
		return c.pairs(ctx)
	}
	if g := s.Gone; g != nil && g.Unknown == 0 {
		n := g.Rows()
		c.made.Tally.Extra, c.made.Gone = &n, s.Policy.Gone.Does != plan.CountGone
		if c.made.Extras, err = s.GoneNames(mostNamed); err != nil {
			return err
		}
		if g.Returned != nil {
			if c.made.StillMarked, err = report.MarkedBy(g.Returned); err != nil {
				return err
			}
		}
		err = s.EachGone(func(key string) error { return c.tell(changes.Record{What: changes.Extra, Key: key}) })
		if err != nil {
			return err
		}
	}
	return c.differences(ctx)
}

// differences names the rows that are missing and the cells that differ. Of a second half, rows that are missing were
// counted with the first one.
func (c *comparison) differences(ctx context.Context) error {
	s := c.step
	if s.Tally.Added+s.Tally.Updated == 0 {
		return nil
	}
	lines := s.Lines(ctx, s.LookedUpCells()...)
	for lines.Next() {
		for i := range lines.Len() {
			row := report.Row{Judgement: c.judgement, Step: s, Lines: lines, I: i}
			var err error
			switch lines.Verdict(i) {
			case judge.Added:
				if run := c.later.removedBy(s.Table, s.KeyNames(), keyOf(s, lines, i)); run > 0 {
					c.made.Tally.Missing--
					c.except(run, RemovedLater)
					continue
				}
				if len(c.made.Missed) < mostNamed {
					c.made.Missed = append(c.made.Missed, fmt.Sprintf("%s: %s", c.place(lines, i), row.Key()))
				}
				at := c.at(lines, i)
				err = c.tell(changes.Record{What: changes.Missing, Key: row.Key(), File: at.File, Line: at.Line})
			case judge.Updated:
				err = c.changed(row)
			}
			if err != nil {
				return err
			}
		}
	}
	return lines.Err()
}

func (c *comparison) at(lines *judge.Lines, i int) reason.Place {
	return c.in.Place(c.step.Feed.Number, lines.Position(i))
}

func (c *comparison) place(lines *judge.Lines, i int) string { return c.at(lines, i).Within() }

// changed counts a line whose row is there and differs.
func (c *comparison) changed(row report.Row) error {
	change := row.Lines.Change(row.I)
	if change.IsNew() {
		c.made.Tally.Read-- // the first half tells that it is missing
		return nil
	}
	cells, err := c.differing(row, change)
	if err != nil {
		return err
	}
	if len(cells) == 0 {
		c.made.Tally.Same++
		return nil
	}
	if run := c.later.changedBy(c.step.Table, identityOf(change.Key())); run > 0 {
		c.except(run, ChangedLater)
		return nil
	}
	c.made.Tally.Differs++
	if len(c.made.Differ) < mostNamed {
		c.made.Differ = append(c.made.Differ, fmt.Sprintf("%s: %s: %s", c.place(row.Lines, row.I), row.Name(),
			strings.Join(cells, "; ")))
	}
	return nil
}

// keyOf is the identity of the key of a line.
func keyOf(s *judge.Step, lines *judge.Lines, i int) string {
	var b []byte
	for _, k := range s.Key {
		b = lines.Value(k).AppendIdentity(b, i)
	}
	return string(b)
}

// identityOf is the identity of a row by columns of one slot.
func identityOf(columns []*value.Column) string {
	var b []byte
	for _, c := range columns {
		b = c.AppendIdentity(b, 0)
	}
	return string(b)
}

// differing lists the cells of a row that differ, but for those that the database itself changes.
func (c *comparison) differing(row report.Row, change judge.Change) (all []string, err error) {
	s, at := c.step, c.at(row.Lines, row.I)
	for t, target := range s.Targets() {
		name := s.Columns[target].Column.Name
		if !change.Has(t) || slices.Contains(s.Policy.Excused, name) {
			continue
		}
		before, after := row.Before(t), row.Cell(target)
		all = append(all, fmt.Sprintf("%s is %s in the file and %s in %s", name, report.OrNull(after),
			report.OrNull(before), s.Table.Name))
		err := c.tell(changes.Record{What: changes.Different, Key: row.Name(), Column: name, Before: before, After: after,
			File: at.File, Line: at.Line})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}
