package script

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/plan"
	"ladle/internal/core/propose"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
	"ladle/internal/core/write"
)

// Standard is a load in standard SQL (ISO/IEC 9075:2016), for a server that nobody asks: the lines are judged against
// tables without rows, keys that are there are passed over by NOT EXISTS, and lookups are scalar subqueries. Standard SQL
// can't stop a script, so that it has queries, each below the answer that it must return, and a person commits. It is the
// transaction of a [write.Writer], which it hands nothing on to.
type Standard struct {
	Options
	engine.Reader // the tables without rows
	judgement     *judge.Judgement
	adds          Additions

	out    *bufio.Writer
	refs   map[place]*schema.Table
	named  map[*schema.Table]map[int64]string // rows to which others refer, by their numbers: the condition that finds them
	next   map[*schema.Table]int64            // the last number that was given
	part   write.Part
	titled write.Part
}

const dialect = propose.Standard

// NewStandard begins a script of a judgement of a plan that was loosened.
func NewStandard(r engine.Reader, j *judge.Judgement, adds Additions, o Options) *Standard {
	s := &Standard{Options: o, Reader: r, judgement: j, adds: adds, refs: map[place]*schema.Table{},
		named: map[*schema.Table]map[int64]string{}, next: map[*schema.Table]int64{}}
	eachSource(j.Steps, func(at place, l *plan.Lookup) {
		if l != nil {
			s.refs[at] = l.Table
			s.named[l.Table] = map[int64]string{}
		}
	})
	for _, step := range j.Steps {
		if step.First != nil {
			s.named[step.Table] = map[int64]string{}
		}
	}
	return s
}

// Write writes the script.
func (s *Standard) Write(ctx context.Context, out io.Writer) error {
	s.out = bufio.NewWriterSize(out, 1<<16)
	head(s.out, &s.Options)
	say(s.out, "It is in standard SQL (ISO/IEC 9075:2016). Run it with a client that stops at the first error. It was judged without")
	say(s.out, "the rows that are there: look at the answers of its queries, and COMMIT, or ROLLBACK where one is wrong.")
	put(s.out, "START TRANSACTION")
	w := &write.Writer{Judgement: s.judgement, Tx: s, Rejected: &judge.Rejections{}, Next: func(p write.Part) { s.part = p }}
	if _, err := w.Write(ctx); err != nil {
		return err
	}
	s.ends()
	return s.out.Flush()
}

// literal is a value of a column, or the subquery that finds the row to which it refers.
func (s *Standard) literal(t *schema.Table, column *schema.Column, c *value.Column, i int) string {
	if c.States[i] != value.Given {
		return "CAST(NULL AS " + column.Declared + ")"
	}
	if p := s.refs[place{t, column.Name}]; p != nil {
		return fmt.Sprintf("(SELECT %s FROM %s WHERE %s)", dialect.Name(p.Locator), dialect.Table(p.Name),
			s.named[p][c.Nums[i]])
	}
	switch column.Type.Kind {
	case value.Text:
		return standardText(string(c.Bytes(i)))
	case value.Bytes:
		return "X'" + hex.EncodeToString(c.Bytes(i)) + "'"
	case value.Bool:
		return map[bool]string{true: "TRUE", false: "FALSE"}[c.True(i)]
	}
	text := string(c.AppendText(nil, i))
	switch column.Type.Kind {
	case value.Date:
		return "DATE '" + text + "'"
	case value.Time:
		return "TIME '" + text + "'"
	case value.DateTime:
		if column.Type.Zoned {
			text += "+00:00"
		}
		return "TIMESTAMP '" + text + "'"
	}
	return text
}

// literals are the values of row i.
func (s *Standard) literals(t *schema.Table, names []string, columns []value.Column, i int) []string {
	all := make([]string, len(names))
	for c, name := range names {
		all[c] = s.literal(t, t.Column(name), &columns[c], i)
	}
	return all
}

