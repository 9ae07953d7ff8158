package load

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/aside"
	"ladle/internal/core/check"
	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// Verification is what became, in the database, of the inputs of a ladle file.
type Verification struct {
	LadleFile string         `json:"ladle_file"`
	Database  string         `json:"database"`
	Same      bool           `json:"same"` // nothing is missing, nothing differs, and nothing is there that should be gone
	Steps     []StepVerified `json:"steps"`
	Lookups   []LookupReport `json:"missing_names,omitempty"` // names that finds would add
	Checks    []check.Result `json:"checks,omitempty"`        // claims, and the totals that senders state
	SetAside  int64          `json:"set_aside"`               // lines that can't be looked for
	Groups    []aside.Group  `json:"groups,omitempty"`
	Notes     []string       `json:"notes,omitempty"`
	Seconds   float64        `json:"seconds"`
}

// Status is the exit status of the program for this outcome.
func (v *Verification) Status() int {
	if v.Same {
		return 0
	}
	return 1
}

// StepVerified is what became of the rows of one step.
type StepVerified struct {
	Step     string   `json:"step"`
	Table    string   `json:"table"`
	Input    string   `json:"input"`
	Key      []string `json:"key"`
	Read     int64    `json:"read"`
	Same     int64    `json:"same"`
	Missing  int64    `json:"missing"`
	Differs  int64    `json:"differs"`
	Extra    *int64   `json:"extra,omitempty"` // rows of the table that the input does not have; nil where that can't be told
	Gone     bool     `json:"gone_from_file"`  // the ladle file says that these are removed
	Repeated int64    `json:"repeated"`
	LeftOut  int64    `json:"left_out"`
	SetAside int64    `json:"set_aside"`
	Missed   []string `json:"missing_rows,omitempty"` // the first of them
	Differ   []string `json:"differing_cells,omitempty"`
	Extras   []string `json:"extra_rows,omitempty"`
}

// mostVerified is the number of rows or cells that are named.
const mostVerified = 20

// Verify holds the inputs of a ladle file against the database, and changes nothing. Each row with a key is looked for
// and compared cell by cell, also where a load would leave it as it is.
func Verify(ctx context.Context, file *ladlefile.File, db engine.Database, o Options) (*Verification, error) {
	o.Try = true
	r := newRun(file, db, o)
	r.reading = true
	defer r.close()
	if err := r.prepare(ctx); err != nil {
		return nil, err
	}
	extra := r.compareAll()
	if err := r.read(ctx); err != nil {
		return nil, err
	}
	j, err := r.judge(ctx, &reading{Reader: db})
	defer j.close()
	if err != nil {
		return nil, err
	}
	r.fill(j)
	v := &Verification{LadleFile: file.Path, Database: r.plan.Schema.Database, Notes: r.report.Notes, SetAside: r.report.Aside(), Lookups: r.report.Lookups}
	v.Same = len(v.Lookups) == 0
	for _, s := range j.steps {
		step, err := j.verified(ctx, s, extra[s.Block])
		if err != nil {
			return nil, err
		}
		v.Same = v.Same && step.Missing+step.Differs == 0 && (!step.Gone || step.Extra == nil || *step.Extra == 0)
		v.Steps = append(v.Steps, *step)
	}
	if err := r.explain(j); err != nil {
		return nil, err
	}
	v.Groups = r.report.Groups
	if v.Checks, err = r.hold(ctx); err != nil {
		return nil, err
	}
	v.Same = v.Same && !check.Failed(v.Checks)
	v.Seconds = since(r.started)
	return v, nil
}

// reading is a database of which no numbers are reserved.
type reading struct {
	engine.Reader
	next int64
}

// beyond is a number that no table reaches.
const beyond = 1 << 62

func (r *reading) Reserve(_ context.Context, t *schema.Table, n, _ int64) ([]engine.Span, error) {
	if t.Locator == "" || n == 0 {
		return nil, nil
	}
	r.next += n
	return []engine.Span{{First: beyond + r.next - n, Count: n}}, nil
}

