package check

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/value"
)

// Claim is what a ladle file says of the database once the load is done. Exactly one of NoRows, Equal and HowMany is given.
type Claim struct {
	Says    string
	NoRows  string  // a query that must give no row
	Equal   [2]Side // that must come to the same
	HowMany string  // a query
	Least   int64   // of its rows
	Most    int64   // of its rows; below zero for any number
}

// Side is one side of an equation: the answer to a query, or the total of an input.
type Side struct {
	Query string
	Total string // used when there is no query
	Of    string // what it is the total of, in words
}

func (s Side) given() bool { return s.Query != "" || s.Of != "" }

// Ask asks whether claims are true.
func Ask(ctx context.Context, db engine.Reader, claims []Claim) (results []Result, err error) {
	for _, c := range claims {
		r, err := c.hold(ctx, db)
		if err != nil {
			return nil, err
		}
		results = append(results, r)
	}
	return results, nil
}

// hold asks whether the claim is true.
func (c Claim) hold(ctx context.Context, db engine.Reader) (Result, error) {
	r := Result{Check: "claim", Claim: c.Says}
	var err error
	switch {
	case c.NoRows != "":
		err = c.noRows(ctx, db, &r)
	case c.Equal[0].given():
		err = c.equal(ctx, db, &r)
	default:
		err = c.howMany(ctx, db, &r)
	}
	if err != nil {
		p := fault.ProblemsOf(err)[0]
		p.What = fmt.Sprintf("the claim %q can't be asked: %s", c.Says, p.What)
		return r, fault.Because(fault.ClassOf(err), err, p)
	}
	r.Short = c.Says
	return r, nil
}

func (c Claim) noRows(ctx context.Context, db engine.Reader, r *Result) error {
	n := int64(0)
	err := db.Ask(ctx, c.NoRows, func(columns []string, row []*string) error {
		if n++; n <= mostProblems {
			r.Problems = append(r.Problems, answer(columns, row))
		}
		return nil
	})
	r.OK, r.Says = n == 0, "no row says otherwise"
	if n > 0 {
		r.Says = fmt.Sprintf("%d rows say otherwise", n)
	}
	return err
}

func (c Claim) howMany(ctx context.Context, db engine.Reader, r *Result) error {
	n := int64(0)
	err := db.Ask(ctx, c.HowMany, func([]string, []*string) error {
		n++
		return nil
	})
	r.OK = n >= c.Least && (c.Most < 0 || n <= c.Most)
	r.Says = fmt.Sprintf("%d rows", n)
	if !r.OK {
		r.Says += ", where " + c.bounds() + " are claimed"
	}
	return err
}

func (c Claim) bounds() string {
	switch {
	case c.Most < 0:
		return fmt.Sprintf("%d or more", c.Least)
	case c.Least == c.Most:
		return fmt.Sprint(c.Most)
	case c.Least == 0:
		return fmt.Sprintf("%d or fewer", c.Most)
	}
	return fmt.Sprintf("%d to %d", c.Least, c.Most)
}

// mostAnswers is the number of rows up to which the answers to two queries are compared.
const mostAnswers = 100_000

var errManyAnswers = errors.New("equal: compares at most 100000 rows, and more came; compare them in the database, by no_rows")

func (c Claim) equal(ctx context.Context, db engine.Reader, r *Result) error {
	left, err := c.Equal[0].rows(ctx, db)
	if err != nil {
		return err
	}
	right, err := c.Equal[1].rows(ctx, db)
	if err != nil {
		return err
	}
	r.OK = len(left) == len(right)
	if !r.OK {
		r.Problems = append(r.Problems, fmt.Sprintf("one side has %d rows, the other %d", len(left), len(right)))
	}
	for i := range min(len(left), len(right)) {
		if sameAnswer(left[i], right[i]) {
			continue
		}
		r.OK = false
		if len(r.Problems) < mostProblems {
			r.Problems = append(r.Problems, fmt.Sprintf("%s is %s, but %s is %s", c.Equal[0].words(), cells(left[i]), c.Equal[1].words(), cells(right[i])))
		}
	}
	if r.Says = "both sides differ"; r.OK {
		r.Says = "both sides are the same"
		if len(left) == 1 {
			r.Says = "both sides are " + cells(left[0])
		}
	}
	return nil
}

// words name a side in a message.
func (s Side) words() string {
	if s.Query == "" {
		return s.Of
	}
	return "the answer to: " + strings.Join(strings.Fields(s.Query), " ")
}

// rows gives the answer of a side.
func (s Side) rows(ctx context.Context, db engine.Reader) (rows [][]*string, err error) {
	if s.Query == "" {
		return [][]*string{{&s.Total}}, nil
	}
	err = db.Ask(ctx, s.Query, func(_ []string, row []*string) error {
		if rows = append(rows, row); len(rows) > mostAnswers {
			return errManyAnswers
		}
		return nil
	})
	return rows, err
}

func sameAnswer(a, b []*string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if !sameCell(a[i], b[i]) {
			return false
		}
	}
	return true
}

// sameCell tells whether two cells are the same: as numbers where both are, else letter by letter. The sum of no
// rows, which SQL gives as NULL, is 0.
func sameCell(a, b *string) bool {
	zero := "0"
	switch {
	case a == nil && b == nil:
		return true
	case a == nil:
		a = &zero
	case b == nil:
		b = &zero
	}
	if *a == *b {
		return true
	}
	x, errX := number(*a)
	y, errY := number(*b)
	return errX == nil && errY == nil && x.Cmp(y) == 0
}

func number(text string) (*apd.Decimal, error) {
	d, _, err := apd.NewFromString(text)
	if err == nil && d.Form != apd.Finite {
		err = errors.New("not a finite number")
	}
	return d, err
}

func cells(row []*string) string {
	words := make([]string, len(row))
	for i, c := range row {
		words[i] = "NULL"
		if c != nil {
			words[i] = *c
		}
	}
	return strings.Join(words, ", ")
}

// answer writes a row with the names of its columns.
func answer(columns []string, row []*string) string {
	words := make([]string, len(row))
	for i := range row {
		words[i] = columns[i] + " " + cells(row[i:i+1])
	}
	return strings.Join(words, ", ")
}

// Stated is a total that the sender of an input stated, and what was read.
type Stated struct {
	Input, Of  string // the column, or rows
	Says       string // what is stated, as it is written
	Want, Read string
	Unread     int64 // cells of the column that could not be read
}

// Result holds what was read against what was stated.
func (s Stated) Result() Result {
	r := Result{Check: "total", Claim: fmt.Sprintf("%s of %s: %s", s.Of, s.Input, s.Says), OK: sameCell(&s.Want, &s.Read),
		Says: "as stated", Short: fmt.Sprintf("%s %s %s", s.Input, s.Of, s.Read)}
	if !r.OK {
		r.Says = fmt.Sprintf("%s is stated, but %s was read", s.Want, s.Read)
		if s.Unread > 0 {
			r.Problems = []string{fmt.Sprintf("%d cells of %s could not be read", s.Unread, s.Of)}
		}
	}
	return r
}

// Sum adds up columns of values, exactly but for floating-point ones.
type Sum struct{ total }

// Add takes more values. Those of one sum are of one kind.
func (s *Sum) Add(c *value.Column) { s.add(c) }

// Total gives the sum, 0 where there is no value, and the number of values.
func (s *Sum) Total() (sum string, count int64) {
	if sum = s.result().Sum; sum == "" {
		sum = "0"
	}
	return sum, s.Count
}
