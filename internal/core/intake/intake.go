// Package intake opens what a load works on. [Open] opens the inputs of a ladle file, puts corrected lines in their
// places, and holds all of it against the database as a plan; [Intake.Read] cleans the inputs into spools. What is
// judged and written, compared or only looked at then starts from an [Intake].
package intake

import (
	"context"
	"errors"
	"os"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/formula"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/reshape"
	"ladle/internal/core/setaside"
	"ladle/internal/core/source"
)

// Options say what is opened.
type Options struct {
	Corrected []string // set-aside files whose lines a person has corrected; INPUT=FILE, where the name doesn't tell
	First     int64    // only so many lines of each input are read; 0 for all
	Compare   bool     // the plan compares lines with rows that are there, and changes nothing

	Others map[string]engine.Database // by the names that queries on other databases give them
}

// Intake is the inputs of a ladle file at work.
type Intake struct {
	File   *ladlefile.File
	Plan   *plan.Plan
	Tables []source.Table   // of the plan's feeds, with corrected lines in them
	Kept   []*setaside.Kept // the corrected lines of the plan's feeds
	Rows   []*clean.Rows    // of the plan's feeds, once they were read
	Totals []check.ControlTotal
	Notes  []string // what to know of the way in which the inputs were read

	options   Options
	answers   map[*ladlefile.Input]*answer // of queries on the database that is loaded into
	asked     map[*ladlefile.Input][]question
	originals []source.Table // of the plan's feeds, without corrected lines
	dir       string         // for temporary files
}

// Open opens the inputs of a ladle file and holds it against them and the database. Its error is a *fault.Fault.
func Open(ctx context.Context, f *ladlefile.File, db engine.Database, o Options) (*Intake, error) {
	in := &Intake{File: f, options: o, dir: os.TempDir(), answers: map[*ladlefile.Input]*answer{},
		asked: map[*ladlefile.Input][]question{}}
	opened := map[string]source.Table{}
	defer func() {
		for _, t := range opened { // those that no feed has taken
			t.Close()
		}
	}()
	headers := map[string]source.Header{}
	var failed []error
	for _, i := range f.Inputs {
		t, err := in.openInput(ctx, i, db)
		if err != nil {
			failed = append(failed, source.OfInput(err, i.Name.Value))
			continue
		}
		headers[i.Name.Value], opened[i.Name.Value] = t.Header(), t
	}
	if failed != nil {
		return nil, source.Together(errors.Join(failed...))
	}
	schema, err := db.Schema(ctx)
	if err != nil {
		return nil, err
	}
	if in.Plan, err = plan.Resolve(f, headers, schema); err != nil {
		return nil, err
	}
	if o.Compare {
		in.Plan.Compare()
	}
	for _, feed := range in.Plan.Feeds {
		in.originals = append(in.originals, opened[feed.Name()])
		delete(opened, feed.Name())
	}
	in.Tables = append(in.Tables, in.originals...)
	if err := in.tell(ctx, db); err != nil {
		in.Close()
		return nil, err
	}
	if err := in.correct(ctx); err != nil {
		in.Close()
		return nil, err
	}
	return in, nil
}

// openInput opens the files of an input, or runs its query, and gives its lines their shape.
func (in *Intake) openInput(ctx context.Context, i *ladlefile.Input, db engine.Database) (source.Table, error) {
	if !i.FromDatabase() {
		return reshape.Open(i.Paths, i.Asked, i.Shape, in.File.Path)
	}
	t, err := in.openRows(ctx, i, db)
	if err != nil {
		return nil, err
	}
	shaped, err := reshape.Of(t, i.Shape, in.File.Path)
	if err != nil {
		t.Close()
	}
	return shaped, err
}

// tell tells formulas where rows come from.
func (in *Intake) tell(ctx context.Context, db engine.Database) (err error) {
	told := clean.Provenance{Day: time.Now()}
	for i, f := range in.Plan.Feeds {
		if told.User == "" && f.Recipe.Asks(formula.LoadedBy) {
			if told.User, err = db.User(ctx); err != nil {
				return err
			}
		}
		told.Files = in.Tables[i].Files()
		f.Recipe.Tell(told)
	}
	return nil
}

// FileNames names the files of each feed.
func (in *Intake) FileNames() []string {
	all := make([]string, len(in.Tables))
	for i, t := range in.Tables {
		all[i] = setaside.FileNames(t)
	}
	return all
}

// Place returns where a line of a feed stands, by the position of its record.
func (in *Intake) Place(feed int, position int64) reason.Place {
	return source.PlaceOf(in.Tables[feed], position)
}

// Judging is the intake as what is judged, against a database as a transaction sees it.
func (in *Intake) Judging(db engine.Reader) judge.Input {
	return judge.Input{Plan: in.Plan, Rows: in.Rows, Database: db, Place: in.Place, Partial: in.options.First > 0,
		ReadOnly: in.options.Compare, Dir: in.dir}
}

// SetAside are the lines of a feed that a judgement sets aside.
func (in *Intake) SetAside(feed int, j *judge.Judgement) *setaside.Lines {
	f, rows := in.Plan.Feeds[feed], in.Rows[feed]
	l := &setaside.Lines{Input: f.Name(), Table: in.Tables[feed], Original: in.originals[feed], Read: rows,
		Set:  j.SetAside[feed],
		Logs: []setaside.Log{setaside.FromCells(rows.Problems, f.Recipe.Name, f.Recipe.Field)}}
	for _, s := range j.Steps {
		for _, problems := range s.Problems {
			if s.Feed == f {
				l.Logs = append(l.Logs, setaside.FromStep(problems, s.Step))
			}
		}
	}
	return l
}

// Close closes the inputs and frees what was read.
func (in *Intake) Close() {
	for _, t := range in.Tables {
		t.Close()
	}
	for _, r := range in.Rows {
		r.Close()
	}
	for _, f := range in.Plan.Feeds {
		f.Recipe.Close()
	}
}
