package load

import (
	"context"
	"path/filepath"
	"sync"
	"time"

	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/logbook"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
	"ladle/internal/core/write"
)

// keepsBook reports whether the load writes into the logbook.
func (r *run) keepsBook() bool { return !r.Try && !r.NoLogbook }

// ownTables lists the tables of the logbook that the load needs.
func (r *run) ownTables() []*schema.Table {
	if !r.keepsBook() {
		return nil
	}
	return logbook.Tables()
}

// recorder writes what a load does with rows into the logbook, and counts the time that takes.
type recorder struct {
	*logbook.Writer
	seconds *float64
}

var _ write.Recorder = (*recorder)(nil)

// newRecorder is the recorder of a transaction; nil where nothing is recorded.
func (r *run) newRecorder(tx engine.Tx) *recorder {
	if !r.keepsBook() {
		return nil
	}
	return &recorder{logbook.NewWriter(tx, r.token), &r.report.Seconds.Book}
}

func (b *recorder) since(start time.Time) { *b.seconds += since(start) }

func (b *recorder) Changing(ctx context.Context, turn int, t *schema.Table, by, columns []string,
	batch *value.Batch) error {
	defer b.since(time.Now())
	return b.Writer.Changing(ctx, turn, t, by, columns, batch)
}

func (b *recorder) Emptying(ctx context.Context, turn int, t *schema.Table, by []string, column string,
	keys *value.Batch) error {
	defer b.since(time.Now())
	return b.Writer.Emptying(ctx, turn, t, by, column, keys)
}

func (b *recorder) Removing(ctx context.Context, turn int, t *schema.Table, by []string, keys *value.Batch) error {
	defer b.since(time.Now())
	return b.Writer.Removing(ctx, turn, t, by, keys)
}

func (b *recorder) Added(ctx context.Context, turn int, t *schema.Table, by, columns []string,
	batch *value.Batch) error {
	defer b.since(time.Now())
	return b.Writer.Added(ctx, turn, t, by, columns, batch)
}

func (b *recorder) Changed(ctx context.Context, turn int, t *schema.Table, by, columns []string,
	batch *value.Batch) error {
	defer b.since(time.Now())
	return b.Writer.Changed(ctx, turn, t, by, columns, batch)
}

// entry is the run as the logbook keeps it.
func (r *run) entry(j *judge.Judgement) (*logbook.Run, error) {
	entry := &logbook.Run{Token: r.token, Kind: logbook.Load, LadleFile: r.file.Base(),
		LadleSum: r.file.Sum, Program: r.Program,
		User: r.user, Level: string(r.Level), Started: r.started}
	var err error
	if entry.Inputs, err = r.inputEntries(j); err != nil {
		return nil, err
	}
	for _, s := range j.Steps {
		entry.Steps = append(entry.Steps, stepEntry(s, s.Tally))
	}
	for _, g := range j.Growths {
		entry.Steps = append(entry.Steps, growthEntry(g))
	}
	entry.Checks = logbook.Held(r.report.Checks)
	return entry, nil
}

// sumUp begins to work out the checksums of the inputs, which the logbook gets: the database writes rows meanwhile.
func (r *run) sumUp() {
	if !r.keepsBook() || r.sums != nil {
		return
	}
	r.sums = sync.OnceValues(func() (sums []string, err error) {
		for _, t := range r.in.Tables {
			sum, err := t.Sum()
			if err != nil {
				return nil, err
			}
			sums = append(sums, sum)
		}
		return sums, nil
	})
	go r.sums()
}

func (r *run) inputEntries(j *judge.Judgement) (all []logbook.Input, err error) {
	sums, err := r.sums()
	if err != nil {
		return nil, err
	}
	for i, f := range r.in.Plan.Feeds {
		all = append(all, logbook.Input{Name: f.Name(), File: filepath.Base(r.report.Inputs[i].File),
			Size: r.in.Tables[i].Size(), Sum: sums[i], Columns: r.in.Tables[i].Header().Names,
			Rows: r.in.Rows[i].Len(), SetAside: j.SetAside[i].Len(), Corrected: r.in.Kept[i].Sum()})
	}
	return all, nil
}

// stepEntry is a step with what became of some of its lines.
func stepEntry(s *judge.Step, y judge.Tally) logbook.Step {
	return logbook.Step{Name: s.Name, Table: s.Table.Name, Input: s.Feed.Name(), Tally: tallyOf(y),
		Removed: s.Gone.Removed(), Marked: s.Gone.MarkedRows(), MarkedBack: s.Gone.ReturnedRows(), Numbers: s.StoresNumbers()}
}

func growthEntry(g *judge.Growth) logbook.Step {
	n := int64(len(g.Rows))
	return logbook.Step{Name: "new names", Table: g.Table.Name, Tally: logbook.Tally{Read: n, Added: n}}
}

func tallyOf(y judge.Tally) logbook.Tally {
	return logbook.Tally{Read: y.Read, Added: y.Added, Updated: y.Updated, Unchanged: y.Unchanged, Same: y.Same,
		Differs: y.Differs, Repeated: y.Repeated, Overruled: y.Overruled, LeftOut: y.LeftOut, SetAside: y.SetAside}
}
