package logbook

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Options say how a run is taken back.
type Options struct {
	Program string // the version of the program

	// Ask is shown what would be done and gives the answer of the person; nil means yes.
	Ask func(context.Context, *Report) (bool, error)

	// Reopen connects to the database once more, when the commit ended without an answer; nil when that can't be done.
	Reopen Reopen
}

// Outcome is how the taking back of a run ended.
type Outcome string

const (
	Undone   Outcome = "undone"
	Refused  Outcome = "refused"  // nothing was changed
	Declined Outcome = "declined" // the person said no; nothing was changed
	Asking   Outcome = "asking"   // not ended yet: this is what would be done
)

// Report is the account of taking a run back.
type Report struct {
	Outcome  Outcome        `json:"outcome"`
	Why      string         `json:"why,omitempty"`
	Problems []string       `json:"problems,omitempty"` // the first rows that stand in the way
	Database string         `json:"database"`
	Of       *Run           `json:"of"`              // what is taken back
	Run      int64          `json:"run,omitempty"`   // the number of this run in the logbook
	Tables   []*TableUndone `json:"tables"`          // in the order in which they are dealt with
	Notes    []string       `json:"notes,omitempty"` // what will take long, and why
	Checks   []check.Result `json:"checks,omitempty"`
	Seconds  float64        `json:"seconds"`
}

// TableUndone is what is done with the rows of one table.
type TableUndone struct {
	Table    string `json:"table"`
	Removed  int64  `json:"removed"`  // rows that the run added
	Restored int64  `json:"restored"` // rows that it updated get their old values
	PutBack  int64  `json:"put_back"` // rows that it removed
}

// Status is the exit status of the program for this outcome.
func (r *Report) Status() int {
	switch r.Outcome {
	case Refused:
		return 1
	case Declined:
		return 2
	}
	return 0
}

// undoing takes a run back in one transaction.
type undoing struct {
	*book
	tx     engine.Tx
	begun  time.Time
	report *Report
	before map[*schema.Table]check.Before
	added  map[*schema.Table]map[string]bool // rows that the run added, where some of the same table are restored too
	kept   map[string]bool                   // rows that can't be removed, by table and identity
}

// TakeBack removes what a run added and restores what it updated and removed, in the reverse order of writing, in one
// transaction that checks prove; it is itself a run. It refuses where rows were changed since, or others stand on them.
func TakeBack(ctx context.Context, db engine.Database, id int64, o Options) (*Report, error) {
	started := time.Now()
	run, err := Find(ctx, db, id)
	if err != nil {
		return nil, err
	}
	s, err := db.Schema(ctx)
	if err != nil {
		return nil, err
	}
	report := &Report{Of: run, Database: s.Database}
	if why := run.final(); why != "" {
		report.Outcome, report.Why = Refused, why
		return report, nil
	}
	if o.Ask != nil {
		goOn, err := once(ctx, db, s, run, report, nil)
		if err != nil || !goOn {
			return report, err
		}
		report.Outcome = Asking
		asked := time.Now()
		yes, err := o.Ask(ctx, report)
		started = started.Add(time.Since(asked))
		if err != nil || !yes {
			report.Outcome = Declined
			return report, err
		}
	}
	_, err = once(ctx, db, s, run, report, &o)
	report.Seconds = time.Since(started).Seconds()
	return report, err
}

// final says why a run can't be taken back, whatever became of its rows.
func (r *Run) final() string {
	switch {
	case r.Kind == Undo:
		return fmt.Sprintf("run %d took run %d back; load the files again to have its rows back", r.ID, r.Undoes)
	case r.UndoneBy != 0:
		return fmt.Sprintf("run %d was taken back already, by run %d", r.ID, r.UndoneBy)
	case r.Level != string(check.Cells):
		return fmt.Sprintf("run %d was loaded with --check-level %s, so its rows were not read back, and it can't be told whether they were changed since", r.ID, r.Level)
	}
	return ""
}

