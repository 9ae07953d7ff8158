package dictionary

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
)

// Read reads a dictionary from a workbook as Workbook writes it, which a person may have changed: what it says of
// tables that are to be. What only tells something (counts, values, what refers to a table) is passed over.
func Read(path string) (*Dictionary, error) {
	r := &planReader{path: path, tables: map[string]*Table{}}
	for _, part := range []struct {
		sheet string
		need  []string
		row   func(planRow) error
	}{
		{tablesSheet, []string{"table"}, r.table},
		{columnsSheet, []string{"table", "column", "type"}, r.column},
		{relationsSheet, []string{"table", "columns", "refers to", "its columns"}, r.relation},
		{checksSheet, []string{"table", "condition"}, r.check},
		{rowsSheet, []string{"table", "columns"}, r.row},
	} {
		if err := r.each(part.sheet, part.need, part.row); err != nil {
			return nil, err
		}
	}
	if err := r.agree(); err != nil {
		return nil, err
	}
	return &Dictionary{Database: path, Tables: r.all()}, nil
}

// planReader gathers tables.
type planReader struct {
	path   string
	sheets []string // of the workbook
	order  []string
	tables map[string]*Table
	told   []toldColumn
}

// toldColumn is what a row of the sheet of columns says again of keys and relations.
type toldColumn struct {
	row         planRow
	table       *Table
	name        string
	key, refers string
}

// planRow is a row of a sheet.
type planRow struct {
	file  string
	line  int64
	cells map[string]string // by title
	rest  []string          // the values of a row of a lookup table
}

func (r planRow) wrong(what, do string) error {
	return fault.At(fault.Wrong, fault.Problem{File: r.file, Line: int(r.line), What: what, Do: do})
}

// each gives take the rows of a sheet. Only the one of lookup values may be missing.
func (r *planReader) each(sheet string, need []string, take func(planRow) error) error {
	if sheet == rowsSheet && !slices.Contains(r.sheets, sheet) {
		return nil
	}
	t, err := source.Open([]string{r.path}, source.ReadOptions{Sheet: sheet, Header: source.HeaderLines{First: 1,
		Last: 1}})
	if err != nil {
		return err
	}
	defer t.Close()
	r.sheets = nil
	for _, s := range t.Formats()[0].Sheets {
		r.sheets = append(r.sheets, s.Name)
	}
	titles := t.Header().Names
	for _, title := range need {
		if source.IndexOfName(titles, title) < 0 {
			return fault.At(fault.Wrong, fault.Problem{File: t.Files()[0].Name(), What: fmt.Sprintf("the column %q is missing",
				title),
				Do: "start from a workbook that ladle dictionary has written"})
		}
	}
	for {
		chunk, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		var record source.Record
		for chunk.Next(&record) {
			_, line := source.PositionIn(record.Position)
			row := planRow{t.Files()[0].Name(), line, map[string]string{}, nil}
			for i, title := range titles {
				cell := ""
				if i < len(record.Fields) {
					cell = strings.TrimSpace(string(record.Fields[i]))
				}
				row.cells[source.FoldName(title)] = cell
				if i >= len(need) {
					row.rest = append(row.rest, cell)
				}
			}
			for _, f := range record.Faults {
				return row.wrong(fmt.Sprintf("the cell of %q holds no value: %s", titles[f.Field], f.Why.Words()), "correct it")
			}
			if row.cells["table"] == "" {
				return row.wrong("the table is blank", "name it, or delete the row")
			}
			if err := take(row); err != nil {
				return err
			}
		}
		if err := chunk.Err(); err != nil {
			return err
		}
	}
}

func (r *planReader) table(row planRow) error {
	name := row.cells["table"]
	if r.tables[name] != nil {
		return row.wrong(fmt.Sprintf("the table %s is listed twice", name), "delete one of the rows")
	}
	t := r.add(name)
	t.Comment, t.Form, t.Primary = row.cells["comment"], row.cells["kept as"], names(row.cells["primary key"])
	t.Keys = parted(row.cells["unique keys"])
	t.onSheet = true
	return nil
}

func (r *planReader) add(name string) *Table {
	t := &Table{TableOutline: schema.TableOutline{Name: name}}
	r.order, r.tables[name] = append(r.order, name), t
	return t
}

func (r *planReader) column(row planRow) error {
	t := r.tables[row.cells["table"]]
	if t == nil {
		t = r.add(row.cells["table"])
	}
	c := schema.ColumnOutline{Name: row.cells["column"], Declared: row.cells["type"], Comment: row.cells["comment"],
		Collation: row.cells["collation"]}
	if c.Name == "" {
		return row.wrong("the column is blank", "name it, or delete the row")
	}
	if slices.ContainsFunc(t.Columns, func(o schema.ColumnOutline) bool { return o.Name == c.Name }) {
		return row.wrong(fmt.Sprintf("%s has the column %s twice", t.Name, c.Name), "delete one of the rows")
	}
	if !valueOf(row.cells["value"], &c) {
		return row.wrong(fmt.Sprintf("the value of %s.%s is %q", t.Name, c.Name, row.cells["value"]),
			"write required, optional, default ..., required, default ..., or auto-numbered")
	}
	for _, v := range strings.Split(row.cells["allowed values"], ", ") {
		if v != "" {
			c.Values = append(c.Values, v)
		}
	}
	t.Columns = append(t.Columns, c)
	r.told = append(r.told, toldColumn{row, t, c.Name, row.cells["key"], row.cells["refers to"]})
	return nil
}

