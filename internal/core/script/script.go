// Package script writes a load as one SQL script, which somebody else runs with the database's own client.
//
// A [Script] is the transaction of a rehearsal, or of none: it hands on what a [write.Writer] does with rows, and writes it down. Ids
// that only this database gives are not in the script: rows that are there are found by a key (see numbered), and new
// ones get the ids that follow the last one when the script runs. [Script.Finish] puts it all together: first guards,
// which stop the script where rows that were judged against have been changed since; then the rows, many to a
// statement; then what must hold before the commit.
package script

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"ladle/internal/core/check"
	"ladle/internal/core/engine"
	"ladle/internal/core/judge"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/schema"
	"ladle/internal/core/whole"
	"ladle/internal/core/write"
)

// Options say what stands in the script besides rows.
type Options struct {
	Plan    *plan.Plan
	Program string                                           // the version of the program
	Place   func(feed int, line int64) (reason.Place, error) // of a line, by its number
	Claims  []check.Claim                                    // of the ladle file
	Dialect engine.Dialect                                   // of the database
	Locked  []*schema.Table                                  // the tables that must stand still
	Files   map[string]string                                // the file of each input
	RunWith string                                           // the line for a shell that runs the script

	Unrehearsed bool // nothing is written to the database, not even to be taken back
}

// Script is a load that is written down while it is rehearsed, or in place of that.
type Script struct {
	engine.Tx
	Options
	judgement *judge.Judgement

	folder string
	staged *sheet // rows that stand in temporary tables before the guards: those that are changed or removed
	body   *sheet
	rooms  int

	tables map[*schema.Table]*numbered
	order  []*numbered // those that keys refer to before those with these keys
	refs   map[place]*schema.Table
	places []place        // those of refs, in the order of the ladle file
	given  map[place]bool // columns that are fed as they are

	emptied map[place]bool // columns of rows that go, which were told before they were emptied

	part   write.Part
	group  *group
	guards []engine.Guard
	before map[*schema.Table]int64
}

// place is a column of a table.
type place struct {
	table  *schema.Table
	column string
}

// eachSource calls visit for each column that steps or their lookups feed, with the lookup that feeds it; nil for none.
func eachSource(steps []*judge.Step, visit func(at place, l *plan.Lookup)) {
	var all func(t *schema.Table, assignments []plan.Assignment)
	all = func(t *schema.Table, assignments []plan.Assignment) {
		for _, a := range assignments {
			l := a.Source.Lookup
			visit(place{t, a.Column.Name}, l)
			if l != nil && l.Makers == nil {
				all(l.Table, l.By)
			}
		}
	}
	for _, s := range steps {
		all(s.Table, s.Columns)
	}
}

// New begins a script in a transaction in which nothing was written yet. End must be called.
func New(ctx context.Context, tx engine.Tx, j *judge.Judgement, o Options) (*Script, error) {
	folder, err := whole.Folder()
	if err != nil {
		return nil, err
	}
	if o.Unrehearsed {
		tx = unwritten{tx}
	}
	s := &Script{Tx: tx, Options: o, judgement: j, folder: folder, tables: map[*schema.Table]*numbered{},
		refs: map[place]*schema.Table{}, given: map[place]bool{}, emptied: map[place]bool{}, before: map[*schema.Table]int64{}}
	if s.staged, err = s.newSheet("staged"); err == nil {
		s.body, err = s.newSheet("body")
	}
	for _, t := range s.written() {
		if err == nil {
			s.before[t], err = count(ctx, tx, t)
		}
	}
	if err != nil {
		return nil, errors.Join(err, s.End())
	}
	s.relate()
	return s, nil
}

// End removes what is left of a script on disk.
func (s *Script) End() error { return os.RemoveAll(s.folder) }

