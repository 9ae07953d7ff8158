package look

import (
	"context"

	"ladle/internal/core/draft"
	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// Comparison is the columns of a file beside those of a table.
type Comparison struct {
	File  string `json:"file"`
	Table string `json:"table"`
	Pairs []Pair `json:"pairs"` // those that belong together, then what is left of the file, then of the table
}

// Pair is a column of a file and the one of the table that it would feed. One of the two is missing where nothing
// belongs to the other.
type Pair struct {
	From     string   `json:"from,omitempty"`
	Longest  int      `json:"longest,omitempty"` // characters, of all cells of the file
	Samples  []string `json:"samples"`
	Column   string   `json:"column,omitempty"`
	Type     string   `json:"type,omitempty"`   // as the database declares it
	Length   int      `json:"length,omitempty"` // characters that the column takes; 0 for no bound
	Required bool     `json:"required"`
	Lookup   string   `json:"lookup,omitempty"` // the table in which a row is looked up
	Doubt    bool     `json:"uncertain"`
}

// TooLong reports whether a value of the file is longer than the column takes.
func (p Pair) TooLong() bool { return p.Length > 0 && p.Longest > p.Length && p.Lookup == "" }

// Beside puts the columns of a file beside those of a table, by their names and values.
func Beside(ctx context.Context, f draft.File, s *schema.Schema, t *schema.Table, db engine.Reader) (*Comparison,
	error) {
	d, err := draft.Make(ctx, []draft.File{f}, s, db, t.Name)
	if err != nil {
		return nil, err
	}
	c := &Comparison{File: f.Survey.Read.Name(), Table: t.Name, Pairs: []Pair{}}
	used, fed := map[string]bool{}, map[string]bool{}
	for _, m := range d.Matches {
		if m.Table != t.Name {
			continue
		}
		p := Pair{Lookup: m.Lookup, Doubt: m.Doubt}
		of(t, m.Column, &p)
		fed[m.Column] = true
		for i, from := range m.From {
			if used[from] = true; i == 0 {
				ofFile(f, from, &p)
			}
		}
		c.Pairs = append(c.Pairs, p)
	}
	for _, column := range f.Survey.Columns {
		if !used[column.Name] {
			p := Pair{}
			ofFile(f, column.Name, &p)
			c.Pairs = append(c.Pairs, p)
		}
	}
	for _, column := range t.Columns {
		if !fed[column.Name] {
			p := Pair{Samples: []string{}}
			of(t, column.Name, &p)
			c.Pairs = append(c.Pairs, p)
		}
	}
	return c, nil
}

// of takes what a table says of a column.
func of(t *schema.Table, name string, p *Pair) {
	c := t.Column(name)
	p.Column, p.Type, p.Required = c.Name, c.Declared, c.Required
	if c.Type.Kind == value.Text {
		p.Length = c.Type.Length
	}
}

// ofFile takes what a file says of a column.
func ofFile(f draft.File, name string, p *Pair) {
	const samples = 2
	for i, c := range f.Survey.Columns {
		if c.Name == name {
			texts := f.Survey.Distinct(i)
			p.From, p.Longest, p.Samples = name, c.Longest, append([]string{}, texts[:min(samples, len(texts))]...)
			return
		}
	}
}