// once does it all in a transaction, and takes it back again where o is nil. It tells whether all could be done.
func once(ctx context.Context, db engine.Database, s *schema.Schema, run *Run, report *Report, o *Options) (done bool, err error) {
	b, err := openBook(ctx, db, s, run.Token)
	if err != nil {
		return false, err
	}
	*report = Report{Of: run, Database: report.Database, Notes: b.slow()}
	var own []*schema.Table
	if o != nil {
		own = Tables()
	}
	tx, err := db.Begin(ctx, b.locked(), own, true)
	if err != nil {
		return false, err
	}
	defer func() {
		if rollback := tx.Rollback(); rollback != nil && err == nil {
			err = rollback
		}
	}()
	b.db = tx
	u := &undoing{book: b, tx: tx, begun: time.Now(), report: report, before: map[*schema.Table]check.Before{}, added: map[*schema.Table]map[string]bool{}, kept: map[string]bool{}}
	if goOn, err := u.may(ctx); err != nil || !goOn {
		return false, err
	}
	if goOn, err := u.do(ctx); err != nil || !goOn {
		return false, err
	}
	if report.Checks, err = u.prove(ctx); err != nil {
		return false, err
	}
	if check.Failed(report.Checks) {
		return false, u.refuse("a check failed, so everything was left as it was")
	}
	if o == nil {
		return true, nil
	}
	return true, u.commit(ctx, db, o)
}

// locked lists the tables that must stand still: those of the run, those that they point at, and those that point at them.
func (b *book) locked() []*schema.Table {
	var all []*schema.Table
	add := func(t *schema.Table) {
		if t != nil && !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, c := range b.chunks {
		add(b.schema.Table(c.Table))
	}
	for _, t := range slices.Clone(all) {
		for _, r := range t.Relations {
			add(r.ParentTable)
		}
		for _, p := range b.schema.PointingAt(t) {
			add(p.Child)
		}
	}
	return all
}

func (u *undoing) refuse(why string) error {
	u.report.Outcome, u.report.Why = Refused, why
	return nil
}

// may holds the rows against what the run left, and notes what is there before anything is changed.
func (u *undoing) may(ctx context.Context) (bool, error) {
	since, err := u.compare(ctx)
	if err != nil {
		return false, err
	}
	if !since.Same() {
		u.report.Problems = since.Problems
		return false, u.refuse(since.why(u.report.Of.ID))
	}
	for _, c := range u.chunks {
		t := u.schema.Table(c.Table)
		if _, counted := u.before[t]; counted {
			continue
		}
		n, exact, err := u.tx.Count(ctx, t)
		if err != nil {
			return false, err
		}
		u.before[t] = check.Before{Rows: n, Exact: exact}
	}
	return true, nil
}

// manyGone is the number of rows of a table whose removal takes long without an index on what points at them.
const manyGone = 10_000

// slow notes relations without an index: for each row that goes, all rows must be read that could point at it.
func (b *book) slow() (notes []string) {
	gone := map[*schema.Table]int64{}
	for _, c := range b.chunks {
		if c.What == Added {
			gone[b.schema.Table(c.Table)] += c.Rows
		}
	}
	for _, t := range b.schema.Tables {
		for _, p := range b.schema.PointingAt(t) {
			if gone[t] > manyGone && !p.Child.Indexed(p.Columns) {
				notes = append(notes, fmt.Sprintf("%s has no index on %s, so taking %d rows of %s back takes long; an index there makes it fast",
					p.Child.Name, strings.Join(p.Columns, ", "), gone[t], t.Name))
			}
		}
	}
	return notes
}

// why says why a run can't be taken back.
func (s *Since) why(id int64) string {
	var parts []string
	add := func(n int64, what string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, what))
		}
	}
	add(s.Changed, "were changed since")
	add(s.Gone, "are not there any more")
	add(s.Back, "that it removed are there again")
	add(s.Untold, "can't be told from others")
	return fmt.Sprintf("of the rows of run %d, %s", id, strings.Join(parts, ", "))
}

