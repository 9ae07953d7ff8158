package verify

import (
	"context"
	"slices"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/logbook"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// later is what runs did with rows after a run: differences that they made are expected.
type later struct {
	changed map[*schema.Table]map[string]int64 // the run that changed a row, by its identity
	removed map[*schema.Table][]removedRows
}

// removedRows are rows that a run removed.
type removedRows struct {
	run     int64
	columns []string
	rows    *value.Batch
	byKey   map[string]map[string]bool // the identities of the rows by the columns of a key, once they are asked for
}

// laterThan reads what all runs after the one with a number did and did not take back.
func laterThan(ctx context.Context, db engine.Reader, s *schema.Schema, number int64) (*later, error) {
	l := &later{changed: map[*schema.Table]map[string]int64{}, removed: map[*schema.Table][]removedRows{}}
	if _, err := logbook.Find(ctx, db, number); err != nil {
		return nil, err
	}
	all, err := logbook.List(ctx, db)
	for _, run := range slices.Backward(all) {
		if err != nil {
			return nil, err
		}
		if run.ID > number && run.UndoneBy == 0 && run.Kind == logbook.Load {
			err = l.add(ctx, db, s, run)
		}
	}
	return l, err
}

func (l *later) add(ctx context.Context, db engine.Reader, s *schema.Schema, run *logbook.Run) error {
	b, err := logbook.Open(ctx, db, s, run)
	if err != nil {
		return err
	}
	for _, c := range b.Chunks {
		t := s.Table(c.Table)
		if t == nil || c.What != logbook.Changed && c.What != logbook.Removed {
			continue
		}
		err := b.Each(ctx, t, c, func(rows *value.Batch) error {
			if c.What == logbook.Changed {
				l.change(t, rows.Columns[:len(c.By)], run.ID)
				return nil
			}
			kept := value.NewBatch(engine.Types(t, c.Columns))
			for i := range kept.Columns {
				for row := range rows.Len() {
					kept.Columns[i].AppendFrom(&rows.Columns[len(c.By)+i], row)
				}
			}
			l.removed[t] = append(l.removed[t], removedRows{run.ID, c.Columns, kept, map[string]map[string]bool{}})
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (l *later) change(t *schema.Table, keys []value.Column, run int64) {
	if l.changed[t] == nil {
		l.changed[t] = map[string]int64{}
	}
	for row := range keys[0].Len() {
		l.changed[t][value.Identity(keys, row)] = run
	}
}

// changedBy is the run that changed a row, by its identity; 0 for none.
func (l *later) changedBy(t *schema.Table, identity string) int64 {
	if l == nil {
		return 0
	}
	return l.changed[t][identity]
}

// removedBy is the run that removed the row with a key, given the identity of that; 0 for none.
func (l *later) removedBy(t *schema.Table, key []string, identity string) int64 {
	if l == nil {
		return 0
	}
	for _, r := range slices.Backward(l.removed[t]) {
		if r.keys(key)[identity] {
			return r.run
		}
	}
	return 0
}

// keys are the identities of the rows by the columns of a key.
func (r *removedRows) keys(key []string) map[string]bool {
	name := strings.Join(key, "\x00")
	if known := r.byKey[name]; known != nil {
		return known
	}
	all := map[string]bool{}
	r.byKey[name] = all
	var columns []value.Column
	for _, k := range key {
		at := slices.Index(r.columns, k)
		if at < 0 {
			return all
		}
		columns = append(columns, r.rows.Columns[at])
	}
	for row := range r.rows.Len() {
		all[value.Identity(columns, row)] = true
	}
	return all
}

// except counts a line whose difference a later run has made.
func (c *comparison) except(run int64, why Why) {
	c.made.Tally.Excepted++
	for i := range c.laterRuns {
		if e := &c.laterRuns[i]; e.Run == run && e.Why == why {
			e.Lines++
			return
		}
	}
	c.laterRuns = append(c.laterRuns, Excepted{c.made.Input, run, why, 1})
}
