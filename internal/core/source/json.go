package source

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ladle/internal/core/fault"
)

// The ways in which a text of JSON (RFC 8259) holds objects.
const (
	jsonLines  = "JSON Lines"                // one a line
	jsonArray  = "a JSON array"              // or one behind the other
	jsonMember = "an array in a JSON object" // in a member of it
)

const formatJSON = "json"

// seemsJSON reports whether a text starts as JSON does: with an object, or an array of objects.
func seemsJSON(text []byte) bool {
	text = bytes.TrimLeft(text, " \t\r\n")
	if rest, ok := bytes.CutPrefix(text, []byte{'['}); ok {
		rest = bytes.TrimLeft(rest, " \t\r\n")
		return len(rest) > 0 && (rest[0] == '{' || rest[0] == ']' && len(bytes.TrimSpace(rest)) == 1)
	}
	rest, ok := bytes.CutPrefix(text, []byte{'{'})
	if rest = bytes.TrimLeft(rest, " \t\r\n"); !ok || len(rest) == 0 {
		return false
	}
	if rest[0] == '}' {
		return true
	}
	s := &jsonScanner{raw: rest}
	if rest[0] != '"' {
		return false
	}
	if _, err := s.text(&Record{}); err != nil {
		return false
	}
	s.blanks()
	return s.at < len(rest) && rest[s.at] == ':'
}

// jsonText is a table in JSON: each object is a record, each member a column. Members of members are columns like
// agent.name.
type jsonText struct {
	*text
	way     string
	columns *jsonColumns
	open    bool // an array holds the objects
	closed  bool // and has ended
}

// beginJSON goes to the first object, and finds the columns.
func (t *text) beginJSON() (*jsonText, error) {
	others := t.asked
	others.Member, others.Encoding, others.Guess = "", "", false
	if others != (ReadOptions{}) {
		return nil, t.refuse(0,
			"this is JSON; header, footer, delimiter, quote, escape, comment, widths and short lines don't apply "+
				"to it", "delete them")
	}
	j, err := t.enterJSON()
	if err != nil {
		return nil, err
	}
	if j.columns, err = j.findColumns(); err != nil {
		return nil, err
	}
	t.header.Names = j.columns.names
	t.format.Format, t.format.JSON, t.format.Header = formatJSON, j.way, Setting{Confidence: 1}
	t.rowsOf = j.rows
	return j, nil
}

// enterJSON goes to the first object.
func (t *text) enterJSON() (*jsonText, error) {
	j := &jsonText{text: t, way: jsonLines}
	for !t.ended && len(t.rest) < maxRecord {
		if s := (&jsonScanner{raw: t.rest}); s.value(0) == nil || len(t.rest) >= jsonLook {
			break
		}
		if err := t.more(len(t.rest)); err != nil {
			return nil, err
		}
	}
	s := &jsonScanner{raw: t.rest}
	s.blanks()
	if t.asked.Member == "" && s.peek() == '[' {
		j.way, j.open = jsonArray, true
		t.pass(s.at + 1)
		return j, nil
	}
	found, err := t.members(s.at)
	if err != nil {
		return nil, err
	}
	if found.at < 0 {
		if t.asked.Member != "" {
			return nil, t.refuse(0, fmt.Sprintf("the JSON object has no member %q that holds an array of objects",
				t.asked.Member), fault.DidYouMean(t.asked.Member, found.names))
		}
		if !found.lines {
			j.way = jsonArray
		}
		return j, nil
	}
	j.way, j.open = jsonMember, true
	t.pass(found.at)
	return j, nil
}

// jsonLook is how far is looked into a text for what it holds.
const jsonLook = 1 << 20

// jsonMembers is what the first object of a text holds.
type jsonMembers struct {
	names []string // of members that hold arrays of objects
	at    int      // behind the bracket of the one that is meant; -1 for none: the object is a record
	lines bool     // each line is a record
}

// members looks into the first object of a text for the array that holds the records.
func (t *text) members(from int) (jsonMembers, error) {
	found := jsonMembers{at: -1}
	s := &jsonScanner{raw: t.rest, at: from}
	wrong := s.value(0)
	whole := wrong == nil
	if wrong != nil && !errors.Is(wrong, errCut) {
		return found, t.refuse(t.line+countLines(t.rest[:min(s.at, len(t.rest))]), "this is not JSON: "+wrong.Error(),
			"have it written by a program")
	}
	if whole && t.asked.Member == "" {
		line := t.rest[from:s.at]
		s.blanks()
		if found.lines = bytes.IndexByte(line, '\n') < 0; s.at < len(t.rest) {
			return found, nil // another one follows
		}
	}
	var places []int
	s = &jsonScanner{raw: t.rest, at: from}
	s.arrays("", func(name string, at int) { found.names, places = append(found.names, name), append(places, at) })
	switch {
	case t.asked.Member != "":
		if i := slices.Index(found.names, t.asked.Member); i >= 0 {
			found.at = places[i]
		}
	case len(places) == 1:
		found.at = places[0]
	case len(places) > 1:
		return found, t.refuse(0, "the JSON object has several members that hold arrays of objects: "+
			strings.Join(found.names, ", "), "set member: to the name of one")
	case !whole:
		return found, t.refuse(0, "this JSON object is not closed, and holds no array of objects in its first megabyte",
			"check that this is the right file")
	}
	return found, nil
}

