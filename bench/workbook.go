package main

import (
	"archive/zip"
	"bufio"
	"fmt"
	"io"
	"os"

	"ladle/demo"
)

const workbookRows = 500_000 // with ten cells each

// writeWorkbook writes calls of the harbour as a workbook of ten columns, in the way that office suites write them.
func writeWorkbook(path, format string, rows int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	z := zip.NewWriter(f)
	w := &bookWriter{zip: z, harbour: demo.NewHarbour(0, rows, 1), rows: rows, texts: map[string]int{}}
	if format == "xlsx" {
		err = w.xlsx()
	} else {
		err = w.ods()
	}
	if err == nil {
		err = z.Close()
	}
	if err == nil {
		err = f.Close()
	}
	return err
}

type bookWriter struct {
	zip     *zip.Writer
	harbour demo.Harbour
	rows    int64
	texts   map[string]int
	order   []string
}

// call is a row: its texts, numbers and days.
type call struct {
	texts   [4]string
	numbers [4]string
	days    [2]int64 // since 1899-12-30
}

func (w *bookWriter) call(n int64) call {
	c := w.harbour.CallNo(n)
	v := w.harbour.VesselNo(c.Vessel)
	const day = 24 * 3600
	return call{[4]string{v.RegNo, v.Name, fmt.Sprintf("B%d", c.Berth), fmt.Sprintf("call %d", n)},
		[4]string{fmt.Sprintf("%d.%d", v.GT/10, v.GT%10), fmt.Sprint(v.Built),
			fmt.Sprintf("%d.%02d", c.Dues/100, c.Dues%100), fmt.Sprint(n)},
		[2]int64{c.Arrived.Unix()/day + 25569, c.Departed.Unix()/day + 25569}}
}

var columnNames = [10]string{"Reg. No.", "Vessel", "Berth", "Call", "GT", "Built", "Dues", "No.", "Arrived", "Departed"}

func (w *bookWriter) part(name string, write func(io.Writer)) error {
	p, err := w.zip.Create(name)
	if err != nil {
		return err
	}
	b := bufio.NewWriter(p)
	write(b)
	return b.Flush()
}

func (w *bookWriter) number(text string) int {
	n, known := w.texts[text]
	if !known {
		n = len(w.order)
		w.texts[text], w.order = n, append(w.order, text)
	}
	return n
}

func (w *bookWriter) xlsx() error {
	const office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	plain := map[string]string{
		"[Content_Types].xml": `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"/>`,
		"_rels/.rels": `<Relationships><Relationship Id="rId1" Type="` + office +
			`/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml": `<workbook xmlns:r="` + office +
			`"><sheets><sheet name="Calls" sheetId="1" r:id="rId1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="rId1" Type="` + office +
			`/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" Type="` + office +
			`/sharedStrings" Target="sharedStrings.xml"/><Relationship Id="rId3" Type="` + office +
			`/styles" Target="styles.xml"/></Relationships>`,
		"xl/styles.xml": `<styleSheet><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs></styleSheet>`,
	}
	for name, content := range plain {
		if err := w.part(name, func(p io.Writer) { io.WriteString(p, content) }); err != nil {
			return err
		}
	}
	err := w.part("xl/worksheets/sheet1.xml", func(p io.Writer) {
		io.WriteString(p, `<?xml version="1.0" encoding="UTF-8"?><worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData><row r="1" spans="1:10">`)
		for i, name := range columnNames {
			fmt.Fprintf(p, `<c r="%c1" t="s"><v>%d</v></c>`, 'A'+i, w.number(name))
		}
		for n := range w.rows {
			c, row := w.call(n), n+2
			fmt.Fprintf(p, `</row><row r="%d" spans="1:10">`, row)
			for i, text := range c.texts {
				fmt.Fprintf(p, `<c r="%c%d" t="s"><v>%d</v></c>`, 'A'+i, row, w.number(text))
			}
			for i, number := range c.numbers {
				fmt.Fprintf(p, `<c r="%c%d"><v>%s</v></c>`, 'E'+i, row, number)
			}
			for i, day := range c.days {
				fmt.Fprintf(p, `<c r="%c%d" s="1"><v>%d</v></c>`, 'I'+i, row, day)
			}
		}
		io.WriteString(p, `</row></sheetData></worksheet>`)
	})
	if err != nil {
		return err
	}
	return w.part("xl/sharedStrings.xml", func(p io.Writer) {
		io.WriteString(p, `<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">`)
		for _, text := range w.order {
			fmt.Fprintf(p, `<si><t>%s</t></si>`, text)
		}
		io.WriteString(p, `</sst>`)
	})
}

func (w *bookWriter) ods() error {
	if err := w.part("mimetype", func(p io.Writer) {
		io.WriteString(p,
			"application/vnd.oasis.opendocument.spreadsheet")
	}); err != nil {
		return err
	}
	if err := w.part("meta.xml", func(p io.Writer) {
		io.WriteString(p, `<office:document-meta><office:meta><meta:document-statistic meta:table-count="1"/></office:meta></office:document-meta>`)
	}); err != nil {
		return err
	}
	return w.part("content.xml", func(p io.Writer) {
		io.WriteString(p, `<?xml version="1.0" encoding="UTF-8"?><office:document-content><office:body><office:spreadsheet><table:table table:name="Calls">`)
		row := func(cells func()) {
			io.WriteString(p, `<table:table-row table:style-name="ro1">`)
			cells()
			io.WriteString(p, `</table:table-row>`)
		}
		text := func(s string) {
			fmt.Fprintf(p, `<table:table-cell office:value-type="string" calcext:value-type="string"><text:p>%s</text:p></table:table-cell>`, s)
		}
		row(func() {
			for _, name := range columnNames {
				text(name)
			}
		})
		for n := range w.rows {
			row(func() {
				c := w.call(n)
				for _, s := range c.texts {
					text(s)
				}
				for _, number := range c.numbers {
					fmt.Fprintf(p, `<table:table-cell office:value-type="float" office:value="%s" calcext:value-type="float"><text:p>%s</text:p></table:table-cell>`, number, number)
				}
				for _, at := range []string{w.harbour.CallNo(n).Arrived.Format("2006-01-02"),
					w.harbour.CallNo(n).Departed.Format("2006-01-02")} {
					fmt.Fprintf(p, `<table:table-cell table:style-name="ce1" office:value-type="date" office:date-value="%s" calcext:value-type="date"><text:p>%s</text:p></table:table-cell>`, at, at)
				}
			})
		}
		io.WriteString(p, `</table:table></office:spreadsheet></office:body></office:document-content>`)
	})
}
