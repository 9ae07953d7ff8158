package source

import (
	"bytes"
	"math"
	"strings"
)

// sampled is the number of records by which dialect and header are judged.
const sampled = 300

// delimiters are those that are looked for, the usual ones first.
const delimiters = ",;\t|\x1f^~"

// judgeDialect finds how fields stand in a text, by its first lines; what asked says is taken. The guess is of the
// delimiter; it is "none" for a text of one column.
func judgeDialect(text []byte, asked ReadOptions) (Dialect, Setting) {
	tried := delimiters
	o := oddOf(asked)
	if asked.Delimiter != "" {
		tried = asked.Delimiter[:1]
	} else if asked.Widths != "" {
		return Dialect{Delimiter: ','}, Setting{Value: "fixed widths", Confidence: 1, Given: true}
	} else if line, _, _ := bytes.Cut(text, []byte{'\n'}); len(line) >= 5 && len(line) <= 6 &&
		bytes.HasPrefix(line, []byte("sep=")) {
		tried = string(line[4:5]) // the file says it
	}
	best, bestScore, second := Dialect{tried[0], quotes(text, asked)[0]}, 0.0, 0.0
	for _, delimiter := range []byte(tried) {
		top, brokenBefore := 0.0, 0
		for _, quote := range quotes(text, asked) {
			d := Dialect{delimiter, quote}
			score, broken := d.score(text, o)
			if quote == 0 && asked.Quote == "" && brokenBefore < 2 {
				continue // one broken quote is a mistake, not the way of the file
			}
			brokenBefore = broken
			top = max(top, score)
			if score > bestScore+1e-9 {
				if best.Delimiter != delimiter {
					second = bestScore
				}
				best, bestScore = d, score
			}
		}
		if delimiter != best.Delimiter {
			second = max(second, top)
		}
	}
	switch {
	case asked.Delimiter != "":
		if bestScore == 0 {
			best.Quote = quotes(text, asked)[0]
		}
		return best, Setting{Value: asked.Delimiter, Confidence: 1, Given: true}
	case bestScore == 0:
		best.Quote = quotes(text, asked)[0]
		return best, Setting{Value: "none", Confidence: 0.9}
	}
	return best, Setting{Value: string(best.Delimiter), Confidence: min(0.99,
		math.Round(100*(bestScore-second)/bestScore)/100)}
}

// quotes are the quotes that text could use.
func quotes(text []byte, asked ReadOptions) []byte {
	switch asked.Quote {
	case "":
	case "none":
		return []byte{0}
	default:
		return []byte{asked.Quote[0]}
	}
	could := []byte{'"'}
	if bytes.IndexByte(text, '"') >= 0 {
		could = append(could, 0)
	}
	if n := bytes.Count(text, []byte{'\''}); n >= 4 && n%2 == 0 {
		could = append(could, '\'')
	}
	return could
}

// score is how well text stands in the dialect, from 0 for not at all to 1: whether its lines have the same number of
// fields, more than one, without broken quotes (a title may have one), and whether fields look like whole values.
// broken is the number of records with broken quotes.
func (d Dialect) score(text []byte, o *odd) (score float64, broken int) {
	l := newLines(text, d, 1, 0)
	l.odd = o
	var r Record
	widths, records, fields, whole := map[int]int{}, 0, 0, 0
	for records < sampled && l.at < len(text) {
		if l.skipComments(); l.at == len(text) {
			break
		}
		start := l.at
		r.Fields, r.Problem, r.buf = r.Fields[:0], nil, r.buf[:0]
		end, open := l.read(&r)
		if end == start {
			continue
		}
		if open >= 0 {
			r.Problem = strayQuote
		}
		records++
		widths[len(r.Fields)]++
		if r.Problem != nil {
			broken++
			continue
		}
		for _, f := range r.Fields {
			fields++
			if d.isWhole(f) {
				whole++
			}
		}
	}
	width, most := 0, 0
	for w, n := range widths {
		if n > most || n == most && w > width {
			width, most = w, n
		}
	}
	if width < 2 || fields == 0 {
		return 0, broken
	}
	even, looks := float64(most)/float64(records), float64(whole)/float64(fields)
	return even * looks * looks * (1 - float64(max(0, broken-1))/float64(records)) * (1 - 1/float64(width)), broken
}

// isWhole reports whether a field looks like one value: not like several that another delimiter parts, nor like one
// with quotes left over.
func (d Dialect) isWhole(field []byte) bool {
	if typed(string(field)) {
		return true
	}
	if len(field) > 0 && (d.Quote == 0 && field[0] == '"' || d.Quote != '\'' && field[0] == '\'') {
		return false
	}
	for i, c := range field {
		if c != d.Delimiter && strings.IndexByte(delimiters, c) >= 0 &&
			(c != ',' || i+1 < len(field) && field[i+1] != ' ') {
			return false
		}
	}
	return true
}

// typed reports whether a cell looks like a number, a date or a time, however it is written.
func typed(cell string) bool {
	digits := 0
	for _, c := range cell {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case strings.ContainsRune(" .,'/:-+()%€$£¥\u00a0TZ", c):
		default:
			return false
		}
	}
	return digits > 0
}

// DialectOf is the dialect in which records of t can be written down: its own, or that of RFC 4180 for a table that
// has none, or several.
func DialectOf(t Table) Dialect {
	if only, ok := bare(t).(*text); ok && !only.odd.slow() {
		return only.dialect
	}
	return Dialect{',', '"'}
}

// Line writes fields as a line, without its end. Without a quote, what can't stand in a field becomes a blank.
func (d Dialect) Line(fields ...string) string {
	var b strings.Builder
	for i, f := range fields {
		if i > 0 {
			b.WriteByte(d.Delimiter)
		}
		b.WriteString(d.field(f))
	}
	return b.String()
}

func (d Dialect) field(f string) string {
	special := string([]byte{d.Delimiter, '\r', '\n'})
	switch {
	case d.Quote == 0:
		return strings.Map(func(c rune) rune {
			if strings.ContainsRune(special, c) {
				return ' '
			}
			return c
		}, f)
	case strings.ContainsAny(f, special+string(d.Quote)):
		quote := string(d.Quote)
		return quote + strings.ReplaceAll(f, quote, quote+quote) + quote
	}
	return f
}

// Record writes a record of t as a line, without its end: as it stands in the file where it is of this dialect.
func (d Dialect) Record(t Table, r *Record) string {
	if only, ok := bare(t).(*text); ok && r.Raw != nil && !only.odd.slow() {
		return string(r.Raw)
	}
	if r.Problem != nil && r.Raw != nil {
		return d.field(string(r.Raw))
	}
	fields := make([]string, len(r.Fields))
	for i, f := range r.Fields {
		fields[i] = string(f)
	}
	return d.Line(fields...)
}
