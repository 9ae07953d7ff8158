package clean

import (
	"fmt"
	"path"
	"path/filepath"
	"time"

	"ladle/internal/core/formula"
	"ladle/internal/core/source"
	"ladle/internal/core/value"
)

// Provenance is what formulas are told of where rows come from.
type Provenance struct {
	Files []source.File // of the input
	Day   time.Time     // on which the run began
	User  string        // of the database; "" where none is open
}

// Asks reports whether a formula of the recipe asks for something of where rows come from.
func (r *Recipe) Asks(p formula.Provenance) bool {
	for i := range r.columns {
		c := &r.columns[i]
		if c.from.formula != nil && c.from.formula.Asks(p) {
			return true
		}
		for _, f := range c.fills {
			if f.formula != nil && f.formula.Asks(p) {
				return true
			}
		}
	}
	return false
}

// Tell says where the rows come from, before any is read.
func (r *Recipe) Tell(p Provenance) { r.provenance = p }

// origins hands formulas what they ask of where rows come from.
type origins struct {
	values [formula.Provenances]formula.Value
	file   int // the file that is told, from 1
}

// prepareProvenance readies what the formulas of the recipe ask for.
func (k *rowCleaner) prepareProvenance() {
	for p := range formula.Provenances {
		if !k.Asks(p) {
			continue
		}
		if k.from == nil {
			k.from = &origins{}
		}
		k.machine.SetProvenance(p, &k.from.values[p])
	}
	if k.from == nil {
		return
	}
	k.from.values[formula.Today], k.from.values[formula.LoadedBy] = k.provenance.today(), k.provenance.loadedBy()
}

func (p Provenance) today() formula.Value {
	year, month, date := p.Day.Date()
	days, _ := value.Days(int64(year), int64(month), int64(date))
	return formula.Value{Kind: formula.Moment, Moment: value.Moment{Dated: true, Days: days}}
}

func (p Provenance) loadedBy() formula.Value {
	return formula.Value{Kind: formula.Text, Text: p.User, Blank: p.User == ""}
}

// Compute returns what a formula over no columns gives, as a value of t in a column of one slot; zone is that of times
// that don't say theirs, nil for none. An error says why it gives none.
func (r *Recipe) Compute(f *formula.Formula, t value.Type, zone *time.Location) (*value.Column, error) {
	today, by := r.provenance.today(), r.provenance.loadedBy()
	m := formula.NewMachine(0)
	m.SetProvenance(formula.Today, &today)
	m.SetProvenance(formula.LoadedBy, &by)
	v, err := m.Run(f)
	if err != nil {
		return nil, err
	}
	made := value.NewColumn(t)
	if v.Kind == formula.Moment && !v.Blank {
		err = value.PutMoment(&made, t, v.Moment, zone)
	} else {
		err = value.ParseIn(&made, t, []byte(v.String()), zone)
	}
	if err != nil {
		return nil, fmt.Errorf("%q %w", v.String(), err)
	}
	return &made, nil
}

// tellOf hands formulas what they ask of a record.
func (k *rowCleaner) tellOf(r *source.Record) {
	file, line := source.PositionIn(r.Position)
	number := &k.from.values[formula.LineNumber]
	number.Kind = formula.Number
	number.Number.SetInt64(line)
	if k.from.file == file+1 || file >= len(k.provenance.Files) {
		return
	}
	k.from.file = file + 1
	f := k.provenance.Files[file]
	for p, text := range map[formula.Provenance]string{formula.FileName: path.Base(filepath.ToSlash(f.Path)),
		formula.SheetName: f.Sheet, formula.TableName: f.Table} {
		v := &k.from.values[p]
		v.Kind, v.Text, v.Blank = formula.Text, text, text == ""
	}
}
