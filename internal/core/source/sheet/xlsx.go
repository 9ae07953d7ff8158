package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
)

const maxPart = 64 << 20 // bytes of the parts that are read as a whole

// xlsx is a workbook of Office Open XML.
type xlsx struct {
	zip      *zip.Reader
	main     string // the part with the list of sheets
	workbook workbookPart
	parts    map[string]relation // by id
	styles   []display
	strings  *sharedStrings
}

type workbookPart struct {
	Properties struct {
		Date1904 string `xml:"date1904,attr"`
	} `xml:"workbookPr"`
	Sheets []struct {
		Name  string     `xml:"name,attr"`
		State string     `xml:"state,attr"`
		Attrs []xml.Attr `xml:",any,attr"`
	} `xml:"sheets>sheet"`
	Names []struct {
		Name string `xml:"name,attr"`
		Text string `xml:",chardata"`
	} `xml:"definedNames>definedName"`
}

type relation struct {
	ID     string `xml:"Id,attr"`
	Type   string `xml:"Type,attr"`
	Target string `xml:"Target,attr"`
}

// is reports whether the relation is of a kind; strict and transitional files differ in what stands before its name.
func (r relation) is(kind string) bool { return strings.HasSuffix(r.Type, "/"+kind) }

func openXLSX(z *zip.Reader) (Book, error) {
	x := &xlsx{zip: z, main: "xl/workbook.xml", parts: map[string]relation{}}
	roots, err := x.relations("")
	if err != nil {
		return nil, err
	}
	for _, r := range roots {
		if r.is("officeDocument") {
			x.main = r.Target
		}
	}
	if member(z, x.main) == nil {
		return nil, Oddity{"this is an Office Open XML file, but not a workbook: it has no list of sheets",
			"check that this is the right file"}
	}
	if strings.HasSuffix(x.main, ".bin") {
		return nil, Oddity{"this is a workbook in a binary format (.xlsb)", "save it as .xlsx"}
	}
	if err := x.decode(x.main, &x.workbook); err != nil {
		return nil, err
	}
	parts, err := x.relations(x.main)
	if err != nil {
		return nil, err
	}
	for _, r := range parts {
		x.parts[r.ID] = r
		if r.is("styles") {
			if err := x.readStyles(r.Target); err != nil {
				return nil, err
			}
		}
	}
	if len(x.workbook.Sheets) == 0 {
		return nil, Oddity{"the workbook has no sheets", "check that this is the right file"}
	}
	return x, nil
}

// decode reads a small part as a whole.
func (x *xlsx) decode(part string, to any) error {
	f := member(x.zip, part)
	if f == nil {
		return Oddity{"the workbook lacks its part " + part, "get it again, or open and save it again"}
	}
	b, err := readAll(f, maxPart)
	if err != nil {
		return err
	}
	d := xml.NewDecoder(asUTF8(bytes.NewReader(b)))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // UTF-16 was decoded above
	if err := d.Decode(to); err != nil {
		return Oddity{fmt.Sprintf("its part %s is broken: %v", part, err), "get it again, or open and save it again"}
	}
	return nil
}

// relations lists what a part refers to, with absolute targets.
func (x *xlsx) relations(part string) ([]relation, error) {
	folder, name := path.Split(part)
	file := folder + "_rels/" + name + ".rels"
	if member(x.zip, file) == nil {
		return nil, nil
	}
	var list struct {
		All []relation `xml:"Relationship"`
	}
	if err := x.decode(file, &list); err != nil {
		return nil, err
	}
	for i, r := range list.All {
		if !strings.HasPrefix(r.Target, "/") {
			list.All[i].Target = path.Join(folder, r.Target)
		} else {
			list.All[i].Target = strings.TrimPrefix(r.Target, "/")
		}
	}
	return list.All, nil
}

