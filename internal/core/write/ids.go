package write

import (
	"context"
	"slices"

	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// ids are the locators of the rows that are added, reserved once, when writing begins.
type ids struct {
	ofLookups []int64 // by the number of the row
	ofSteps   map[*schema.Table][]idRun
	first     map[*judge.Step]int64 // the least locator of a step
}

// idRun is new rows of a table, by the number of the first, that get a idRun of locators.
type idRun struct {
	number int64
	span   engine.Span
}

// reserve reserves a locator for each row that is added and brings none along.
func reserve(ctx context.Context, tx engine.Tx, j *judge.Judgement) (*ids, error) {
	all := &ids{ofSteps: map[*schema.Table][]idRun{}, first: map[*judge.Step]int64{}}
	for _, g := range j.Growths {
		spans, err := tx.Reserve(ctx, g.Table, int64(len(g.Rows)), fedUpTo(j, g.Table))
		if err != nil {
			return nil, err
		}
		at := 0
		for _, span := range spans {
			for n := range span.Count {
				all.put(g.Rows[at], span.At(n))
				at++
			}
		}
	}
	for _, s := range j.Steps {
		if !s.Locates() || s.Tally.Added == 0 {
			continue
		}
		spans, err := tx.Reserve(ctx, s.Table, s.Tally.Added, fedUpTo(j, s.Table))
		if err != nil {
			return nil, err
		}
		number := s.FirstNew
		for _, span := range spans {
			all.ofSteps[s.Table] = append(all.ofSteps[s.Table], idRun{number, span})
			number += span.Count
		}
		all.first[s] = spans[0].First
	}
	return all, nil
}

// put returns a row that a lookup adds its locator.
func (i *ids) put(r judge.NewRow, id int64) {
	for int64(len(i.ofLookups)) <= r.Number() {
		i.ofLookups = append(i.ofLookups, 0)
	}
	i.ofLookups[r.Number()] = id
}

// fedUpTo is the greatest locator that a file brings along for t.
func fedUpTo(j *judge.Judgement, t *schema.Table) (most int64) {
	for _, s := range j.Steps {
		if s.Table == t {
			most = max(most, s.FedMost)
		}
	}
	return most
}

// of is the locator of a new row of t.
func (i *ids) of(t *schema.Table, r judge.NewRow) int64 {
	if r.OfLookup() {
		return i.ofLookups[r.Number()]
	}
	runs := i.ofSteps[t]
	at, found := slices.BinarySearchFunc(runs, r.Number(), func(x idRun,
		n int64) int {
		return int(min(max(x.number-n, -1), 1))
	})
	if !found {
		at--
	}
	return runs[at].span.At(r.Number() - runs[at].number)
}

// append adds a value as it is sent: a new row of t by its locator.
func (i *ids) append(to, c *value.Column, line int, t *schema.Table) {
	if c.States[line] == value.New {
		to.AppendNum(i.of(t, judge.NewRow(c.Nums[line])))
		return
	}
	to.AppendFrom(c, line)
}

// settleAt returns the new row of t in a slot of a column its locator.
func (i *ids) settleAt(c *value.Column, slot int, t *schema.Table) {
	if c.States[slot] == value.New {
		c.States[slot], c.Nums[slot] = value.Given, i.of(t, judge.NewRow(c.Nums[slot]))
	}
}
