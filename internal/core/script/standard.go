package script

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
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
// can't stop a script, so that it ends with queries, each with the answer that it must give, and a person commits.
type Standard struct {
	Options
	engine.Reader // the tables without rows
	judgement     *judge.Judgement

	out    *bufio.Writer
	refs   map[place]*schema.Table
	named  map[*schema.Table]map[int64]string // new rows by their numbers: the condition that finds them
	next   map[*schema.Table]int64
	part   write.Part
	titled write.Part
}

// NewStandard begins a script of a judgement of a plan that was loosened.
func NewStandard(r engine.Reader, j *judge.Judgement, o Options) *Standard {
	s := &Standard{Options: o, Reader: r, judgement: j, refs: map[place]*schema.Table{},
		named: map[*schema.Table]map[int64]string{}, next: map[*schema.Table]int64{}}
	var relate func(t *schema.Table, all []plan.Assignment)
	relate = func(t *schema.Table, all []plan.Assignment) {
		for _, a := range all {
			l := a.Source.Lookup
			if l == nil {
				continue
			}
			s.refs[place{t, a.Column.Name}] = l.Table
			if l.Makers == nil {
				relate(l.Table, l.By)
			}
		}
	}
	for _, step := range j.Steps {
		relate(step.Table, step.Columns)
	}
	return s
}

// Write writes the script; adds are the lookups that add what they don't find, as AllAdd gave them.
func (s *Standard) Write(ctx context.Context, out io.Writer, adds map[string]bool) error {
	s.out = bufio.NewWriterSize(out, 1<<16)
	head(s.out, &s.Options)
	say(s.out, "It is in standard SQL (ISO/IEC 9075:2016). Run it with a client that stops at the first error. It was judged without")
	say(s.out, "the rows that are there: look at the answers of its queries, and COMMIT, or ROLLBACK where one is wrong.")
	put(s.out, "START TRANSACTION")
	tx := &standardTx{s, adds}
	w := &write.Writer{Judgement: s.judgement, Tx: tx, Rejected: &judge.Rejections{}, Next: func(p write.Part) { s.part = p }}
	if _, err := w.Write(ctx); err != nil {
		return err
	}
	s.ends()
	return s.out.Flush()
}

var regular = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// name is an identifier, in quotes where it needs them.
func (s *Standard) name(n string) string {
	if regular.MatchString(n) && !propose.Reserved(n) {
		return n
	}
	return `"` + strings.ReplaceAll(n, `"`, `""`) + `"`
}

func (s *Standard) names(all []string) string {
	quoted := make([]string, len(all))
	for i, n := range all {
		quoted[i] = s.name(n)
	}
	return strings.Join(quoted, ", ")
}

