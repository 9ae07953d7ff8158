// Package page makes self-contained HTML pages: the report of a load, and the picture of the tables of a database. They
// need no network and no script, follow the light or dark of the reader, and can be read by keyboard and screen reader.
package page

import (
	"embed"
	"fmt"
	"html/template"
	"io"
	"strings"
	"sync"

	"ladle/internal/core/reason"
	"ladle/internal/core/report"
	"ladle/internal/core/schema"
	"ladle/internal/term"
)

//go:embed style.css load.html tables.html changes.html dictionary.html
var files embed.FS

// pages are the templates of all pages. They are read when the first page is made: few commands make one.
var pages = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("").Funcs(template.FuncMap{
		"style":   func() template.CSS { b, _ := files.ReadFile("style.css"); return template.CSS(b) }, // it is embedded
		"start":   func() template.HTML { return Start },
		"count":   term.Count,
		"plural":  reason.Plural,
		"join":    strings.Join,
		"list":    func(names []string) string { return strings.Join(names, ", ") },
		"add":     func(a, b int) int { return a + b },
		"seconds": func(s float64) string { return fmt.Sprintf("%.2f s", s) },
		"anchor":  anchor,
		"visible": term.Safe,
	}).ParseFS(files, "*.html"))
})

// Start is what each page starts with.
const Start = "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n" +
	"<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n" +
	"<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'\">\n"

// Load writes the report of a load.
func Load(to io.Writer, r *report.Report, program string) error {
	return pages().ExecuteTemplate(to, "load.html", newLoadView(r, program))
}

// Tables writes the picture of the tables of a database.
func Tables(to io.Writer, o *schema.Outline, program string) error {
	return pages().ExecuteTemplate(to, "tables.html", newTablesView(o, program))
}

// anchor is the id of a table's section: its name, with what is no letter or digit of ASCII as a number.
func anchor(name string) string {
	var b strings.Builder
	b.WriteString("t-")
	for _, r := range name {
		if r == '_' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' {
			b.WriteRune(r)
			continue
		}
		fmt.Fprintf(&b, "-%x-", r)
	}
	return b.String()
}
