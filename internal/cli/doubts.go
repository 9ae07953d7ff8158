package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"ladle/internal/core/draft"
	"ladle/internal/core/fault"
	"ladle/internal/core/source"
	"ladle/internal/term"
)

// drafting is a draft at work: files, and what is made of them.
type drafting struct {
	files  []draft.File
	make   func([]draft.File) (*draft.Draft, error)
	again  func(context.Context, draft.File) (draft.File, error) // surveys a file as it is to be read
	show   func(*draft.Draft)                                    // shows a draft before its doubts are asked
	made   *draft.Draft                                          // nil while the files must be matched anew
	before []checkpoint
}

// checkpoint is where a question was asked, to go back to it.
type checkpoint struct {
	files   []draft.File
	made    *draft.Draft
	answers []int
}

// draft makes the draft, and where a person is there settles its doubts.
func (d *drafting) draft(ctx context.Context, asks bool) (made *draft.Draft, err error) {
	if !asks {
		return d.make(d.files)
	}
	if made, err = d.ask(ctx); errors.Is(err, errQuit) && made != nil {
		return made, nil
	}
	return made, err
}

// ask settles the doubts of a draft one by one. Without an error all are settled; errQuit says that the person stopped,
// and what is settled by then is in the draft.
func (d *drafting) ask(ctx context.Context) (*draft.Draft, error) {
	for {
		q, file, err := d.next()
		if d.askAgain(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if q == nil {
			return d.made.Compose()
		}
		n, typed, err := d.menu(q).ask(ctx)
		switch {
		case errors.Is(err, errBack):
			d.goBack()
			continue
		case errors.Is(err, errQuit):
			return d.stop()
		case err != nil:
			return nil, err
		}
		d.remember()
		if err := d.take(ctx, q, file, n, typed); err != nil && !d.askAgain(err) {
			return nil, err
		}
	}
}

// askAgain reports whether an error comes of the last answer, so that it is shown and the question asked again.
func (d *drafting) askAgain(err error) bool {
	var f *fault.Fault
	if !errors.As(err, &f) || f.Class == fault.Failed || len(d.before) == 0 {
		return false
	}
	term.NewScreen(os.Stderr).Note("%s", err)
	d.goBack()
	return true
}

// next is the next question, and the number of the file that it is about; nil for none.
func (d *drafting) next() (q *draft.Question, file int, err error) {
	for i, f := range d.files {
		if q := f.Question(); q != nil {
			return q, i, nil
		}
	}
	if d.made == nil {
		if d.made, err = d.make(d.files); err != nil {
			return nil, 0, err
		}
		d.show(d.made)
	}
	if q := d.made.Next(); q != nil {
		return q, q.File, nil
	}
	return nil, 0, nil
}

func (d *drafting) menu(q *draft.Question) menu {
	m := menu{title: q.Where, why: q.Why, back: len(d.before) > 0}
	if d.made != nil && !q.Reading() {
		n, of := d.made.Number(q)
		m.title = fmt.Sprintf("%s (%d of %d)", q.Where, n, of)
	}
	for _, c := range q.Choices {
		m.choices = append(m.choices, menuChoice{c.Says, c.Samples, c.Asks, func(typed string) error {
			return q.Accepts(c, typed)
		}})
	}
	return m
}

func (d *drafting) remember() {
	m := checkpoint{files: append([]draft.File(nil), d.files...), made: d.made}
	if d.made != nil {
		for _, q := range d.made.Questions {
			m.answers = append(m.answers, q.Answer)
		}
	}
	d.before = append(d.before, m)
}

func (d *drafting) goBack() {
	last := d.before[len(d.before)-1]
	d.before = d.before[:len(d.before)-1]
	d.files, d.made = last.files, last.made
	for i, a := range last.answers {
		d.made.Questions[i].Answer = a
	}
}

// take takes an answer.
func (d *drafting) take(ctx context.Context, q *draft.Question, file, n int, typed string) error {
	q.Answer, q.Typed = n, typed
	if !q.Reading() {
		return nil
	}
	f, again, err := d.files[file].Read(q)
	if err == nil && again {
		f, err = d.again(ctx, f)
	}
	if err != nil {
		return err
	}
	d.files[file], d.made = f, nil
	return nil
}

// stop is the draft with the answers so far.
func (d *drafting) stop() (*draft.Draft, error) {
	if d.made == nil {
		made, err := d.make(d.files)
		if err != nil {
			return nil, err
		}
		d.made = made
	}
	made, err := d.made.Compose()
	return made, errors.Join(err, errQuit)
}

// resurvey surveys a file once more, as it is to be read; the table is added to those that are open.
func resurvey(open *[]source.Table) func(context.Context, draft.File) (draft.File, error) {
	return func(ctx context.Context, f draft.File) (draft.File, error) {
		table, err := openSingle(f.Survey.Read.Path, f.Asked)
		if err != nil {
			return f, err
		}
		*open = append(*open, table)
		made, err := surveyed(ctx, []source.Table{table})
		if err != nil {
			return f, err
		}
		f.Survey = made[0].Survey
		return f, nil
	}
}
