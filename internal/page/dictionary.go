package page

import (
	"io"

	"ladle/internal/core/dictionary"
)

// dictionaryView is what the page of a dictionary shows.
type dictionaryView struct {
	*dictionary.Dictionary
	Program  string
	Sections []sectionView
}

// sectionView is a table with its columns as cells.
type sectionView struct {
	*dictionary.Table
	Header []string
	Cells  [][]string
}

// Dictionary writes the tables of a database with their columns.
func Dictionary(to io.Writer, d *dictionary.Dictionary, program string) error {
	v := dictionaryView{Dictionary: d, Program: program}
	for i := range d.Tables {
		t := &d.Tables[i]
		header, cells := t.Cells()
		v.Sections = append(v.Sections, sectionView{t, header, cells})
	}
	return pages().ExecuteTemplate(to, "dictionary.html", v)
}
