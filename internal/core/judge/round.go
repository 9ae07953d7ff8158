package judge

import (
	"context"
	"slices"

	"ladle/internal/core/ahead"
	"ladle/internal/core/clean"
	"ladle/internal/core/engine"
	"ladle/internal/core/keyindex"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/spool"
)

// Input is what is judged.
type Input struct {
	Plan     *plan.Plan
	Rows     []*clean.Rows // of each feed of the plan
	Database engine.Reader

	// Place returns where a line of a feed stands, by the position of its record.
	Place func(feed int, position int64) reason.Place

	Loaded   map[int]spool.RowSet // lines that an earlier run has loaded, by the step: they are left out
	Rejected *Rejections          // what the database rejected when it was written; nil for nothing
	Partial  bool                 // only the first lines of the inputs were read, so no row counts as gone
	ReadOnly bool                 // nothing will be written, so rows that refer to others that would go don't matter

	// Answers are those that a person gave about new names which look like others; more are added to them.
	Answers Answers
	// AskSimilar puts such a name to a person and returns whether it may be added, or ErrStopped; nil means no.
	AskSimilar func(context.Context, SimilarQuestion) (bool, error)

	Dir      string // for temporary files
	Resident int64  // the number of keys that are held in memory at a time; 0 for the usual one
}

// resident is the usual number of keys that are kept in memory at a time.
const resident = 1 << 18

// Count is the number of rows of a table before a load.
type Count struct {
	Rows  int64
	Exact bool // Rows was counted; else it is an estimate
}

// Judgement is what is decided of all lines.
type Judgement struct {
	Steps    []*Step
	Growths  []*Growth // what lookups add to tables, in the order of writing
	Before   map[*schema.Table]Count
	SetAside []spool.RowSet // for each feed, the lines that a step sets aside

	indexes   []*index
	additions []*addition
}

// Close frees what the judgement holds on disk: temporary files without a name, of which nothing is left.
func (j *Judgement) Close() {
	for _, s := range j.Steps {
		_ = s.close()
	}
	for _, x := range j.indexes {
		_ = x.Close()
	}
}

// round is one time of judging.
type round struct {
	Input
	*insight
	*Judgement
	newRows map[*schema.Table]int64 // those that steps add so far
}

// stepOf is the judged form of a step.
func (r *round) stepOf(p *plan.Step) *Step {
	return r.Steps[slices.IndexFunc(r.Steps, func(s *Step) bool { return s.Step == p })]
}

// partsOf is in how many parts n keys are kept: one, or the same number for all that are more than memory should hold.
func (r *round) partsOf(n int64) int {
	if n <= r.Resident {
		return 1
	}
	most := int64(0)
	for _, t := range r.Plan.Tables() {
		most = max(most, r.Before[t].Rows+r.incoming(t))
	}
	return int(most/r.Resident) + 1
}

// incoming is the number of rows that steps could add to t.
func (r *round) incoming(t *schema.Table) (n int64) {
	for _, s := range r.Plan.Steps {
		if s.Table == t {
			n += r.Rows[s.Feed.Number].Len()
		}
	}
	return n
}

// index is an index at work in a judgement.
type index struct {
	*keyindex.Index
	old *oldIDs // what it stands on, where it finds rows by the ids that they had where they came from
}

// eachPart gives use the parts of the index by which questions in n parts are answered, one after the other; the next one is
// loaded meanwhile. All stand in the only part of an index that is in memory.
func (x *index) eachPart(n int, use func(i int, p *keyindex.Part) error) error {
	i := 0
	return ahead.Of(func(give func(*keyindex.Part) error) error {
		for i := range n {
			p, err := x.Load(min(i, x.PartCount()-1))
			if err == nil {
				err = give(p)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}, func(p *keyindex.Part) error {
		defer p.Unload()
		i++
		return use(i-1, p)
	})
}

// why is a cause that is about the columns of the index.
func (x *index) why(k reason.Kind) reason.Why {
	return reason.Why{Kind: k, Table: x.Table.Name, Columns: reason.List(x.Columns...), OldIDs: x.old != nil}
}

// keyIndex is the index by which a step recognises rows that are there: it yields what they are updated by.
func (r *round) keyIndex(s *plan.Step) *index {
	yields := ""
	if s.Compares() {
		yields = s.Table.Locator
	}
	return r.index(s.Table, s.KeyNames(), yields, s.MatchesBlanks())
}

// index is the index of t by columns, in which blanks are values or not; one that yields something serves where nothing
// needs to be yielded.
func (r *round) index(t *schema.Table, columns []string, yields string, blanks bool) *index {
	for _, x := range r.indexes {
		if x.old == nil && x.Table == t && x.Blanks == blanks && slices.Equal(x.Columns, columns) {
			if x.Yields == "" {
				x.Yield(yields)
			}
			if yields == "" || x.Yields == yields {
				return x
			}
		}
	}
	o := keyindex.Options{Yields: yields, Blanks: blanks, Parts: r.partsOf(r.Before[t].Rows + r.incoming(t)),
		Dir: r.Dir}
	x := &index{Index: keyindex.New(t, columns, o)}
	r.indexes = append(r.indexes, x)
	return x
}
