package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// assign resolves one column of a block or of a lookup. A problem leaves parts of it empty.
func (r *resolver) assign(feed *Feed, t *schema.Table, c ladlefile.Column) Assignment {
	column := r.column(t, c.Name)
	if column == nil {
		return Assignment{}
	}
	a := Assignment{Column: column, OnUpdate: c.Source.OnUpdate, StoreAs: c.Source.StoreAs}
	switch s := c.Source; {
	case s.Lookup != nil:
		a.Source.Lookup = r.lookup(feed, t, column, s.Lookup)
	case s.Constant.Given():
		a.Source.Constant = r.constant(column, s.Constant)
	default:
		a.Source = r.cell(feed, column.Type, s.From)
	}
	return a
}

// column finds a column that can be written. It is nil, and told, when there is none.
func (r *resolver) column(t *schema.Table, name ladlefile.Text) *schema.Column {
	column := t.Column(name.Value)
	switch {
	case column == nil:
		r.problem(name.Place, fmt.Sprintf("table %s has no column %q", t.Name, name.Value),
			fault.DidYouMean(name.Value, t.Names()))
	case column.Generated:
		r.problem(name.Place, fmt.Sprintf("%s.%s is computed by the database", t.Name, column.Name), "delete it here")
	case column.Odd != "":
		r.problem(name.Place, fmt.Sprintf("%s.%s can't be used: %s", t.Name, column.Name, column.Odd),
			"correct those rows first, or declare the column as text")
	default:
		return column
	}
	return nil
}

// existing makes a lookup of a foreign key that the file fills with values of the parent's own key, so that a value
// that isn't there sets its line aside, on all databases and before anything is written. Where tables refer to each
// other, the database, or the check of relations, sees to it.
func (r *resolver) existing(s *Step, a Assignment) Assignment {
	if a.Column == nil || a.Source.Lookup != nil || a.Source.Constant != nil || len(r.problems) > 0 {
		return a
	}
	relation := s.Table.Relation(a.Column.Name)
	if relation == nil || relation.ParentTable == nil || relation.ParentTable.Odd != "" ||
		refers(relation.ParentTable, s.Table, map[*schema.Table]bool{}) {
		return a
	}
	yields := relation.ParentTable.Column(relation.ParentColumns[0])
	if yields == nil || yields.Odd != "" || yields.Type.Kind != a.Column.Type.Kind {
		return a
	}
	found := Assignment{Column: yields, Source: a.Source}
	a.Source = Source{Lookup: &Lookup{Table: relation.ParentTable, By: []Assignment{found}, Yields: yields,
		NotFound: ladlefile.SetAsideNotFound, Several: ladlefile.SetAsideSeveral, Implied: true}}
	return a
}

// refers reports whether rows of a table refer to those of another, perhaps through others.
func refers(from, to *schema.Table, seen map[*schema.Table]bool) bool {
	if from == to {
		return true
	}
	seen[from] = true
	return slices.ContainsFunc(from.Declared(), func(r schema.Relation) bool {
		return !seen[r.ParentTable] && refers(r.ParentTable, to, seen)
	})
}

func (r *resolver) constant(c *schema.Column, t ladlefile.Text) *value.Column {
	column := value.NewColumn(c.Type)
	if err := value.Parse(&column, c.Type, []byte(t.Value)); err != nil {
		r.problem(t.Place, fmt.Sprintf("the constant %q %s", t.Value, err), "")
	}
	return &column
}

// cell uses a column of the input as values of t.
func (r *resolver) cell(feed *Feed, t value.Type, header ladlefile.Text) Source {
	fields := feed.Recipe.Find(header.Value)
	switch {
	case len(fields) == 0:
		do := fault.DidYouMean(header.Value, feed.Recipe.Names())
		if feed.Header.Line == 0 && !feed.Input.Asked.Header.None {
			do = "no header line was found in the file; set header: to its number, or name columns by their " +
				"position: column 1"
		}
		r.problem(header.Place, fmt.Sprintf("input %s (%s) has no column %q", feed.Input.Name.Value,
			feed.Input.Origin(), header.Value), do)
		return Source{}
	case len(fields) > 1:
		r.problem(header.Place, fmt.Sprintf("input %s (%s) has several columns %q: columns %s", feed.Input.Name.Value,
			feed.Input.Origin(), header.Value, positions(fields)),
			fmt.Sprintf("rename one of them, or write: column %d", fields[0]+1))
		return Source{}
	}
	feed.named = feed.named || feed.Recipe.InHeader(header.Value)
	return Source{Cell: feed.use(clean.Column{Of: fields[0], Type: t}), Header: feed.Recipe.Name(fields[0])}
}

// positions lists columns by their position, from 1.
func positions(fields []int) string {
	words := make([]string, len(fields))
	for i, f := range fields {
		words[i] = strconv.Itoa(f + 1)
	}
	return strings.Join(words, " and ")
}

// noUpdate refuses what a column says of rows that are there, where that has no effect.
func (r *resolver) noUpdate(c ladlefile.Column, why string) {
	if c.Source.OnUpdate != "" {
		r.problem(c.Source.Place, fmt.Sprintf("on_update: has no effect on %s: %s", c.Name.Value, why),
			"delete on_update:")
	}
}

// headers refuses inputs whose first line may be lost: nothing but a guess says that it is a header, and the ladle file
// uses none of its names.
func (r *resolver) headers() {
	for _, in := range r.inputs {
		f := r.feeds[in.Name.Value]
		if len(f.Columns) == 0 || f.Named() || f.Header.Line == 0 || in.Asked.Header.Given() {
			continue
		}
		r.problem(in.Name.Place, fmt.Sprintf("line %d of input %s (%s) is taken for its header, which is a guess: "+
			"the ladle file uses its columns by their position", f.Header.Line, in.Name.Value, in.Origin()),
			fmt.Sprintf("set header: %d if it is one, or header: none if it is a line like the others", f.Header.Line))
	}
}
