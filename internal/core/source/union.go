package source

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/fault"
)

// unionTable is the rows of unionTable files under the header of the first.
type unionTable struct {
	tables []Table
	files  []File
	wanted [][]int // for each file, where it has the columns of the first; nil when in the same order
	at     int
	before int64 // the bytes of the files before the one that is read
}

// union makes one table of several; failed is what went wrong when they were opened.
func union(tables []Table, failed error) (Table, error) {
	if failed != nil {
		return nil, Together(failed)
	}
	if len(tables) == 1 {
		return tables[0], nil
	}
	s := &unionTable{tables: tables}
	var problems []fault.Problem
	for _, t := range tables {
		s.files = append(s.files, t.Files()...)
		wanted, problem := arrange(tables[0], t)
		if problem != nil {
			problems = append(problems, *problem)
		}
		s.wanted = append(s.wanted, wanted)
	}
	if problems != nil {
		return nil, fault.At(fault.Refused, problems...)
	}
	return s, nil
}

// Together makes one fault of joined errors, of the gravest class among them.
func Together(err error) error {
	joined, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return err
	}
	all := &fault.Fault{Class: fault.Refused, Cause: err}
	for _, e := range joined.Unwrap() {
		all.Class = max(all.Class, fault.ClassOf(e))
		all.Problems = append(all.Problems, fault.ProblemsOf(e)...)
	}
	return all
}

// arrange returns the positions of the columns of first in t.
func arrange(first, t Table) ([]int, *fault.Problem) {
	want, have := first.Header().Names, t.Header().Names
	var missing []string
	wanted := make([]int, len(want))
	used := make([]bool, len(have))
	for i, name := range want {
		at := slices.IndexFunc(have, func(h string) bool { return FoldName(h) == FoldName(name) })
		for at >= 0 && used[at] { // of several columns with one name each is taken once
			next := slices.IndexFunc(have[at+1:], func(h string) bool { return FoldName(h) == FoldName(name) })
			if next < 0 {
				at = -1
				break
			}
			at += 1 + next
		}
		if at < 0 {
			missing = append(missing, name)
			continue
		}
		wanted[i], used[at] = at, true
	}
	var more []string
	for i, name := range have {
		if !used[i] {
			more = append(more, name)
		}
	}
	if missing == nil && more == nil {
		if slices.IsSorted(wanted) {
			wanted = nil
		}
		return wanted, nil
	}
	return nil, otherColumns(first.Files()[0], t.Files()[0], t.Header(), missing, more)
}

func otherColumns(first, m File, h Header, missing, more []string) *fault.Problem {
	var what []string
	if missing != nil {
		what = append(what, "it lacks "+strings.Join(missing, ", "))
	}
	if more != nil {
		what = append(what, "it has "+strings.Join(more, ", ")+" besides")
	}
	return &fault.Problem{File: m.Name(), Line: int(h.Line),
		What: fmt.Sprintf("this file has other columns than %s: %s", first.Name(), strings.Join(what, "; ")),
		Do:   "rename the columns, or make it an input of its own"}
}

func (s *unionTable) Header() Header { return s.tables[0].Header() }

func (s *unionTable) Files() []File { return s.files }

func (s *unionTable) Formats() (all []Format) {
	for _, t := range s.tables {
		all = append(all, t.Formats()...)
	}
	return all
}

func (s *unionTable) count(c *Chunk) { s.tables[c.Origin.File].count(c) }

func (s *unionTable) Size() (n int64) {
	for _, t := range s.tables {
		n += t.Size()
	}
	return n
}

// Sum is the SHA-256 of the sums of the files.
func (s *unionTable) Sum() (string, error) {
	h := sha256.New()
	for _, t := range s.tables {
		sum, err := t.Sum()
		if err != nil {
			return "", err
		}
		io.WriteString(h, sum)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (s *unionTable) Next() (*Chunk, error) {
	for s.at < len(s.tables) {
		c, err := s.tables[s.at].Next()
		if err == io.EOF {
			s.before += s.tables[s.at].Size()
			s.at++
			continue
		}
		if err != nil {
			return nil, err
		}
		c.Origin.Done += s.before
		return s.place(c, s.at), nil
	}
	return nil, io.EOF
}

func (s *unionTable) place(c *Chunk, file int) *Chunk {
	c.Origin.File, c.wanted = file, s.wanted[file]
	return c
}

func (s *unionTable) Again(o Origin) (*Chunk, error) {
	c, err := s.tables[o.File].Again(o)
	if err != nil {
		return nil, err
	}
	return s.place(c, o.File), nil
}

func (s *unionTable) Close() error {
	var errs []error
	for _, t := range s.tables {
		errs = append(errs, t.Close())
	}
	return errors.Join(errs...)
}
