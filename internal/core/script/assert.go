package script

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
)

// counts are guards for the number of rows of tables.
func (s *Script) counts(rows map[*schema.Table]int64, says string) (all []engine.Guard) {
	for _, t := range s.written() {
		all = append(all, engine.Guard{Unless: fmt.Sprintf("(SELECT COUNT(*) FROM %s) <> %d", s.Dialect.Table(t), rows[t]),
			Says: t.Name + " " + fmt.Sprintf(says, reason.Plural(rows[t], "row"))})
	}
	return all
}

// assertions are what must hold before the commit: that no more breaks it than in the rehearsal, or than before.
func (s *Script) assertions(ctx context.Context) ([]engine.Guard, error) {
	after := map[*schema.Table]int64{}
	for _, t := range s.written() {
		n, err := count(ctx, s.Tx, t)
		if err != nil {
			return nil, err
		}
		if s.Unrehearsed {
			n = s.before[t] + s.grows(t)
		}
		after[t] = n
	}
	all := s.counts(after, "would not have the expected %s; nothing was changed")
	for _, add := range []func(context.Context) ([]engine.Guard, error){s.orphans, s.duplicates, s.claims} {
		guards, err := add(ctx)
		if err != nil {
			return nil, err
		}
		all = append(all, guards...)
	}
	return all, nil
}

// orphans are guards for the relations that the database itself doesn't see to.
func (s *Script) orphans(ctx context.Context) (all []engine.Guard, err error) {
	seen := map[string]bool{}
	for _, step := range s.judgement.Steps {
		for _, r := range append(step.Table.Declared(), step.Undeclared()...) {
			name := fmt.Sprintf("%s.%s", step.Table.Name, strings.Join(r.Columns, ", "))
			if seen[name] || s.Dialect.Enforces() && r.Enforced() {
				continue
			}
			seen[name] = true
			n, err := s.Tx.Orphans(ctx, step.Table, r)
			if err != nil {
				return nil, err
			}
			all = append(all, engine.Guard{Unless: fmt.Sprintf("(%s) %s %d", s.orphanCount(step.Table, r), s.worse(), n),
				Says: fmt.Sprintf("%s would refer to rows of %s that don't exist; nothing was changed", name, r.Parent)})
		}
	}
	return all, nil
}

// orphanCount is a query for the number of rows that refer to nothing.
func (s *Script) orphanCount(t *schema.Table, r schema.Relation) string {
	d, own, other := s.Dialect, s.Dialect.Table(t), s.Dialect.Other(r.ParentTable)
	var given, same []string
	for i, c := range r.Columns {
		given = append(given, own+"."+d.Column(c)+" IS NOT NULL")
		same = append(same, fmt.Sprintf("%s.%s = %s.%s", other, d.Column(r.ParentColumns[i]), own, d.Column(c)))
	}
	return fmt.Sprintf("SELECT COUNT(*) FROM %s WHERE %s AND NOT EXISTS (SELECT 1 FROM %s %s WHERE %s)", own,
		strings.Join(given, " AND "), d.Table(r.ParentTable), other, strings.Join(same, " AND "))
}

// duplicates is a query for the number of keys of a step that several rows have; "" where the database sees to that, or
// the step has no key.
func duplicates(s *plan.Step, d engine.Dialect) string {
	key := s.KeyNames()
	if len(key) == 0 || s.Table.UniqueOn(key) {
		return ""
	}
	var names, given []string
	for _, k := range key {
		names = append(names, d.Column(k))
		given = append(given, d.Column(k)+" IS NOT NULL")
	}
	return fmt.Sprintf("SELECT COUNT(*) FROM (SELECT COUNT(*) AS n FROM %s WHERE %s GROUP BY %s HAVING COUNT(*) > 1) d",
		d.Table(s.Table), strings.Join(given, " AND "), strings.Join(names, ", "))
}

