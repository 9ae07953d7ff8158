package page

import (
	"bufio"
	"io"

	"ladle/internal/core/changes"
)

// changesPage is a page of changes that grows as they come.
type changesPage struct {
	to   *bufio.Writer
	rows int64
}

// Changes begins a page of changes.
func Changes(to io.Writer, program string) (changes.File, error) {
	p := &changesPage{to: bufio.NewWriter(to)}
	return p, pages().ExecuteTemplate(p.to, "changes-start", struct{ Title, Program string }{"Changes", program})
}

func (p *changesPage) Add(r changes.Record) error {
	p.rows++
	return pages().ExecuteTemplate(p.to, "change", r)
}

func (p *changesPage) Finish() error {
	if err := pages().ExecuteTemplate(p.to, "changes-end", p.rows); err != nil {
		return err
	}
	return p.to.Flush()
}