// standardText is a literal on one line: control characters stand in it by their numbers (§5.3, Unicode character string
// literal).
func standardText(text string) string {
	if !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' }) {
		return engine.QuoteText(text)
	}
	var b strings.Builder
	b.WriteString("U&'")
	for _, r := range text {
		switch {
		case r == '\'':
			b.WriteString("''")
		case r == '\\':
			b.WriteString(`\\`)
		case r < ' ':
			fmt.Fprintf(&b, `\%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + "'"
}

// condition finds row i by columns.
func (s *Standard) condition(t *schema.Table, names []string, columns []value.Column, i int) string {
	all := s.literals(t, names, columns, i)
	for c, name := range names {
		if columns[c].States[i] != value.Given {
			all[c] = dialect.Name(name) + " IS NULL"
			continue
		}
		all[c] = dialect.Name(name) + " = " + all[c]
	}
	return strings.Join(all, " AND ")
}

// title says once what is done by which block.
func (s *Standard) title() {
	p := s.part
	p.Lines = nil
	if p.Step == s.titled.Step && p.Growth == s.titled.Growth && p.Does == s.titled.Does {
		return
	}
	s.titled = p
	fmt.Fprintln(s.out)
	if p.Step == nil {
		say(s.out, "Names for lookups in %s by %s", p.Growth.Table.Name, strings.Join(p.Growth.Columns, ", "))
		return
	}
	say(s.out, "%s: rows of the block %s", p.Step.Table.Name, p.Step.Name)
}

// Reserve numbers the rows of a table that are added.
func (s *Standard) Reserve(_ context.Context, t *schema.Table, n, _ int64) ([]engine.Span, error) {
	first := s.next[t] + 1
	s.next[t] += n
	return []engine.Span{{First: first, Count: n}}, nil
}

// know keeps how a row is found, where others refer to rows of its table.
func (s *Standard) know(t *schema.Table, id int64, condition string) {
	if s.named[t] != nil {
		s.named[t][id] = condition
	}
}

// Insert writes a statement for each row.
func (s *Standard) Insert(_ context.Context, t *schema.Table, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	if s.part.Growth != nil {
		s.growth(t, columns[1:], rows)
		return nil, nil
	}
	step := s.part.Step
	located := step.Locates()
	sent := rows.Columns
	if located {
		columns, sent = columns[1:], sent[1:]
	}
	key := step.KeyNames()
	keys, does := (&value.Batch{Columns: sent}).Pick(columns, key).Columns, onUpdate(step, columns)
	s.title()
	for i := range rows.Len() {
		if i%mostRows == 0 {
			from, err := linesOf(s.Place, s.part, i, min(i+mostRows, rows.Len())-1)
			if err != nil {
				return nil, err
			}
			say(s.out, "%s", from)
		}
		values := s.literals(t, columns, sent, i)
		if len(key) == 0 {
			put(s.out, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", dialect.Table(t.Name), dialect.Names(columns),
				strings.Join(values, ", ")))
			continue
		}
		condition := s.condition(t, key, keys, i)
		if located {
			s.know(t, rows.Columns[0].Nums[i], condition)
		}
		s.update(t, columns, values, does, condition, func(c int) bool {
			return sent[c].States[i] != value.Given && step.Policy.Blank == ladlefile.KeepBlank
		})
		s.unlessThere(t, columns, values, condition)
	}
	return nil, nil
}

// onUpdate is what a step does with each of the columns in a row that is there; "" for nothing.
func onUpdate(step *judge.Step, columns []string) []ladlefile.AlreadyThere {
	does, names, targets := make([]ladlefile.AlreadyThere, len(columns)), step.Names(), step.Targets()
	for c, name := range columns {
		if at := slices.Index(names, name); slices.Contains(targets, at) {
			does[c] = step.OnUpdate(at)
		}
	}
	return does
}

// update updates the row that is found by a condition, in the columns for which a step does that; keeps tells those in
// which a blank keeps what is there.
func (s *Standard) update(t *schema.Table, columns, values []string, does []ladlefile.AlreadyThere, condition string,
	keeps func(c int) bool) {
	var set []string
	for c := range columns {
		name := dialect.Name(columns[c])
		switch {
		case keeps(c):
		case does[c] == ladlefile.UpdateThere:
			set = append(set, name+" = "+values[c])
		case does[c] == ladlefile.FillBlanksThere:
			set = append(set, fmt.Sprintf("%s = COALESCE(%s, %s)", name, name, values[c]))
		}
	}
	if set != nil {
		put(s.out, fmt.Sprintf("UPDATE %s SET %s WHERE %s", dialect.Table(t.Name), strings.Join(set, ", "), condition))
	}
}

// unlessThere adds a row where none is found by a condition.
func (s *Standard) unlessThere(t *schema.Table, columns, values []string, condition string) {
	put(s.out, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (VALUES (1)) AS one (n) WHERE NOT EXISTS (SELECT 1 FROM %s "+
		"WHERE %s)", dialect.Table(t.Name), dialect.Names(columns), strings.Join(values, ", "), dialect.Table(t.Name),
		condition))
}

// growth names rows of a lookup table, and adds them where the lookup does.
func (s *Standard) growth(t *schema.Table, columns []string, rows *value.Batch) {
	names, adds := rows.Columns[1:], s.adds[indexed(t, columns)]
	s.title()
	var sought []string
	for i := range rows.Len() {
		condition := s.condition(t, columns, names, i)
		s.know(t, rows.Columns[0].Nums[i], condition)
		if adds {
			s.unlessThere(t, columns, s.literals(t, columns, names, i), condition)
			continue
		}
		sought = append(sought, condition)
	}
	for part := range slices.Chunk(sought, mostRows) {
		s.ask(fmt.Sprintf("SELECT COUNT(*) FROM %s WHERE %s", dialect.Table(t.Name), strings.Join(part, " OR ")),
			"%d: the rows that lookups by %s need are in %s", len(part), strings.Join(columns, ", "), t.Name)
	}
}

// Update completes rows, as second halves of steps do: what is there already is kept unless the step updates it.
func (s *Standard) Update(_ context.Context, t *schema.Table, by, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	s.title()
	does := onUpdate(s.part.Step, columns)
	for c := range does {
		if does[c] != ladlefile.UpdateThere {
			does[c] = ladlefile.FillBlanksThere
		}
	}
	for i := range rows.Len() {
		condition := s.named[t][rows.Columns[0].Nums[i]]
		if by[0] != t.Locator {
			condition = s.condition(t, by, rows.Columns[:len(by)], i)
		}
		s.update(t, columns, s.literals(t, columns, rows.Columns[len(by):], i), does, condition,
			func(int) bool { return false })
	}
	return nil, nil
}

// errStandard is for what a plan that was loosened doesn't do.
var errStandard = errors.New("standard SQL is written for rows that are added")

// Remove is not done.
func (s *Standard) Remove(context.Context, *schema.Table, []string, *value.Batch) (int64, error) {
	return 0, errStandard
}

// ReadBack is not done.
func (s *Standard) ReadBack(context.Context, *schema.Table, []string, *value.Batch, []string, *value.Batch) error {
	return errStandard
}

// Ahead has nothing to read.
func (s *Standard) Ahead(func(engine.Reader) error) (wait func() error) {
	return func() error { return errStandard }
}

// Commit has nothing to end.
func (s *Standard) Commit(context.Context) error { return nil }

// Rollback has nothing to take back.
func (s *Standard) Rollback() error { return nil }

// ask writes a query below the answer that it must return.
func (s *Standard) ask(query, format string, parts ...any) {
	say(s.out, format, parts...)
	put(s.out, query)
}

// ends writes the queries that come last.
func (s *Standard) ends() {
	fmt.Fprintln(s.out)
	say(s.out, "Queries, each below the answer that it must return. COMMIT where all return it, else ROLLBACK.")
	for _, step := range s.judgement.Steps {
		if step.First != nil {
			continue
		}
		if key := step.KeyNames(); len(key) > 0 {
			s.ask(fmt.Sprintf("SELECT COUNT(*) FROM (SELECT %s FROM %s GROUP BY %s HAVING COUNT(*) > 1) AS twice", dialect.Names(key),
				dialect.Table(step.Table.Name), dialect.Names(key)), "0: no duplicates in %s by %s", step.Table.Name, strings.Join(key, ", "))
		}
		for _, r := range append(step.Table.Declared(), step.Undeclared()...) {
			var given, same []string
			for i, c := range r.Columns {
				given = append(given, "child."+dialect.Name(c)+" IS NOT NULL")
				same = append(same, "parent."+dialect.Name(r.ParentColumns[i])+" = child."+dialect.Name(c))
			}
			s.ask(fmt.Sprintf("SELECT COUNT(*) FROM %s AS child WHERE %s AND NOT EXISTS (SELECT 1 FROM %s AS parent WHERE %s)",
				dialect.Table(step.Table.Name), strings.Join(given, " AND "), dialect.Table(r.Parent), strings.Join(same, " AND ")),
				"0: every foreign key of %s to %s finds its row", step.Table.Name, r.Parent)
		}
	}
	for _, c := range s.Claims {
		s.claim(c)
	}
}

func (s *Standard) claim(c check.Claim) {
	switch {
	case c.NoRows != "":
		s.ask(query(c.NoRows), "no rows: %s", c.Says)
	case c.HowMany != "":
		bounds := fmt.Sprintf("%d to %d", c.Least, c.Most)
		switch c.Most {
		case c.Least:
			bounds = fmt.Sprint(c.Least)
		case -1:
			bounds = fmt.Sprintf("%d or more", c.Least)
		}
		s.ask("SELECT COUNT(*) FROM ("+query(c.HowMany)+") AS answer", "%s: %s", bounds, c.Says)
	default:
		for i, side := range c.Equal {
			if side.Query == "" {
				continue
			}
			if other := c.Equal[1-i]; other.Query == "" {
				s.ask(query(side.Query), "%s: %s", other.Total, c.Says)
				continue
			}
			s.ask(query(side.Query), "the same as the other side: %s", c.Says)
		}
	}
}