// literal is a value of a column, or the subquery that finds the row to which it refers.
func (s *Standard) literal(t *schema.Table, column string, c *value.Column, i int) string {
	kind := engine.Types(t, []string{column})[0]
	if c.States[i] != value.Given {
		return "CAST(NULL AS " + t.Column(column).Declared + ")"
	}
	if p := s.refs[place{t, column}]; p != nil {
		return fmt.Sprintf("(SELECT %s FROM %s WHERE %s)", s.name(p.Locator), s.name(p.Name), s.named[p][c.Nums[i]])
	}
	text := string(c.AppendText(nil, i))
	switch kind.Kind {
	case value.Text:
		return standardText(string(c.Bytes(i)))
	case value.Bytes:
		return "X'" + hex.EncodeToString(c.Bytes(i)) + "'"
	case value.Bool:
		return map[bool]string{true: "TRUE", false: "FALSE"}[c.True(i)]
	case value.Date:
		return "DATE '" + text + "'"
	case value.Time:
		return "TIME '" + text + "'"
	case value.DateTime:
		if kind.Zoned {
			text += "+00:00"
		}
		return "TIMESTAMP '" + text + "'"
	}
	return text
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

// condition finds a row by columns.
func (s *Standard) condition(t *schema.Table, names []string, columns []value.Column, i int) string {
	all := make([]string, len(names))
	for k, n := range names {
		all[k] = s.name(n) + " = " + s.literal(t, n, &columns[k], i)
		if columns[k].States[i] != value.Given {
			all[k] = s.name(n) + " IS NULL"
		}
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

// standardTx is what a writer takes for a transaction.
type standardTx struct {
	*Standard
	adds map[string]bool
}

func (x *standardTx) Reserve(_ context.Context, t *schema.Table, n, _ int64) ([]engine.Span, error) {
	first := x.next[t] + 1
	x.next[t] += n
	return []engine.Span{{First: first, Count: n}}, nil
}

func (x *standardTx) know(t *schema.Table, id int64, condition string) {
	if x.named[t] == nil {
		x.named[t] = map[int64]string{}
	}
	x.named[t][id] = condition
}

func (x *standardTx) Insert(_ context.Context, t *schema.Table, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	if x.part.Growth != nil {
		x.growth(t, columns[1:], rows)
		return nil, nil
	}
	step := x.part.Step
	located := step.Locates()
	sent := rows.Columns
	if located {
		columns, sent = columns[1:], sent[1:]
	}
	key := step.KeyNames()
	keys := (&value.Batch{Columns: sent}).Pick(columns, key).Columns
	x.title()
	for i := range rows.Len() {
		if len(key) > 0 && located {
			x.know(t, rows.Columns[0].Nums[i], x.condition(t, key, keys, i))
		}
		if i%mostRows == 0 {
			if err := x.fromLines(i, min(i+mostRows, rows.Len())-1); err != nil {
				return nil, err
			}
		}
		x.row(step, t, columns, sent, keys, i)
	}
	return nil, nil
}

func (x *standardTx) fromLines(first, last int) error {
	text, err := linesOf(x.Place, x.part, first, last)
	if err == nil {
		say(x.out, "%s", text)
	}
	return err
}

// row updates the row with the key of a line, where the step does that, and adds it where there is none.
func (x *standardTx) row(step *judge.Step, t *schema.Table, columns []string, sent, keys []value.Column, i int) {
	values := make([]string, len(columns))
	for c := range columns {
		values[c] = x.literal(t, columns[c], &sent[c], i)
	}
	key := step.KeyNames()
	if len(key) == 0 {
		put(x.out, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", x.name(t.Name), x.names(columns), strings.Join(values, ", ")))
		return
	}
	condition := x.condition(t, key, keys, i)
	var set []string
	for c, name := range columns {
		blank := sent[c].States[i] != value.Given
		does := ladlefile.AlreadyThere("")
		if at := slices.Index(step.Names(), name); slices.Contains(step.Targets(), at) {
			does = step.OnUpdate(at)
		}
		switch {
		case blank && step.Policy.Blank == ladlefile.KeepBlank:
		case does == ladlefile.UpdateThere:
			set = append(set, x.name(name)+" = "+values[c])
		case does == ladlefile.FillBlanksThere:
			set = append(set, fmt.Sprintf("%s = COALESCE(%s, %s)", x.name(name), x.name(name), values[c]))
		}
	}
	if set != nil {
		put(x.out, fmt.Sprintf("UPDATE %s SET %s WHERE %s", x.name(t.Name), strings.Join(set, ", "), condition))
	}
	x.unlessThere(t, columns, values, condition)
}

func (x *standardTx) unlessThere(t *schema.Table, columns, values []string, condition string) {
	put(x.out, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (VALUES (1)) AS one (n) WHERE NOT EXISTS (SELECT 1 FROM %s WHERE %s)",
		x.name(t.Name), x.names(columns), strings.Join(values, ", "), x.name(t.Name), condition))
}

// growth names rows of a lookup table, and adds them where the lookup does.
func (x *standardTx) growth(t *schema.Table, columns []string, rows *value.Batch) {
	names := rows.Columns[1:]
	add := x.adds[indexed(t, columns)]
	if add {
		x.title()
	}
	var sought []string
	for i := range rows.Len() {
		condition := x.condition(t, columns, names, i)
		x.know(t, rows.Columns[0].Nums[i], condition)
		if !add {
			sought = append(sought, condition)
			continue
		}
		values := make([]string, len(columns))
		for c := range columns {
			values[c] = x.literal(t, columns[c], &names[c], i)
		}
		x.unlessThere(t, columns, values, condition)
	}
	if add {
		return
	}
	fmt.Fprintln(x.out)
	for part := range slices.Chunk(sought, mostRows) {
		x.ask(fmt.Sprintf("SELECT COUNT(*) FROM %s WHERE %s", x.name(t.Name), strings.Join(part, " OR ")),
			"%d: %s has what lookups by %s need", len(part), t.Name, strings.Join(columns, ", "))
	}
}

func (x *standardTx) Update(_ context.Context, t *schema.Table, by, columns []string,
	rows *value.Batch) ([]engine.Rejection, error) {
	x.title()
	for i := range rows.Len() {
		condition := x.condition(t, by, rows.Columns[:len(by)], i)
		if len(by) == 1 && by[0] == t.Locator {
			condition = x.named[t][rows.Columns[0].Nums[i]]
		}
		set := make([]string, len(columns))
		for c, name := range columns {
			is := x.literal(t, name, &rows.Columns[len(by)+c], i)
			if step := x.part.Step; step.OnUpdate(slices.Index(step.Names(), name)) != ladlefile.UpdateThere {
				is = fmt.Sprintf("COALESCE(%s, %s)", x.name(name), is)
			}
			set[c] = x.name(name) + " = " + is
		}
		put(x.out, fmt.Sprintf("UPDATE %s SET %s WHERE %s", x.name(t.Name), strings.Join(set, ", "), condition))
	}
	return nil, nil
}

// errStandard is for what a plan that was loosened doesn't do.
var errStandard = errors.New("standard SQL is written for rows that are added")

func (x *standardTx) Remove(context.Context, *schema.Table, []string, *value.Batch) (int64, error) {
	return 0, errStandard
}

func (x *standardTx) ReadBack(context.Context, *schema.Table, []string, *value.Batch, []string, *value.Batch) error {
	return errStandard
}

func (x *standardTx) Commit(context.Context) error { return nil }

func (x *standardTx) Rollback() error { return nil }

// ask writes a query behind the answer that it must give.
func (s *Standard) ask(query, format string, parts ...any) {
	say(s.out, format, parts...)
	put(s.out, query)
}

// ends writes the queries that come last.
func (s *Standard) ends() {
	fmt.Fprintln(s.out)
	say(s.out, "Queries, each with the answer that it must give. COMMIT where all gave it, else ROLLBACK.")
	for _, step := range s.judgement.Steps {
		if step.First != nil {
			continue
		}
		if key := step.KeyNames(); len(key) > 0 {
			s.ask(fmt.Sprintf("SELECT COUNT(*) FROM (SELECT %s FROM %s GROUP BY %s HAVING COUNT(*) > 1) AS twice", s.names(key),
				s.name(step.Table.Name), s.names(key)), "0: no rows of %s have the same %s", step.Table.Name, strings.Join(key, ", "))
		}
		for _, r := range append(step.Table.Declared(), step.Undeclared()...) {
			var given, same []string
			for i, c := range r.Columns {
				given = append(given, "child."+s.name(c)+" IS NOT NULL")
				same = append(same, "parent."+s.name(r.ParentColumns[i])+" = child."+s.name(c))
			}
			s.ask(fmt.Sprintf("SELECT COUNT(*) FROM %s AS child WHERE %s AND NOT EXISTS (SELECT 1 FROM %s AS parent WHERE %s)",
				s.name(step.Table.Name), strings.Join(given, " AND "), s.name(r.Parent), strings.Join(same, " AND ")),
				"0: each row of %s finds the row of %s that it refers to", step.Table.Name, r.Parent)
		}
	}
	for _, c := range s.Claims {
		s.claim(c)
	}
}

func (s *Standard) claim(c check.Claim) {
	switch {
	case c.NoRows != "":
		s.ask(strings.TrimSpace(query(c.NoRows)), "no rows: %s", c.Says)
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
				s.ask(strings.TrimSpace(query(side.Query)), "%s: %s", other.Total, c.Says)
				continue
			}
			s.ask(strings.TrimSpace(query(side.Query)), "the same as the other side: %s", c.Says)
		}
	}
}