// written lists the tables whose rows may change.
func (s *Script) written() (all []*schema.Table) {
	use := func(t *schema.Table) {
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, g := range s.judgement.Growths {
		use(g.Table)
	}
	for _, step := range s.judgement.Steps {
		use(step.Table)
	}
	return all
}

// count is the exact number of rows of t.
func count(ctx context.Context, r engine.Reader, t *schema.Table) (int64, error) {
	n, exact, err := r.Count(ctx, t)
	if err != nil || exact {
		return n, err
	}
	return r.CountFrom(ctx, t, -1<<63)
}

// Queries are what a script asks of the database besides the claims; they must be foreseen before its transaction.
func Queries(p *plan.Plan, d engine.Dialect) (all []string) {
	for _, s := range p.Steps {
		if q := duplicates(s, d); q != "" {
			all = append(all, q)
		}
	}
	return all
}

// Next hears what rows come next.
func (s *Script) Next(p write.Part) { s.part = p }

// sheet is text on disk.
type sheet struct {
	*bufio.Writer
	file *os.File
}

func (s *Script) newSheet(name string) (*sheet, error) {
	f, err := os.Create(filepath.Join(s.folder, name))
	if err != nil {
		return nil, err
	}
	return &sheet{bufio.NewWriterSize(f, 1<<16), f}, nil
}

// copyTo writes the sheet behind what is in to, and closes it.
func (s *sheet) copyTo(to io.Writer) error {
	defer s.file.Close()
	if err := s.Flush(); err != nil {
		return err
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err := io.Copy(to, s.file)
	return err
}

// put writes a statement; a bufio.Writer keeps an error for its Flush.
func put(to io.Writer, statement string) { _, _ = io.WriteString(to, statement+";\n") }

// putLines writes lines as they are.
func putLines(to io.Writer, lines []string) {
	for _, l := range lines {
		_, _ = io.WriteString(to, l+"\n")
	}
}

// say writes a comment.
func say(to io.Writer, format string, arguments ...any) {
	fmt.Fprintf(to, "-- %s\n", strings.Map(func(c rune) rune {
		if unicode.IsControl(c) || unicode.Is(unicode.Cf, c) {
			return ' '
		}
		return c
	}, fmt.Sprintf(format, arguments...)))
}

// Finish writes the script, once all rows were written and checked in the rehearsal.
func (s *Script) Finish(ctx context.Context, out io.Writer) error {
	if err := s.close(); err != nil {
		return err
	}
	numbers, err := s.numbers(ctx)
	if err != nil {
		return err
	}
	asserted, err := s.assertions(ctx)
	if err != nil {
		return err
	}
	to := bufio.NewWriterSize(out, 1<<16)
	head(to, &s.Options)
	say(to, "Run it with: %s", s.RunWith)
	if s.Unrehearsed {
		say(to, "It was judged, and not rehearsed: what only the database rejects stops it.")
	}
	say(to, "It is one transaction: it does all of what follows, or says why not and changes nothing. Run a second time, it")
	say(to, "changes nothing.")
	putLines(to, s.Dialect.Open(s.Locked))
	there, err := s.putKeys(to)
	if err != nil {
		return err
	}
	if err := s.staged.copyTo(to); err != nil {
		return err
	}
	fmt.Fprintln(to)
	say(to, "Guards: what the load was judged against is as it was.")
	counts := s.counts(s.before, "no longer has the %s that this script was written for")
	putLines(to, s.Dialect.Stop(slices.Concat(counts, there, s.guards)))
	putLines(to, numbers)
	if err := s.body.copyTo(to); err != nil {
		return err
	}
	fmt.Fprintln(to)
	say(to, "Checks before the commit.")
	putLines(to, s.Dialect.Stop(asserted))
	putLines(to, s.Dialect.Close())
	return to.Flush()
}

// head tells a person what the script is.
func head(to io.Writer, o *Options) {
	say(to, "Written by ladle %s from %s.", o.Program, o.Plan.File.Base())
	for _, f := range o.Plan.Feeds {
		say(to, "Input %s: %s", f.Name(), o.Files[f.Name()])
	}
	say(to, "It is not noted in ladle's logbook.")
}
