package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/xuri/excelize/v2"

	"ladle/internal/core/fault"
	"ladle/internal/core/look"
	"ladle/internal/core/value"
	"ladle/internal/core/whole"
	"ladle/internal/term"
)

// writePages writes rows to a file, of a workbook each page on a sheet of its own.
func writePages(path string, pages []*look.Page) error {
	write := writeCSV
	if strings.EqualFold(filepath.Ext(path), ".xlsx") {
		write = writeWorkbook
	} else if len(pages) > 1 {
		return fault.New(fault.Wrong, fmt.Sprintf("a CSV file holds one table, and these are %d", len(pages)),
			"write them to a workbook (.xlsx), or choose one with --sheet")
	}
	if err := whole.Write(path, func(to io.Writer) error { return write(to, pages) }); err != nil {
		return fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the rows can't be written: " +
			err.Error(),
			Do: "check the permissions of its folder and the free disk space"})
	}
	var rows int64
	for _, p := range pages {
		rows += int64(len(p.Rows))
	}
	fmt.Fprintln(os.Stderr, term.Safe(fmt.Sprintf("%s written to %s", were(rows, "row"), path)))
	return nil
}

// writeCSV is RFC 4180 in UTF-8. A text that a spreadsheet would run as a formula gets an apostrophe in front; NULL is
// blank.
func writeCSV(to io.Writer, pages []*look.Page) error {
	w := csv.NewWriter(to)
	p := pages[0]
	err := w.Write(p.Columns)
	for _, r := range p.Rows {
		cells := make([]string, len(r.Cells))
		for i, c := range r.Cells {
			if c != nil {
				cells[i] = string(value.Guarded([]byte(*c)))
			}
		}
		err = errors.Join(err, w.Write(cells))
	}
	w.Flush()
	return errors.Join(err, w.Error())
}

func writeWorkbook(to io.Writer, pages []*look.Page) error {
	f := excelize.NewFile()
	defer f.Close()
	for i, p := range pages {
		sheet := fmt.Sprintf("%d %s", i+1, strings.Map(plainSheet, filepath.Base(p.Of)))
		sheet = string([]rune(sheet)[:min(31, len([]rune(sheet)))])
		if _, err := f.NewSheet(sheet); err != nil {
			return err
		}
		rows := append([]look.Row{{Cells: texts(p.Columns)}}, p.Rows...)
		for n, r := range rows {
			for k, c := range r.Cells {
				if c == nil {
					continue
				}
				at, err := excelize.CoordinatesToCellName(k+1, n+1)
				if err == nil {
					err = f.SetCellStr(sheet, at, *c)
				}
				if err != nil {
					return err
				}
			}
		}
	}
	if err := f.DeleteSheet("Sheet1"); err != nil {
		return err
	}
	return f.Write(to)
}

// plainSheet leaves out what the name of a sheet can't have.
func plainSheet(r rune) rune {
	if strings.ContainsRune(`:\/?*[]'`, r) {
		return '-'
	}
	return r
}

func texts(all []string) (cells []*string) {
	for _, t := range all {
		cells = append(cells, &t)
	}
	return cells
}
