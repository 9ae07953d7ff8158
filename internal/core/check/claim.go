package check

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
	"ladle/internal/core/value"
)

// Claim is what a ladle file says of the database once the load is done. Exactly one of NoRows, Equal and HowMany is
// given.
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

// patience is how long the queries of a claim may take together.
const patience = 10 * time.Minute

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
	ctx, stop := context.WithTimeoutCause(ctx, patience, fault.New(fault.Failed,
		fmt.Sprintf("its query took longer than %d minutes", int(patience.Minutes())), "write a query that takes less "+
			"time"))
	defer stop()
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
		if cause := context.Cause(ctx); cause != nil && fault.ClassOf(cause) == fault.Failed && !errors.Is(cause,
			context.Canceled) {
			err = cause
		}
		p := fault.ProblemsOf(err)[0]
		p.What = fmt.Sprintf("the check %q can't be run: %s", c.Says, p.What)
		return r, fault.Because(fault.ClassOf(err), err, p)
	}
	r.Short = c.Says
	return r, nil
}

func (c Claim) noRows(ctx context.Context, db engine.Reader, r *Result) error {
	n := int64(0)
	err := db.Ask(ctx, c.NoRows, engine.OnlyRows(func(columns []string, row [][]byte) error {
		if n++; n <= mostProblems {
			r.Problems = append(r.Problems, answer(columns, engine.Texts(row)))
		}
		return nil
	}))
	r.OK, r.Says = n == 0, "the query returns no rows"
	if n > 0 {
		r.Says = "the query returns " + reason.Plural(n, "row")
	}
	return err
}

func (c Claim) howMany(ctx context.Context, db engine.Reader, r *Result) error {
	n := int64(0)
	err := db.Ask(ctx, c.HowMany, engine.OnlyRows(func([]string, [][]byte) error {
		n++
		return nil
	}))
	r.OK = n >= c.Least && (c.Most < 0 || n <= c.Most)
	r.Says = reason.Plural(n, "row")
	if !r.OK {
		r.Says += ", where " + c.bounds() + " are expected"
	}
	return err
}

func (c Claim) bounds() string {
	switch {
	case c.Most < 0:
		return reason.Count(c.Least) + " or more"
	case c.Least == c.Most:
		return reason.Count(c.Most)
	case c.Least == 0:
		return reason.Count(c.Most) + " or fewer"
	}
	return reason.Count(c.Least) + " to " + reason.Count(c.Most)
}

// mostAnswers is the number of rows up to which the answers to two queries are compared.
const mostAnswers = 100_000

var errManyAnswers = errors.New("equal: compares at most 100,000 rows, and there are more; use no_rows: with a query " +
	"that compares them")

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
		r.Problems = append(r.Problems, fmt.Sprintf("one side has %s, the other %s",
			reason.Plural(int64(len(left)), "row"), reason.Count(int64(len(right)))))
	}
	for i := range min(len(left), len(right)) {
		if sameAnswer(left[i], right[i]) {
			continue
		}
		r.OK = false
		if len(r.Problems) < mostProblems {
			r.Problems = append(r.Problems, fmt.Sprintf("%s is %s, but %s is %s", c.Equal[0].words(), cells(left[i]),
				c.Equal[1].words(), cells(right[i])))
		}
	}
	if r.Says = "the two sides differ"; r.OK {
		r.Says = "the two sides are equal"
		if len(left) == 1 {
			r.Says = "both are " + cells(left[0])
		}
	}
	return nil
}

// words name a side in a message.
func (s Side) words() string {
	if s.Query == "" {
		return s.Of
	}
	return "the result of " + strings.Join(strings.Fields(s.Query), " ")
}

// rows returns the answer of a side.
func (s Side) rows(ctx context.Context, db engine.Reader) (rows [][]*string, err error) {
	if s.Query == "" {
		return [][]*string{{&s.Total}}, nil
	}
	err = db.Ask(ctx, s.Query, engine.OnlyRows(func(_ []string, row [][]byte) error {
		if rows = append(rows, engine.Texts(row)); len(rows) > mostAnswers {
			return errManyAnswers
		}
		return nil
	}))
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

// sameCell reports whether two cells are the same: as numbers where both are, else letter by letter. The sum of no
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
			words[i] = reason.Shorten(*c)
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

// ControlTotal is a total that the sender of an input states, and what was read.
type ControlTotal struct {
	Input, Of  string // the column, or the word for the number of lines
	Says       string // what is stated, as it is written
	Want, Read string
	Unread     int64 // cells of the column that could not be read
}

// Result holds what was read against what was stated.
func (s ControlTotal) Result() Result {
	r := Result{Check: "total", Claim: fmt.Sprintf("%s of %s: %s", s.Of, s.Input, s.Says),
		OK:   sameCell(&s.Want, &s.Read),
		Says: "as stated", Short: fmt.Sprintf("%s %s %s", s.Input, s.Of, s.Read)}
	if !r.OK {
		r.Says = fmt.Sprintf("the sender states %s, but %s was read", s.Want, s.Read)
		if s.Unread > 0 {
			r.Problems = []string{fmt.Sprintf("%s of %s could not be read", reason.Plural(s.Unread, "cell"), s.Of)}
		}
	}
	return r
}

// Sum adds up columns of values, exactly but for floating-point ones.
type Sum struct{ total }

// Add takes more values. Those of one sum are of one kind.
func (s *Sum) Add(c *value.Column) { s.add(c) }

// Total returns the sum, 0 where there is no value, and the number of values.
func (s *Sum) Total() (sum string, count int64) {
	if sum = s.result().Sum; sum == "" {
		sum = "0"
	}
	return sum, s.Count
}
