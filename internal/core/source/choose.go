package source

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/source/sheet"
)

// sheetArea is a sheet, or a part of it, that is to be read.
type sheetArea struct {
	number int
	sheet  sheet.Info
	area   sheet.Area
	table  *sheet.NamedArea
	all    []sheet.Info
}

// chooseSheets finds what asked means.
func chooseSheets(f *file, book sheet.Book, asked ReadOptions, every bool) ([]sheetArea, error) {
	all, err := book.Sheets()
	if err != nil {
		return nil, err
	}
	whole := sheet.Area{Top: 1, Left: 1}
	area, isArea := sheet.ParseArea(asked.Range)
	if asked.Range != "" && !isArea {
		return chooseNamed(f, book, all, asked)
	}
	if isArea {
		whole = area
	}
	if asked.Sheet != "" {
		n, err := sheetNumber(f, all, asked.Sheet)
		return []sheetArea{{number: n, sheet: infoOf(all, n), area: whole, all: all}}, err
	}
	var visible []sheetArea
	for i, s := range all {
		if (every || !s.Hidden) && !s.NoCells {
			visible = append(visible, sheetArea{number: i, sheet: s, area: whole, all: all})
		}
	}
	if len(visible) == 0 && slices.ContainsFunc(all, func(s sheet.Info) bool { return s.NoCells }) {
		return nil, f.odd("the workbook holds a chart or the like, and no sheet with cells: "+sheetNames(all),
			"check that this is the right file")
	}
	if every {
		return visible, nil
	}
	if len(visible) > 1 {
		if visible, err = filledSheets(book, visible); err != nil {
			return nil, err
		}
	}
	if len(visible) == 1 {
		return visible, nil
	}
	return nil, f.odd(fmt.Sprintf("the workbook has %d sheets: %s", len(visible), sheetNames(all)),
		"set sheet: to the name of one")
}

func infoOf(all []sheet.Info, n int) sheet.Info {
	if n < 0 || n >= len(all) {
		return sheet.Info{}
	}
	return all[n]
}

func sheetNames(all []sheet.Info) string {
	names := make([]string, len(all))
	for i, s := range all {
		names[i] = s.Name
		if s.Hidden {
			names[i] += " (hidden)"
		}
		if s.NoCells {
			names[i] += " (a chart)"
		}
	}
	return strings.Join(names, ", ")
}

// sheetNumber is the sheet with a name, or else a number.
func sheetNumber(f *file, all []sheet.Info, name string) (int, error) {
	if n := slices.IndexFunc(all, func(s sheet.Info) bool { return FoldName(s.Name) == FoldName(name) }); n >= 0 {
		return n, nil
	}
	if n, err := strconv.Atoi(name); err == nil && n >= 1 && n <= len(all) {
		return n - 1, nil
	}
	return -1, f.odd(fmt.Sprintf("the workbook has no sheet %q", name), "its sheets are: "+sheetNames(all))
}

// chooseNamed finds a named range or table.
func chooseNamed(f *file, book sheet.Book, all []sheet.Info, asked ReadOptions) ([]sheetArea, error) {
	named, err := book.Names()
	if err != nil {
		return nil, err
	}
	names := make([]string, len(named))
	for i, n := range named {
		names[i] = n.Name
		if FoldName(n.Name) != FoldName(asked.Range) {
			continue
		}
		if asked.Sheet != "" {
			if at, err := sheetNumber(f, all, asked.Sheet); err != nil || at != n.Sheet {
				continue
			}
		}
		c := sheetArea{number: n.Sheet, sheet: all[n.Sheet], area: n.Area, all: all}
		if n.Table {
			c.table = &n
			if c.area.Bottom > 0 {
				c.area.Bottom -= n.Totals
			}
		}
		return []sheetArea{c}, nil
	}
	return nil, f.odd(fmt.Sprintf("the workbook has no range or table %q", asked.Range),
		"write it as B4:K900, or by name; "+fault.DidYouMean(asked.Range, names))
}

// filledSheets leaves those that hold something.
func filledSheets(book sheet.Book, of []sheetArea) ([]sheetArea, error) {
	var filled []sheetArea
	for _, c := range of {
		rows, err := book.Rows(c.number)
		if err != nil {
			return nil, err
		}
		var r sheet.Row
		for {
			b, err := rows.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				return nil, errors.Join(err, rows.Close())
			}
			if b.Next(&r) {
				filled = append(filled, c)
				break
			}
		}
		rows.Close()
	}
	return filled, nil
}
