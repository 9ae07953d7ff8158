package sheet

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
)

// ods is a workbook of OpenDocument.
type ods struct {
	content *zip.File
	sheets  []Info
	names   []NamedArea
	listed  bool
	single  bool // the workbook says that it has only one sheet
}

func openODS(z *zip.Reader) (Book, error) {
	if m := member(z, "META-INF/manifest.xml"); m != nil {
		manifest, err := readAll(m, maxPart)
		if err != nil {
			return nil, err
		}
		if strings.Contains(string(manifest), "encryption-data") {
			return nil, Oddity{"the workbook is locked with a password", "save it without one"}
		}
	}
	content := member(z, "content.xml")
	if content == nil {
		return nil, Oddity{"the workbook lacks its part content.xml", "get it again, or open and save it again"}
	}
	o := &ods{content: content}
	if m := member(z, "meta.xml"); m != nil {
		meta, err := readAll(m, maxPart)
		if err != nil {
			return nil, err
		}
		o.single = bytes.Contains(meta, []byte(`table-count="1"`))
	}
	return o, nil
}

func (o *ods) Format() string { return "ods" }

// Sheets lists the sheets. They stand with all their rows in one part, so this reads through it, unless the workbook
// says that it has only one (ODF 1.3 part 3, 4.3.2.18); that is looked at when its rows were read.
func (o *ods) Sheets() ([]Info, error) {
	if o.single && !o.listed {
		s, err := o.open()
		if err != nil {
			return nil, err
		}
		defer s.Close()
		if found, err := s.nextTable(); err != nil || found {
			return []Info{s.info}, err
		}
	}
	err := o.list()
	return o.sheets, err
}

// Names lists the named ranges and database ranges.
func (o *ods) Names() ([]NamedArea, error) {
	err := o.list()
	return o.names, err
}

// list reads through the part for the names in it.
func (o *ods) list() error {
	if o.listed {
		return nil
	}
	s, err := o.open()
	if err != nil {
		return err
	}
	defer s.Close()
	for {
		found, err := s.nextTable()
		if err != nil {
			return err
		}
		if !found {
			break
		}
		o.sheets = append(o.sheets, s.info)
		if err := s.skipTable(); err != nil {
			return err
		}
	}
	for _, r := range s.ranges {
		if n, ok := o.named(r[0], r[1]); ok {
			o.names = append(o.names, n)
		}
	}
	o.listed = true
	if len(o.sheets) == 0 {
		return Oddity{"the workbook has no sheets", "check that this is the right file"}
	}
	return nil
}

// open starts to read the part with the sheets.
func (o *ods) open() (*odsSheet, error) {
	from, err := inflate(o.content)
	if err != nil {
		return nil, err
	}
	return &odsSheet{from: from, window: newWindow(from), hidden: map[string]bool{}}, nil
}

// named reads the address of a range: $Register.$A$4:.$K$900 (ODF 1.3 part 3, 18.3.5).
func (o *ods) named(name, address string) (NamedArea, bool) {
	first, last, several := strings.Cut(address, ":")
	dot := strings.LastIndexByte(first, '.')
	if dot < 0 {
		return NamedArea{}, false
	}
	sheet := strings.ReplaceAll(strings.Trim(strings.TrimPrefix(first[:dot], "$"), "'"), "''", "'")
	cells := first[dot+1:]
	if several {
		cells += ":" + last[strings.LastIndexByte(last, '.')+1:]
	}
	area, ok := ParseArea(cells)
	for i, s := range o.sheets {
		if s.Name == sheet && ok {
			return NamedArea{Name: name, Sheet: i, Area: area}, true
		}
	}
	return NamedArea{}, false
}

// Rows reads sheet n.
func (o *ods) Rows(n int) (*Rows, error) {
	s, err := o.open()
	if err != nil {
		return nil, err
	}
	s.single = o.single && !o.listed
	for at := 0; ; at++ {
		found, err := s.nextTable()
		if err == nil && !found {
			err = Oddity{fmt.Sprintf("the workbook has no sheet number %d", n+1), "choose another sheet"}
		}
		if err == nil && at < n {
			err = s.skipTable()
		}
		if err != nil {
			s.Close()
			return nil, err
		}
		if at == n {
			return &Rows{source: s, next: 1}, nil
		}
	}
}

func (o *ods) Close() error { return nil }

// nextTable goes to the next sheet and notes what its tag says; false behind the last.
func (s *odsSheet) nextTable() (bool, error) {
	style := ""
	for {
		t, err := s.window.tag()
		if err == io.EOF {
			if !s.whole {
				return false, errTruncated
			}
			return false, nil
		}
		if err != nil {
			return false, err
		}
		if t.close {
			s.whole = s.whole || string(t.name) == "spreadsheet"
			continue
		}
		switch string(t.name) {
		case "style":
			style = attribute(t, "name")
		case "table-properties":
			if attribute(t, "display") == "false" {
				s.hidden[style] = true
			}
		case "named-range":
			s.named(t, "name", "cell-range-address")
		case "database-range":
			s.named(t, "name", "target-range-address")
		case "table":
			return true, s.table(t)
		}
	}
}

func attribute(t *tagReader, want string) string {
	found := ""
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		if string(name) == want {
			found = string(unescape(nil, value))
		}
	}
	return found
}

func (s *odsSheet) named(t *tagReader, nameAttr, addressAttr string) {
	var r [2]string
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		switch string(name) {
		case nameAttr:
			r[0] = string(unescape(nil, value))
		case addressAttr:
			r[1] = string(unescape(nil, value))
		}
	}
	if r[0] != "" {
		s.ranges = append(s.ranges, r)
	}
}

// table notes what the start tag of a sheet says.
func (s *odsSheet) table(t *tagReader) error {
	s.prefix = prefixOf(t.b)
	s.info, s.known, s.column = Info{}, SheetNotes{}, 0
	for name, value, more := t.attr(); more; name, value, more = t.attr() {
		switch string(name) {
		case "name":
			s.info.Name = string(unescape(nil, value))
		case "style-name":
			s.info.Hidden = s.hidden[string(value)]
		}
	}
	s.ended = t.empty
	return nil
}

// skipTable goes behind the sheet.
func (s *odsSheet) skipTable() error {
	if s.ended {
		return nil
	}
	end := []byte("</" + s.prefix + "table>")
	for {
		if at := indexFrom(s.window.b, s.window.at, end); at >= 0 {
			s.window.at = at + len(end)
			return nil
		}
		s.window.at = max(s.window.at, len(s.window.b)-len(end)+1)
		if err := s.window.more(blockSize); err != nil {
			return truncated(err)
		}
	}
}