// findColumns reads the whole text for the members of its objects.
func (j *jsonText) findColumns() (*jsonColumns, error) {
	asked := j.asked
	if asked.Encoding = j.from.is.Value; asked.Encoding == "" {
		asked.Encoding = utf8Name // all was ASCII so far
	}
	again := &text{content: j.content, asked: asked, seed: j.seed, line: 1, free: make(chan []byte, 32), format: j.format}
	if err := again.open(); err != nil {
		return nil, err
	}
	defer again.closeStreams()
	all := newJSONColumns()
	scan, err := again.enterJSON()
	if err != nil {
		return nil, err
	}
	scan.columns = all
	again.rowsOf = scan.rows
	err = Each(context.Background(), scan, func(c *Chunk) *jsonColumns {
		return c.rows.(*jsonRows).names()
	}, func(_ *Chunk, found *jsonColumns) error {
		for _, name := range found.names {
			all.add([]byte(name), len(all.names))
		}
		if len(all.names) > mostMembers {
			return j.refuse(0, fmt.Sprintf("its objects have more than %d different members", mostMembers),
				"check that each object is a row: members are columns")
		}
		return nil
	})
	if err == nil && len(all.names) == 0 {
		err = j.refuse(0, "the JSON text holds no object with a member", "check that this is the right file")
	}
	return all, err
}

const mostMembers = 5000

// Next returns the next chunk; io.EOF at the end.
func (j *jsonText) Next() (*Chunk, error) {
	if err := j.fill(); err != nil {
		return nil, err
	}
	for {
		if j.closed || len(j.rest) == 0 || j.ended && len(bytes.TrimSpace(j.rest)) == 0 {
			return nil, j.end()
		}
		end, err := j.wholeObjects()
		if err != nil {
			return nil, err
		}
		if end > 0 {
			return j.cut(end, false), nil
		}
		if j.closed {
			return nil, j.end()
		}
		if j.ended {
			return nil, j.refuse(j.line, "the JSON text ends in the middle of the object that starts here",
				"it is incomplete: get it again")
		}
		if len(j.rest) > maxRecord {
			return nil, j.refuse(j.line, "the JSON object that starts here is longer than 16 MB",
				"check that each object is a row, or set member: to the member that holds the rows")
		}
		if err := j.more(max(chunkSize, len(j.rest))); err != nil {
			return nil, err
		}
	}
}

// wholeObjects returns the length of the run of whole objects at the start of rest.
func (j *jsonText) wholeObjects() (int, error) {
	if j.way == jsonLines {
		if j.ended {
			return len(j.rest), nil
		}
		return lastEnd(j.rest), nil
	}
	s := &jsonScanner{raw: j.rest}
	end := 0
	for {
		s.between()
		switch s.peek() {
		case 0:
			return end, nil
		case ']':
			j.closed = true
			if end == 0 {
				j.pass(s.at + 1)
			}
			return end, nil
		case '{':
		default:
			return 0, j.refuse(j.line+countLines(j.rest[:s.at]), "a JSON object is expected here, which makes a row",
				"an array of other values makes no rows")
		}
		if !s.skipObject() {
			return end, nil
		}
		end = s.at
		if end > chunkSize {
			return end, nil
		}
	}
}

// end is the end of the text, or what is wrong with it.
func (j *jsonText) end() error {
	switch {
	case j.open && !j.closed:
		return j.refuse(j.line, "the JSON array is never closed", "the file is incomplete: get it again")
	case j.closed && j.way == jsonArray && len(bytes.TrimSpace(bytes.TrimPrefix(bytes.TrimSpace(j.rest),
		[]byte{']'}))) > 0:
		return j.refuse(j.line, "text follows the JSON array", "check where the file comes from")
	}
	return io.EOF
}

func (j *jsonText) rows(raw []byte, o Origin) rows {
	return &jsonRows{jsonScanner: jsonScanner{raw: raw}, line: o.Line, columns: j.columns, lines: j.way == jsonLines,
		path: j.path, doubts: j.from.is.Value != "" && notUTF8(raw) != nil}
}