// valueOf reads what stands in a column, as value writes it.
func valueOf(text string, c *schema.ColumnOutline) bool {
	if rest, is := strings.CutPrefix(text, "required, default "); is {
		c.Required, c.Default = true, rest
		return rest != ""
	}
	if rest, is := strings.CutPrefix(text, "default "); is {
		c.Default = rest
		return rest != ""
	}
	switch text {
	case "required":
		c.Required = true
	case "auto-numbered":
		c.Required, c.Counted = true, true
	case "computed":
		c.Computed = true
	case "optional", "":
	default:
		return false
	}
	return true
}

// of finds the table of a row of another sheet, with columns of it.
func (r *planReader) of(row planRow, columns []string) (*Table, error) {
	t := r.tables[row.cells["table"]]
	if t == nil {
		return nil, row.wrong("there is no table "+row.cells["table"]+" in this workbook",
			fault.DidYouMean(row.cells["table"],
				r.order))
	}
	if len(columns) == 0 {
		return nil, row.wrong("the columns are blank", "name them, or delete the row")
	}
	return t, t.knows(row, columns)
}

func (t *Table) knows(row planRow, columns []string) error {
	var there []string
	for _, c := range t.Columns {
		there = append(there, c.Name)
	}
	for _, name := range columns {
		if !slices.Contains(there, name) {
			return row.wrong(fmt.Sprintf("the table %s has no column %q", t.Name, name), fault.DidYouMean(name, there))
		}
	}
	return nil
}

func (r *planReader) relation(row planRow) error {
	columns, parents := names(row.cells["columns"]), names(row.cells["its columns"])
	t, err := r.of(row, columns)
	if err != nil {
		return err
	}
	if len(columns) != len(parents) {
		return row.wrong(fmt.Sprintf("%d columns refer to %d", len(columns), len(parents)), "name as many of both")
	}
	parent := row.cells["refers to"]
	if p := r.tables[parent]; p != nil {
		if err := p.knows(row, parents); err != nil {
			return err
		}
	}
	off, _ := strings.CutPrefix(row.cells["enforced"], "no: ")
	if row.cells["enforced"] == "yes" {
		off = ""
	}
	t.PointsAt = append(t.PointsAt, schema.Reference{Table: parent, Columns: columns, Keys: parents, Off: off})
	return nil
}

func (r *planReader) check(row planRow) error {
	t := r.tables[row.cells["table"]]
	if t == nil {
		return row.wrong("there is no table "+row.cells["table"]+" in this workbook", fault.DidYouMean(row.cells["table"],
			r.order))
	}
	if row.cells["condition"] == "" {
		return row.wrong("the condition is blank", "write it in SQL, or delete the row")
	}
	t.Checks = append(t.Checks, schema.Check{Name: row.cells["name"], Says: row.cells["condition"]})
	return nil
}

func (r *planReader) row(row planRow) error {
	columns := names(row.cells["columns"])
	t, err := r.of(row, columns)
	if err != nil {
		return err
	}
	if t.Listed != nil && !slices.Equal(t.Listed, columns) {
		return row.wrong("the rows of "+t.Name+" have different columns", "give all of them the same")
	}
	if len(columns) > len(row.rest) {
		return row.wrong(fmt.Sprintf("there are %d columns, and %d values", len(columns), len(row.rest)),
			"add a column for each value")
	}
	t.Listed = columns
	t.Lookups = append(t.Lookups, row.rest[:len(columns)])
	return nil
}

// all are the tables, in the order in which they were met.
func (r *planReader) all() []Table {
	var all []Table
	for _, name := range r.order {
		all = append(all, *r.tables[name])
	}
	return all
}

// agree refuses keys and relations of which the sheet of columns says something else than the sheets that are made for
// them. Of tables that only it has, it is taken at its word.
func (r *planReader) agree() error {
	for _, told := range r.told {
		if !told.table.onSheet {
			if err := r.believe(told); err != nil {
				return err
			}
		}
	}
	for _, told := range r.told {
		if len(told.table.Columns) == 0 || !told.table.onSheet {
			continue
		}
		if is := told.table.key(told.name); is != told.key {
			return told.row.wrong(fmt.Sprintf("the key of %s.%s is %q here, but %q by the sheet %q", told.table.Name, told.name,
				told.key, is, tablesSheet), "change keys there, and write the same here")
		}
		if is := told.table.refers(told.name); is != told.refers {
			return told.row.wrong(fmt.Sprintf("%s.%s refers to %q here, but to %q by the sheet %q", told.table.Name, told.name,
				told.refers, is, relationsSheet), "change relations there, and write the same here")
		}
	}
	return nil
}

// believe takes the key and the relation of a column from its own row.
func (r *planReader) believe(told toldColumn) error {
	t := told.table
	switch told.key {
	case "":
	case "primary key":
		t.Primary = append(t.Primary, told.name)
	case "unique":
		t.Keys = append(t.Keys, []string{told.name})
	default:
		return told.row.wrong(fmt.Sprintf("the key of %s.%s is %q", t.Name, told.name, told.key),
			`write "primary key" or "unique"; keys of several columns stand in the sheet "`+tablesSheet+`"`)
	}
	if told.refers == "" || t.refers(told.name) == told.refers {
		return nil
	}
	point := strings.LastIndexByte(told.refers, '.')
	if point < 0 {
		return told.row.wrong(fmt.Sprintf("%s.%s refers to %q", t.Name, told.name, told.refers), "write TABLE.COLUMN")
	}
	t.PointsAt = append(t.PointsAt, schema.Reference{Table: told.refers[:point], Columns: []string{told.name},
		Keys: []string{told.refers[point+1:]}})
	return nil
}
