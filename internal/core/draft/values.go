package draft

import (
	"context"
	"fmt"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// readRows is the number of rows up to which a table's values are read whole; of a larger one those that the file has
// are looked up.
const readRows = 200_000

// readNames is the number of values up to which a name is held against all of them.
const readNames = 5000

// known is what is known of the values of a column of a table: how they are spelt there, by the form in which they are
// compared.
type known map[string]string

// place is a column of a table.
type place struct {
	table  *schema.Table
	column string
}

// catalogue knows values: those of the database, and those that files bring into it.
type catalogue struct {
	ctx   context.Context
	db    engine.Reader
	sizes map[*schema.Table]int64
	there map[place]known // of whole columns
	asked map[place]known // of large tables: what was asked for
	comes map[place]known // from the files of the draft
	told  map[question]int
}

// question is how many values of a column of a file a place has, or gets from a file where files count.
type question struct {
	place
	from  *column
	files bool
}

func newCatalogue(ctx context.Context, db engine.Reader) *catalogue {
	return &catalogue{ctx: ctx, db: db, sizes: map[*schema.Table]int64{}, there: map[place]known{},
		asked: map[place]known{}, comes: map[place]known{},
		told: map[question]int{}}
}

// bring forgets what files bring into tables, and takes what these columns of files bring.
func (c *catalogue) bring(columns map[place][]*column) {
	clear(c.comes)
	for q := range c.told {
		if q.files {
			delete(c.told, q)
		}
	}
	for p, all := range columns {
		c.comes[p] = known{}
		for _, from := range all {
			for i, t := range from.texts {
				c.comes[p][from.plain[i]] = t
			}
		}
	}
}

// fewTexts is the number of values of a column of a file, the first ones, by which it is matched.
const fewTexts = 1000

// shared counts the values that a place has, of those by which a column is matched.
func (c *catalogue) shared(q question) (n int, err error) {
	if n, known := c.told[q]; known {
		return n, nil
	}
	few := min(len(q.from.texts), fewTexts)
	has, err := c.values(q.place, q.from.texts[:few])
	if err != nil {
		return 0, err
	}
	for _, plain := range q.from.plain[:few] {
		if c.has(q, has, plain) {
			n++
		}
	}
	c.told[q] = n
	return n, nil
}

func (c *catalogue) has(q question, has known, plain string) bool {
	_, there := has[plain]
	_, comes := c.comes[q.place][plain]
	return there || q.files && comes
}

// missing lists all values of a column that a place neither has nor gets.
func (c *catalogue) missing(q question) (texts []string, err error) {
	has, err := c.values(q.place, q.from.texts)
	for i, plain := range q.from.plain {
		if !c.has(q, has, plain) {
			texts = append(texts, q.from.texts[i])
		}
	}
	return texts, err
}

// size is the number of rows of a table.
func (c *catalogue) size(t *schema.Table) (int64, error) {
	if size, counted := c.sizes[t]; counted {
		return size, nil
	}
	size, _, err := c.db.Count(c.ctx, t)
	if err == nil {
		c.sizes[t] = size
	}
	return size, err
}

func (c *catalogue) values(p place, texts []string) (known, error) {
	if has, ok := c.there[p]; ok {
		return has, nil
	}
	size, err := c.size(p.table)
	if err != nil {
		return nil, err
	}
	has := known{}
	take := func(b *value.Batch) error {
		for row, state := range b.Columns[0].States {
			if state == value.Given {
				text := b.Columns[0].Text(row)
				has[source.FoldName(text)] = text
			}
		}
		return nil
	}
	if size <= readRows {
		c.there[p] = has
		return has, c.db.Scan(c.ctx, p.table, []string{p.column}, take)
	}
	if !p.table.Indexed([]string{p.column}) {
		return nil, nil
	}
	if c.asked[p] == nil {
		c.asked[p] = known{}
	}
	has = c.asked[p]
	column := p.table.Column(p.column)
	keys := &value.Batch{Columns: []value.Column{value.NewColumn(column.Type)}}
	for _, t := range texts {
		if value.Parse(&keys.Columns[0], column.Type, []byte(t)) != nil {
			continue // it is no such value, so it isn't there
		}
	}
	return has, c.db.Probe(c.ctx, p.table, []string{p.column}, keys, []string{p.column}, take)
}

// forget drops what was asked for of a large table, where that has become much.
func (c *catalogue) forget(p place) {
	if len(c.asked[p]) > readRows {
		delete(c.asked, p)
	}
}

// byValue returns how likely the values of a column are keys of a place, by how many of them it has: few values that
// are all there say less than many.
func (c *catalogue) byValue(q question) (guess, error) {
	const least = 0.5
	few := min(len(q.from.texts), fewTexts)
	if few == 0 || q.table.Odd != "" || q.table.Column(q.column).Odd != "" {
		return guess{}, nil
	}
	n, err := c.shared(q)
	if err != nil || n == 0 || float64(n)/float64(few) < 0.3 {
		return guess{}, err
	}
	of := fmt.Sprintf("%d of %d", n, few)
	if few < len(q.from.texts) {
		of = fmt.Sprintf("%d of the first %d", n, few)
	}
	why := fmt.Sprintf("%s distinct values are in %s.%s", of, q.table.Name, q.column)
	there, err := c.shared(question{q.place, q.from, false})
	switch {
	case err != nil:
		return guess{}, err
	case there == 0:
		why = fmt.Sprintf("%s distinct values come into %s.%s with the files", of, q.table.Name, q.column)
	case there < n:
		why += " or come into it with the files"
	}
	return guess{least + (valuesAlone-least)*float64(n)/float64(few+1), why}, nil
}

// respelt returns the texts of a file that a column of a table has in another spelling, one that the database holds to
// be another text, with that spelling.
func (c *catalogue) respelt(p place, texts []string) (map[string]string, error) {
	all := map[string]string{}
	of := p.table.Column(p.column)
	for _, t := range texts {
		there, has := c.there[p][source.FoldName(t)]
		if !has || there == strings.TrimSpace(t) || of.Type.Kind != value.Text {
			continue
		}
		both := value.NewColumn(of.Type)
		both.AppendBytes([]byte(strings.TrimSpace(t)))
		both.AppendBytes([]byte(there))
		folded, err := c.db.Fold(c.ctx, of, &both)
		if err != nil {
			return nil, err
		}
		if !folded.Same(0, folded, 1) {
			all[t] = there
		}
	}
	return all, nil
}

// like returns the value of a column that looks like a text which it doesn't have; "" when there is none.
func (c *catalogue) like(p place, name string) (like string) {
	if len(c.there[p]) > readNames {
		return ""
	}
	near := text.NewNear()
	near.Add(name)
	for _, there := range c.there[p] {
		near.Each(there, func(int) bool {
			if like == "" || there < like {
				like = there
			}
			return true
		})
	}
	return like
}