func (s *Script) duplicates(ctx context.Context) (all []engine.Guard, err error) {
	for _, step := range s.judgement.Steps {
		q := duplicates(step.Step, s.Dialect)
		if q == "" || step.First != nil {
			continue
		}
		rows, err := s.ask(ctx, q)
		if err != nil {
			return nil, err
		}
		all = append(all, engine.Guard{Unless: fmt.Sprintf("(%s) %s %s", q, s.worse(), *rows[0][0]),
			Says: fmt.Sprintf("%s would have duplicates of %s; nothing was changed", step.Table.Name,
				strings.Join(step.KeyNames(), ", "))})
	}
	return all, nil
}

// mostAsked is the number of rows up to which it matters what the answer to a query is like.
const mostAsked = 2

func (s *Script) ask(ctx context.Context, query string) (rows [][]*string, err error) {
	err = s.Tx.Ask(ctx, query, engine.OnlyRows(func(_ []string, row [][]byte) error {
		if len(rows) < mostAsked {
			rows = append(rows, engine.Texts(row))
		}
		return nil
	}))
	return rows, err
}

// claims are guards for the checks of the ladle file.
func (s *Script) claims(ctx context.Context) (all []engine.Guard, err error) {
	for _, c := range s.Claims {
		says := "check failed: " + c.Says
		switch {
		case c.NoRows != "":
			all = append(all, engine.Guard{Unless: "EXISTS (" + query(c.NoRows) + ")", Says: says})
		case c.HowMany != "":
			rows := "(SELECT COUNT(*) FROM (" + query(c.HowMany) + ") q)"
			bound := rows + " < " + strconv.FormatInt(c.Least, 10)
			if c.Most >= 0 {
				bound += " OR " + rows + " > " + strconv.FormatInt(c.Most, 10)
			}
			all = append(all, engine.Guard{Unless: bound, Says: says})
		default:
			unless, err := s.differ(ctx, c.Equal)
			if err != nil {
				return nil, err
			}
			all = append(all, engine.Guard{Unless: unless, Says: says})
		}
	}
	return all, nil
}

// query is a person's query inside of brackets: without a semicolon at its end, and with a line end behind it, since it
// may end with a comment.
func query(text string) string {
	return strings.TrimRight(strings.TrimSpace(text), "; \t\n") + "\n"
}

// differ is the condition that two sides don't come to the same.
func (s *Script) differ(ctx context.Context, sides [2]check.Side) (string, error) {
	var queries, values [2]string
	single := true
	for i, side := range sides {
		if side.Query == "" {
			values[i] = side.Total
			if !isNumber(side.Total) {
				values[i] = s.Dialect.Text(side.Total)
			}
			continue
		}
		rows, err := s.ask(ctx, side.Query)
		if err != nil {
			return "", err
		}
		queries[i] = query(side.Query)
		if single = single && len(rows) == 1 && len(rows[0]) == 1; single {
			values[i] = cell(queries[i], rows[0][0])
		}
	}
	if single { // what is NULL against all expectation differs
		return fmt.Sprintf("CASE WHEN %s = %s THEN 0 ELSE 1 END = 1", values[0], values[1]), nil
	}
	count, except := "(SELECT COUNT(*) FROM (%s) q)", "EXISTS (SELECT * FROM (%s) q EXCEPT SELECT * FROM (%s) r)"
	return fmt.Sprintf(count+" <> "+count+" OR "+except+" OR "+except, queries[0], queries[1], queries[0], queries[1],
		queries[1], queries[0]), nil
}

// cell is the only cell of the answer to a query, which was answer in the rehearsal: the sum of no rows, which is NULL,
// is 0.
func cell(query string, answer *string) string {
	if answer == nil || isNumber(*answer) {
		return "COALESCE((" + query + "), 0)"
	}
	return "(" + query + ")"
}

func isNumber(text string) bool {
	_, err := strconv.ParseFloat(text, 64)
	return err == nil
}
