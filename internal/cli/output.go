package cli

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ladle/internal/core/changes"
	"ladle/internal/core/fault"
	"ladle/internal/core/whole"
	"ladle/internal/page"
)

func htmlOption(what string) option {
	return option{name: "html", value: "FILE", group: groupOutput, check: pageCheck,
		does: "also write " + what + " to FILE, a page for a browser that needs nothing else"}
}

// pageCheck takes the path of a page that is yet to be made, or that ladle made before.
func pageCheck(path string) error {
	if info, err := os.Stat(filepath.Dir(path)); err != nil || !info.IsDir() {
		return fault.At(fault.Wrong, fault.Problem{File: path, What: "the folder for the page doesn't exist",
			Do: "create it, or write the page somewhere else"})
	}
	if !mayReplace(path) {
		return fault.At(fault.Wrong, fault.Problem{File: path,
			What: "the file exists and was not written by ladle", Do: "give another name, or move it away"})
	}
	return nil
}

// mayReplace reports whether nothing but a page stands at path.
func mayReplace(path string) bool {
	f, err := whole.Open(path)
	if err != nil {
		return errors.Is(err, fs.ErrNotExist)
	}
	defer f.Close()
	start := make([]byte, len(page.Start))
	n, _ := io.ReadFull(f, start) // what is shorter is no page
	return string(start[:n]) == page.Start
}

// placePage writes a page, where one is asked for.
func placePage(path string, write func(io.Writer) error) error {
	if path == "" {
		return nil
	}
	err := whole.Write(path, write)
	if err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: path,
			What: "the page can't be written: " + err.Error(), Do: "check the permissions of its folder and the free " +
				"disk space"})
	}
	return nil
}

func changesOption() option {
	return option{name: "changes", value: "FILE", group: groupOutput, check: changesCheck,
		does: "also write to FILE (.csv, .xlsx or .html) what becomes of each row: every cell that is added or " +
			"changed, or that differs and is kept, and every row that is removed"}
}

// changesCheck takes the path of a file that is yet to be made.
func changesCheck(path string) error {
	if _, err := newChanges(path, io.Discard); err != nil {
		return fault.At(fault.Wrong, fault.Problem{File: path, What: err.Error(), Do: "give it a name that ends in " +
			".csv, .xlsx or .html"})
	}
	if info, err := os.Stat(filepath.Dir(path)); err != nil || !info.IsDir() {
		return fault.At(fault.Wrong, fault.Problem{File: path, What: "the folder for the file doesn't exist",
			Do: "create it, or write the file somewhere else"})
	}
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return fault.At(fault.Wrong, fault.Problem{File: path, What: "the file exists",
			Do: "give another name, or move it away"})
	}
	return nil
}

// changeList is a file of changes that is being written; one without a file is none.
type changeList struct {
	file *whole.File
	to   changes.File
}

// newChanges begins a file of changes in the format that its name tells.
func newChanges(path string, to io.Writer) (changes.File, error) {
	if strings.EqualFold(filepath.Ext(path), ".html") {
		return page.Changes(to, Version)
	}
	return changes.NewFile(path, to)
}

// listChanges has change, which is given each change, write to a file, which gets its name when they are all in it.
func listChanges(path string, change *func(changes.Record) error) (*changeList, error) {
	l := &changeList{}
	if path == "" {
		return l, nil
	}
	var err error
	if l.file, err = whole.Create(path); err == nil {
		l.to, err = newChanges(path, l.file)
	}
	if err != nil {
		l.discard()
		return l, unwritten(path, err)
	}
	*change = func(r changes.Record) error {
		if err := l.to.Add(r); err != nil {
			return unwritten(path, err)
		}
		return nil
	}
	return l, nil
}

func unwritten(path string, err error) error {
	return fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the changes can't be written: " +
		err.Error(),
		Do: "check the permissions of its folder and the free disk space"})
}

func (l *changeList) place() error {
	if l.file == nil {
		return nil
	}
	return errors.Join(l.to.Finish(), l.file.Place())
}

func (l *changeList) discard() {
	if l.file != nil {
		l.file.Discard()
	}
}
