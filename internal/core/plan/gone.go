package plan

import (
	"errors"
	"fmt"
	"slices"

	"ladle/internal/core/fault"
	"ladle/internal/core/formula"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
)

// judgeGone refuses removals, and marks, of what could be the rows of another block.
func (r *resolver) judgeGone(steps []*Step) {
	for _, s := range steps {
		if s.Block.Gone == nil || s.Block.Gone.Where.Given() {
			continue
		}
		does := "remove"
		if s.Policy.Gone.Does == MarkGone {
			does = "mark"
		}
		for _, o := range steps {
			if o != s && o.Table == s.Table {
				r.problem(s.Block.Gone.Place, fmt.Sprintf("gone_from_file: in block %s would also %s rows of "+
					"block %s", s.Name, does, o.Name),
					"add where_sql: with the SQL condition for this block's rows, for example where_sql: kind = 'tug'")
			}
		}
	}
}

// marks resolves what rows are given that are gone from the input of a step, or there again.
func (r *resolver) marks(s *Step) {
	gone, said := s.Policy.Gone, s.Block.Gone
	if said.Mark == nil {
		return
	}
	gone.Does, gone.Mark, gone.Back = MarkGone, r.markAll(s, said.Mark), r.markAll(s, said.Back)
	back := MarkNames(gone.Back)
	for _, m := range said.Mark {
		at := slices.Index(s.Names(), m.Column.Value)
		updated := at >= 0 && s.OnUpdate(at) == ladlefile.UpdateThere
		if at >= 0 {
			s.Columns[at].NewOnly = !updated
		}
		switch missing := !slices.Contains(back, m.Column.Value); {
		case at >= 0 && s.OnUpdate(at) == ladlefile.FillBlanksThere:
			r.problem(m.Column.Place, fmt.Sprintf("mark: and fill_blanks both change %s", m.Column.Value),
				"write on_update: keep behind the source of the column")
		case missing && !updated:
			r.problem(said.Place, fmt.Sprintf("mark_back: doesn't say what %s becomes when the file has a marked row "+
				"again", m.Column.Value), fmt.Sprintf("add it, for example mark_back: {%s: VALUE}, or null for NULL",
				m.Column.Value))
		case updated && !missing:
			r.problem(said.Place, fmt.Sprintf("mark_back: and the file both say what %s becomes", m.Column.Value),
				fmt.Sprintf("delete %s in mark_back:", m.Column.Value))
		}
	}
	for _, m := range said.Back {
		if !slices.ContainsFunc(said.Mark, func(marked ladlefile.Mark) bool {
			return marked.Column.Value == m.Column.Value
		}) {
			r.problem(m.Column.Place, fmt.Sprintf("mark_back: names %q, which mark: doesn't", m.Column.Value),
				"name columns of mark:")
		}
	}
}

func (r *resolver) markAll(s *Step, said []ladlefile.Mark) (all []Mark) {
	for _, m := range said {
		switch column := r.column(s.Table, m.Column); {
		case column == nil:
		case slices.Contains(s.KeyNames(), column.Name) || column.Identity:
			r.problem(m.Column.Place, fmt.Sprintf("mark: can't change %s: rows are recognised by it", column.Name),
				"mark rows in another column")
		default:
			if made := r.mark(column, m); made.Constant != nil || made.Formula != nil {
				all = append(all, made)
			}
		}
	}
	return all
}

// mark resolves what rows are given in a column.
func (r *resolver) mark(c *schema.Column, said ladlefile.Mark) Mark {
	m := Mark{Column: c}
	if !said.Formula.Given() {
		m.Constant = r.constant(c, said.Value)
		if c.Required && said.Value.Value == "" {
			r.problem(said.Value.Place, fmt.Sprintf("%s is NOT NULL", c.Name), "write a value")
		}
		return m
	}
	made, err := formula.Compile(said.Formula.Value, nil)
	if err != nil {
		var wrong fault.InvalidValue
		if !errors.As(err, &wrong) {
			wrong.What = err.Error()
		}
		r.problem(said.Formula.Place, c.Name+" "+wrong.What, wrong.Do)
		return m
	}
	for _, p := range []formula.Provenance{formula.FileName, formula.SheetName, formula.TableName, formula.LineNumber} {
		if made.Asks(p) {
			r.problem(said.Formula.Place, fmt.Sprintf("%q asks for the place of a line, and a row that is gone has none",
				said.Formula.Value), "use today() or loaded_by()")
			return m
		}
	}
	m.Formula = made
	return m
}

// judgeMarks refuses marks in columns that other parts of the plan change, or find rows by: what these do would depend
// on whether it is done before or after marking.
func (r *resolver) judgeMarks(steps []*Step) {
	for _, s := range steps {
		if s.Block.Gone == nil {
			continue
		}
		for _, m := range s.Block.Gone.Mark {
			for _, o := range steps {
				if o != s && o.Table == s.Table && slices.Contains(o.WrittenNames(), m.Column.Value) {
					r.problem(m.Column.Place, fmt.Sprintf("mark: and block %s both change %s.%s", o.Name, s.Table.Name,
						m.Column.Value), "mark rows in another column, or load block "+o.Name+" with a ladle file of its own")
				}
				o.Lookups(func(l *Lookup) {
					if l.Table == s.Table && slices.Contains(l.Names(), m.Column.Value) {
						r.problem(m.Column.Place, fmt.Sprintf("mark: changes %s.%s, by which a lookup in block %s finds rows",
							s.Table.Name, m.Column.Value, o.Name),
							"look rows up by other columns, or load block "+o.Name+" with a ladle file of its own")
					}
				})
			}
		}
	}
}