// compareAll has every block with a key compare its rows with those that are there, and look for rows that the input does
// not have where one block alone feeds a table. It tells which blocks do.
func (r *run) compareAll() (extra map[*ladlefile.Block]bool) {
	extra = map[*ladlefile.Block]bool{}
	feeding := map[*schema.Table]int{}
	for _, s := range r.plan.Steps {
		if s.First == nil {
			feeding[s.Table]++
		}
	}
	for _, s := range r.plan.Steps {
		if len(s.Key) == 0 {
			continue
		}
		if s.Block.There != ladlefile.UpdateThere {
			s.Block.Blank = ladlefile.BlankClears
		}
		if s.Block.There = ladlefile.KeepThere; s.First != nil || len(s.Targets()) > 0 {
			s.Block.There = ladlefile.UpdateThere
		}
		if s.First == nil && s.Block.Gone == nil && feeding[s.Table] == 1 {
			s.Block.Gone = &ladlefile.Gone{Most: ladlefile.Limit{Any: true}}
			extra[s.Block] = true
			s.Feed.Recipe.CleanAll()
		}
	}
	return extra
}

// verified is the account of a step.
func (j *judgement) verified(ctx context.Context, s *judged, onlyTold bool) (*StepVerified, error) {
	y, known := s.tally, s.Step
	if s.first != nil {
		known = s.first.Step
	}
	v := &StepVerified{Step: s.Name, Table: s.Table.Name, Input: s.Feed.Input.Name.Value, Key: known.KeyNames(), Read: y.Read, Same: y.Unchanged + y.Kept, Missing: y.Added,
		Repeated: y.Repeated, LeftOut: y.LeftOut, SetAside: y.SetAside}
	if s.first == nil && len(s.Key) == 0 {
		return v, j.verifyMany(ctx, s, v)
	}
	if s.gone != nil && s.gone.unknown == 0 {
		n := s.gone.removed()
		v.Extra, v.Gone, v.Extras = &n, !onlyTold, s.gone.keys(s, mostVerified)
	}
	return v, j.differences(ctx, s, v)
}

// differences names the rows that are missing and the cells that differ. Of a second half, rows that are missing were
// counted with the first one.
func (j *judgement) differences(ctx context.Context, s *judged, v *StepVerified) error {
	if s.tally.Added+s.tally.Updated == 0 {
		return nil
	}
	var changes *changeReader
	if s.changes != nil {
		changes = s.changes.reader()
	}
	known := s.Step
	if s.first != nil {
		known = s.first.Step
	}
	return j.eachVerdict(ctx, s, func(view *view, columns []*value.Column, verdicts *value.Batch) error {
		for row, what := range verdicts.Columns[0].Nums {
			spot := func() string { return j.run.spotWords(s.feed, view.rows.Columns[clean.Lines].Nums[row]) }
			switch verdict(what) {
			case added:
				if len(v.Missed) < mostVerified {
					v.Missed = append(v.Missed, fmt.Sprintf("%s: %s", spot(), j.keyWords(s, view, columns, row)))
				}
			case updated:
				if err := changes.next(); err != nil {
					return err
				}
				by := &changes.batch.Columns[changedBy]
				if s.Table.Locator != "" && j.reserved(s.Table, by.Nums[changes.at]) {
					continue
				}
				cells := j.differing(s, changes, view, columns, row)
				if len(cells) == 0 {
					v.Same++
					continue
				}
				v.Differs++
				if len(v.Differ) < mostVerified {
					v.Differ = append(v.Differ, fmt.Sprintf("%s: %s: %s", spot(), j.nameOf(s, known, view, columns, changes, row), strings.Join(cells, "; ")))
				}
			}
		}
		return nil
	}, cells(s.columns)...)
}

// keyWords names a row by its key.
func (j *judgement) keyWords(s *judged, v *view, columns []*value.Column, row int) string {
	var parts []string
	for _, k := range s.Key {
		parts = append(parts, s.Columns[k].Column.Name+" "+shownText(j.shownCell(s, v, columns[k], k, row)))
	}
	return strings.Join(parts, ", ")
}

// nameOf names a row that is there: by its key, or, in a second half, by what it is found by.
func (j *judgement) nameOf(s *judged, known *ladlefile.Step, v *view, columns []*value.Column, changes *changeReader, row int) string {
	if known == s.Step {
		return j.keyWords(s, v, columns, row)
	}
	return strings.Join(changes.by, ", ") + " " + words(value.Pointers(changes.batch.Columns[changedBy:changedBy+len(changes.by)]), changes.at)
}