// readStyles notes for each cell format as what it shows numbers.
func (x *xlsx) readStyles(part string) error {
	var styles struct {
		Codes []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Formats []struct {
			ID int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := x.decode(part, &styles); err != nil {
		return err
	}
	own := map[int]display{}
	for _, c := range styles.Codes {
		own[c.ID] = judgeFormat(c.Code)
	}
	for _, f := range styles.Formats {
		as, ok := own[f.ID]
		if !ok {
			as = builtIn(f.ID)
		}
		x.styles = append(x.styles, as)
	}
	return nil
}

func (x *xlsx) Format() string { return "xlsx" }

func (x *xlsx) Sheets() ([]Info, error) {
	all := make([]Info, len(x.workbook.Sheets))
	for i, s := range x.workbook.Sheets {
		all[i] = Info{Name: s.Name, Hidden: s.State == "hidden" || s.State == "veryHidden", NoCells: x.noCells(s.Attrs)}
	}
	return all, nil
}

// noCells reports whether a sheet is there and holds something else than cells.
func (x *xlsx) noCells(attrs []xml.Attr) bool {
	for _, a := range attrs {
		if r := x.parts[a.Value]; a.Name.Local == "id" && r.Target != "" && !r.is("worksheet") {
			return true
		}
	}
	return false
}

// part is the part with the rows of sheet n.
func (x *xlsx) part(n int) (string, error) {
	s := x.workbook.Sheets[n]
	for _, a := range s.Attrs {
		if a.Name.Local != "id" {
			continue
		}
		if r := x.parts[a.Value]; r.is("worksheet") {
			return r.Target, nil
		} else if r.Target != "" {
			return "", Oddity{fmt.Sprintf("sheet %q holds a chart or the like, not cells", s.Name),
				"choose another sheet"}
		}
	}
	return "", Oddity{fmt.Sprintf("the workbook lacks the part of sheet %q", s.Name),
		"get it again, or open and save it again"}
}

// Names lists the defined names that are one area, and the tables of all sheets.
func (x *xlsx) Names() ([]NamedArea, error) {
	var all []NamedArea
	for _, n := range x.workbook.Names {
		sheet, area, ok := strings.Cut(n.Text, "!")
		if !ok {
			continue
		}
		sheet = strings.ReplaceAll(strings.TrimSuffix(strings.TrimPrefix(sheet, "'"), "'"), "''", "'")
		a, ok := ParseArea(area)
		if at := x.numberOf(sheet); ok && at >= 0 {
			all = append(all, NamedArea{Name: n.Name, Sheet: at, Area: a})
		}
	}
	for i := range x.workbook.Sheets {
		tables, err := x.tables(i)
		if err != nil {
			return nil, err
		}
		all = append(all, tables...)
	}
	return all, nil
}

func (x *xlsx) numberOf(sheet string) int {
	for i, s := range x.workbook.Sheets {
		if strings.EqualFold(s.Name, sheet) {
			return i
		}
	}
	return -1
}

// tables lists the tables in sheet n.
func (x *xlsx) tables(n int) ([]NamedArea, error) {
	part, err := x.part(n)
	if err != nil {
		return nil, nil // a chart has none
	}
	relations, err := x.relations(part)
	if err != nil {
		return nil, err
	}
	var all []NamedArea
	for _, r := range relations {
		if !r.is("table") {
			continue
		}
		var t struct {
			Name   string  `xml:"displayName,attr"`
			Ref    string  `xml:"ref,attr"`
			Header *string `xml:"headerRowCount,attr"`
			Totals int     `xml:"totalsRowCount,attr"`
		}
		if err := x.decode(r.Target, &t); err != nil {
			return nil, err
		}
		area, ok := ParseArea(t.Ref)
		if !ok {
			continue
		}
		named := NamedArea{Name: t.Name, Sheet: n, Area: area, Table: true, Header: 1, Totals: t.Totals}
		if t.Header != nil {
			named.Header, _ = strconv.Atoi(*t.Header)
		}
		all = append(all, named)
	}
	return all, nil
}

// Rows reads sheet n.
func (x *xlsx) Rows(n int) (*Rows, error) {
	part, err := x.part(n)
	if err != nil {
		return nil, err
	}
	if err := x.readStrings(); err != nil {
		return nil, err
	}
	f := member(x.zip, part)
	if f == nil {
		return nil, Oddity{"the workbook lacks its part " + part, "get it again, or open and save it again"}
	}
	from, err := inflate(f)
	if err != nil {
		return nil, err
	}
	s := &xlsxSheet{book: x, from: from, window: newWindow(from)}
	if err := s.begin(); err != nil {
		from.Close()
		return nil, err
	}
	return &Rows{source: s, next: 1}, nil
}

// readStrings reads the texts that cells share, once.
func (x *xlsx) readStrings() error {
	if x.strings != nil {
		return nil
	}
	shared := &sharedStrings{}
	for _, r := range x.parts {
		if f := member(x.zip, r.Target); r.is("sharedStrings") && f != nil {
			from, err := inflate(f)
			if err != nil {
				return err
			}
			err = shared.read(from)
			from.Close()
			if err != nil {
				return err
			}
		}
	}
	x.strings = shared
	return nil
}

func (x *xlsx) Close() error {
	if x.strings == nil {
		return nil
	}
	return x.strings.Close()
}