// of gives the account of a table.
func (u *undoing) of(table string) *TableUndone {
	for _, t := range u.report.Tables {
		if t.Table == table {
			return t
		}
	}
	t := &TableUndone{Table: table}
	u.report.Tables = append(u.report.Tables, t)
	return t
}

// do takes chunk by chunk back, the one that was written last first. It tells whether nothing stood in the way.
func (u *undoing) do(ctx context.Context) (bool, error) {
	if err := u.collect(ctx); err != nil {
		return false, err
	}
	standing := false
	for _, short := range u.chunks {
		stands, err := u.takeBack(ctx, short)
		standing = standing || stands
		var refused *engine.Refused
		if errors.As(err, &refused) {
			u.report.Problems = append(u.report.Problems, refused.Error())
			return false, u.refuse("the database does not take it back")
		}
		if err != nil {
			return false, err
		}
		if len(u.report.Problems) >= mostProblems {
			break
		}
	}
	if standing {
		return false, u.refuse(fmt.Sprintf("other rows stand on those of run %d", u.report.Of.ID))
	}
	return true, nil
}

// collect notes the rows that the run added to tables of which it updated rows too: what it added and then completed is
// removed, not restored.
func (u *undoing) collect(ctx context.Context) error {
	for _, c := range u.chunks {
		if t := u.schema.Table(c.Table); c.What == Was && u.added[t] == nil {
			u.added[t] = map[string]bool{}
		}
	}
	for _, c := range u.chunks {
		t := u.schema.Table(c.Table)
		if c.What != Added || u.added[t] == nil {
			continue
		}
		err := u.each(ctx, t, c, func(keys *value.Batch) error {
			for row := range keys.Len() {
				u.added[t][identity(keys.Columns, row)] = true
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// takeBack takes a chunk back. It tells whether other rows stand on some of it.
func (u *undoing) takeBack(ctx context.Context, c *Chunk) (standing bool, err error) {
	t := u.schema.Table(c.Table)
	err = u.each(ctx, t, c, func(rows *value.Batch) error {
		switch c.What {
		case Added:
			stands, err := u.remove(ctx, t, c, rows)
			standing = standing || stands
			return err
		case Was:
			return u.restore(ctx, t, c, rows)
		case Removed:
			return u.putBack(ctx, t, c, rows)
		}
		return nil
	})
	return standing, err
}

// remove removes rows that the run added, but those that other rows stand on.
func (u *undoing) remove(ctx context.Context, t *schema.Table, c *Chunk, keys *value.Batch) (standing bool, err error) {
	if standing, err = u.standing(ctx, t, c.By, keys); standing || err != nil {
		for row := range keys.Len() { // what these point at is not to blame as well
			u.kept[t.Name+"\x00"+identity(keys.Columns, row)] = true
		}
		return standing, err
	}
	n, err := u.tx.Remove(ctx, t, c.By, keys)
	if err == nil && n != int64(keys.Len()) {
		err = &engine.Refused{Table: t.Name, What: "let rows go", Why: fmt.Sprintf("of %d that were to be removed it removed %d", keys.Len(), n)}
	}
	u.of(t.Name).Removed += n
	return false, err
}

// standing looks for rows that point at those with the given keys.
func (u *undoing) standing(ctx context.Context, t *schema.Table, by []string, keys *value.Batch) (found bool, err error) {
	for _, p := range u.schema.PointingAt(t) {
		parents := keys
		if !slices.Equal(by, p.ParentColumns) {
			parents = &value.Batch{}
			if err := u.rows(ctx, t, by, keys, p.ParentColumns, engine.Collect(parents, t, p.ParentColumns)); err != nil {
				return false, err
			}
		}
		known := knownBy(p.Child)
		err := u.tx.Probe(ctx, p.Child, p.Columns, parents, append(slices.Clone(p.Columns), known...), func(b *value.Batch) error {
			self := &value.Batch{Columns: b.Columns[len(p.Columns):]}
			for row := range b.Len() {
				if u.kept[p.Child.Name+"\x00"+identity(self.Columns, row)] {
					continue
				}
				found = true
				if len(u.report.Problems) < mostProblems {
					u.report.Problems = append(u.report.Problems, fmt.Sprintf("%s with %s points at a row of %s: %s", p.Child.Name, words(known, self, row), t.Name, words(p.Columns, b, row)))
				}
			}
			return nil
		})
		if err != nil {
			return false, err
		}
	}
	return found, nil
}

// knownBy lists the columns by which people know a row of t.
func knownBy(t *schema.Table) []string {
	switch {
	case t.Locator != "":
		return []string{t.Locator}
	case len(t.Keys) > 0:
		return t.Keys[0].Columns
	}
	return Hashed(t)
}

// restore gives cells the values that they had.
func (u *undoing) restore(ctx context.Context, t *schema.Table, c *Chunk, rows *value.Batch) error {
	if err := whole(c, rows); err != nil {
		return err
	}
	refused, err := u.tx.Update(ctx, t, c.By, c.Columns, rows)
	if err == nil && len(refused) > 0 {
		err = &engine.Refused{Table: t.Name, What: "take old values", Why: refused[0].Why}
	}
	if c.Turn > 0 { // else these are cells of rows that are put back
		u.of(t.Name).Restored += int64(u.staying(t, c, rows).Len())
	}
	return err
}

// staying leaves out rows that the run added.
func (u *undoing) staying(t *schema.Table, c *Chunk, rows *value.Batch) *value.Batch {
	out := value.NewBatch(engine.Types(t, append(slices.Clone(c.By), c.Columns...)))
	keys := rows.Columns[:len(c.By)]
	for row := range rows.Len() {
		if u.added[t][identity(keys, row)] {
			continue
		}
		for i := range rows.Columns {
			out.Columns[i].AppendFrom(&rows.Columns[i], row)
		}
	}
	return out
}

// putBack adds rows that the run removed.
func (u *undoing) putBack(ctx context.Context, t *schema.Table, c *Chunk, rows *value.Batch) error {
	if err := whole(c, rows); err != nil {
		return err
	}
	columns, batch := c.insertable(rows)
	refused, err := u.tx.Insert(ctx, t, columns, batch)
	if err == nil && len(refused) > 0 {
		err = &engine.Refused{Table: t.Name, What: "take a row back", Why: refused[0].Why}
	}
	u.of(t.Name).PutBack += int64(rows.Len())
	return err
}

// insertable gives the rows of a chunk as they are sent: a hidden row number that finds them goes before their columns.
func (c *Chunk) insertable(rows *value.Batch) ([]string, *value.Batch) {
	columns, batch := c.Columns, &value.Batch{Columns: rows.Columns[len(c.By):]}
	if len(c.By) == 1 && !slices.Contains(columns, c.By[0]) {
		columns, batch = append(slices.Clone(c.By), columns...), rows
	}
	return columns, batch
}

// whole refuses values that could not be read when they were kept, or that the columns don't take any more.
func whole(c *Chunk, rows *value.Batch) error {
	for i := range c.Columns {
		if row := slices.Index(rows.Columns[len(c.By)+i].States, value.Bad); row >= 0 {
			return &engine.Refused{Table: c.Table, What: "take old values", Why: fmt.Sprintf("what %s held in the row with %s is no value of its type", c.Columns[i], words(c.By, rows, row))}
		}
	}
	return nil
}

// commit writes the run into the logbook and ends the transaction.
func (u *undoing) commit(ctx context.Context, db engine.Database, o *Options) error {
	who, err := db.User(ctx)
	if err != nil {
		return err
	}
	of := u.report.Of
	run := &Run{Token: NewToken(), Kind: Undo, Undoes: of.ID, LadleFile: of.LadleFile, LadleSum: of.LadleSum, Program: o.Program, User: who,
		Level: string(check.Cells), Started: u.begun}
	for _, t := range u.report.Tables {
		run.Steps = append(run.Steps, Step{Name: "undo", Table: t.Table, Added: t.PutBack, Updated: t.Restored, Removed: t.Removed})
	}
	run.Checks = Held(u.report.Checks)
	if u.report.Run, err = Write(ctx, u.tx, run); err != nil {
		return err
	}
	if err := u.tx.Commit(context.WithoutCancel(ctx)); err != nil { // an interrupt now would leave the outcome open
		_ = u.tx.Rollback() // the error that counts is that of the commit
		if err := Settle(context.WithoutCancel(ctx), o.Reopen, run.Token, u.report.Database, err); err != nil {
			return err
		}
	}
	u.report.Outcome = Undone
	return nil
}

// prove checks that the tables are as they were before the run.
func (u *undoing) prove(ctx context.Context) ([]check.Result, error) {
	done := check.Done{Before: u.before, Level: check.Cells}
	for rest := u.chunks; len(rest) > 0; {
		n := 1
		for n < len(rest) && rest[n].like(rest[0]) {
			n++
		}
		u.expect(ctx, &done, rest[:n])
		rest = rest[n:]
	}
	return check.Run(ctx, u.tx, done)
}

// like tells whether a run did the same with the rows of two chunks.
func (c *Chunk) like(o *Chunk) bool {
	return c.What == o.What && c.Table == o.Table && c.Turn == o.Turn && slices.Equal(c.By, o.By) && slices.Equal(c.Columns, o.Columns)
}

// expect adds what must be true of the rows of chunks that are alike.
func (u *undoing) expect(ctx context.Context, done *check.Done, alike []*Chunk) {
	c, n := alike[0], int64(0)
	for _, a := range alike {
		n += a.Rows
	}
	t := u.schema.Table(c.Table)
	rows := func(of func(*value.Batch) *value.Batch) func(func(*value.Batch) error) error {
		return func(take func(*value.Batch) error) error {
			for _, a := range alike {
				if err := u.each(ctx, t, a, func(rows *value.Batch) error { return take(of(rows)) }); err != nil {
					return err
				}
			}
			return nil
		}
	}
	switch c.What {
	case Added:
		done.Removed = append(done.Removed, check.Removal{Table: t, Rows: n, By: c.By, Keys: rows(func(b *value.Batch) *value.Batch { return b })})
	case Was:
		done.Work = append(done.Work, check.Work{Table: t, Updated: n, By: c.By, Columns: c.Columns, Points: t.Declared(),
			Sent: rows(func(b *value.Batch) *value.Batch { return u.staying(t, c, b) })})
	case Removed:
		done.Work = append(done.Work, check.Work{Table: t, Added: n, By: c.By, Columns: c.Columns, Points: t.Declared(),
			Sent: rows(func(b *value.Batch) *value.Batch { return u.unemptied(c, b) })})
	}
}

// unemptied leaves cells open that were emptied before their rows were removed: what they held is kept by itself.
func (u *undoing) unemptied(c *Chunk, rows *value.Batch) *value.Batch {
	out := &value.Batch{Columns: slices.Clone(rows.Columns)}
	for _, o := range u.chunks {
		if o.What != Was || o.Turn != 0 || o.Table != c.Table {
			continue
		}
		for _, name := range o.Columns {
			at := len(c.By) + slices.Index(c.Columns, name)
			column := value.Column{Kind: rows.Columns[at].Kind, Scale: rows.Columns[at].Scale}
			for range rows.Len() {
				column.AppendState(check.Untouched)
			}
			out.Columns[at] = column
		}
	}
	return out
}

// each gives the rows of a chunk.
func (u *undoing) each(ctx context.Context, t *schema.Table, short *Chunk, take func(*value.Batch) error) error {
	c, err := short.load(ctx, u.tx, u.token)
	if err != nil {
		return err
	}
	return c.each(t, func(_ int, rows *value.Batch) error { return take(rows) })
}