func shownText(text *string) string {
	if text == nil {
		return "NULL"
	}
	return *text
}

// differing lists the cells of a row that differ, but for those that the database itself changes.
func (j *judgement) differing(s *judged, changes *changeReader, v *view, columns []*value.Column, row int) (all []string) {
	for t, target := range changes.targets {
		name := s.Columns[target].Column.Name
		if !among(changes.mask(), t) || slices.Contains(s.excused(), name) {
			continue
		}
		is := "NULL"
		if c := &changes.batch.Columns[changedBy+len(changes.by)+t]; c.States[changes.at] != value.Null {
			is = c.Text(changes.at)
		}
		all = append(all, fmt.Sprintf("%s is %s in the file and %s in %s", name, shownText(j.shownCell(s, v, columns[target], target, row)), is, s.Table.Name))
	}
	return all
}

// verifyMany holds rows that nothing tells apart against those of the table: for each row of the file there must be one
// with the same values. It goes part by part, each with as many rows as fit into memory.
func (j *judgement) verifyMany(ctx context.Context, s *judged, v *StepVerified) error {
	v.Same, v.Missing, v.Extra = 0, 0, new(int64)
	parts := max(j.partsOf(s.rows.Spool.Rows()), 1)
	asked, there := make([]*spool.Stream, parts), make([]*spool.Stream, parts)
	for i := range parts {
		asked[i], there[i] = spool.NewStream(j.run.dir, 3), spool.NewStream(j.run.dir, 2)
		defer asked[i].Close()
		defer there[i].Close()
	}
	err := j.eachVerdict(ctx, s, func(view *view, columns []*value.Column, verdicts *value.Batch) error {
		for row, what := range verdicts.Columns[0].Nums {
			if verdict(what) != added {
				continue
			}
			h := hashRow(columns, row)
			if err := asked[h.part(parts)].Append(h.hi, h.lo, uint64(view.rows.Columns[clean.Lines].Nums[row])); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	err = j.db.Scan(ctx, s.Table, s.Names(), func(b *value.Batch) error {
		for row := range b.Len() {
			h := hashRow(value.Pointers(b.Columns), row)
			if err := there[h.part(parts)].Append(h.hi, h.lo); err != nil {
				return err
			}
		}
		return nil
	})
	for i := 0; i < parts && err == nil; i++ {
		err = j.pair(s, v, asked[i], there[i])
	}
	return err
}

func hashRow(columns []*value.Column, row int) hash {
	var room [256]byte
	all := room[:0]
	for _, c := range columns {
		all = c.AppendIdentity(all, row)
	}
	return hashOf(all)
}

// pair finds a row of the table for each of the file.
func (j *judgement) pair(s *judged, v *StepVerified, asked, there *spool.Stream) error {
	counts := map[hash]int64{}
	if err := eachRecord(there, func(w []uint64) error {
		counts[hash{w[0], w[1]}]++
		*v.Extra++
		return nil
	}); err != nil {
		return err
	}
	return eachRecord(asked, func(w []uint64) error {
		h := hash{w[0], w[1]}
		if counts[h] > 0 {
			counts[h]--
			v.Same++
			*v.Extra--
			return nil
		}
		v.Missing++
		if len(v.Missed) < mostVerified {
			v.Missed = append(v.Missed, j.run.spotWords(s.feed, int64(w[2])))
		}
		return nil
	})
}

// explain groups the reasons for which lines can't be looked for.
func (r *run) explain(j *judgement) error {
	r.report.SetAside, r.groups = nil, aside.Groups{}
	for i := range r.plan.Feeds {
		if r.report.Inputs[i].SetAside == 0 {
			continue
		}
		if err := r.writeAside(j, i, io.Discard); err != nil {
			return err
		}
	}
	r.report.Groups = r.groups.List()
	return nil
}

// hold asks the claims, and holds the totals that senders state against what was read.
func (r *run) hold(ctx context.Context) ([]check.Result, error) {
	r.report.Checks = nil
	_ = r.stated() // what is wrong stands in the results
	held, err := check.Ask(ctx, r.db, r.claims())
	return append(r.report.Checks, held...), err
}
