package source

import (
	"bytes"
	"fmt"

	"ladle/internal/core/fault"
)

// jsonRows reads objects.
type jsonRows struct {
	jsonScanner
	path    string
	line    int64
	counted int // the bytes whose lines are in line
	columns *jsonColumns
	lines   bool
	doubts  bool // not all is valid UTF-8
	likely  int  // the column that the next member could be
	name    []byte
	seen    []int64 // for each column the record that had it last
	count   int64   // of the record
}

// at which line the scanner is.
func (s *jsonRows) lineAt(at int) int64 {
	s.line += countLines(s.raw[s.counted:at])
	s.counted = at
	return s.line
}

func (s *jsonRows) next(c *Chunk, r *Record) bool {
	s.between()
	if s.at >= len(s.raw) || s.raw[s.at] == ']' {
		return false
	}
	start := s.at
	r.Position = s.lineAt(start)
	r.Fields, r.Stored = blank(r.Fields, len(s.columns.names)), blank(r.Stored, len(s.columns.names))
	s.count++
	if s.seen == nil {
		s.seen = make([]int64, len(s.columns.names))
	}
	s.likely, s.name = 0, s.name[:0]
	err := s.object(r, 0)
	if err == nil && s.lines {
		s.inline()
		if s.at < len(s.raw) && s.raw[s.at] != '\n' && s.raw[s.at] != '\r' {
			err = s.wrong("text follows the object")
		}
	}
	if err != nil {
		if !s.lines {
			c.err = fault.At(fault.Refused, fault.Problem{File: s.path, Line: int(s.lineAt(s.at)),
				What: "this is not JSON: " + err.Error(), Do: "have it written by a program"})
			return false
		}
		s.at = start
		s.nextLine()
		r.Problem = unreadableJSON(err)
		r.Raw = bytes.TrimRight(s.raw[start:s.at], "\r\n")
		return true
	}
	if s.doubts {
		r.Problem = notUTF8(s.raw[start:s.at])
	}
	r.Raw = nil
	return true
}

// object reads the object at raw[at] into the fields of a record; its members' names go behind name.
func (s *jsonRows) object(r *Record, depth int) error {
	if depth > deepest {
		return s.wrong("it is nested too deeply")
	}
	if s.peek() != '{' {
		return s.wrong("an object is expected")
	}
	s.at++
	outer := len(s.name)
	for first := true; ; first = false {
		s.blanks()
		if s.peek() == '}' && first {
			break
		}
		if s.peek() != '"' {
			return s.wrong("the name of a member is expected")
		}
		if depth == 0 && s.expected(r) {
			s.blanks()
			if s.peek() == '}' {
				break
			}
			if s.peek() != ',' {
				return s.wrong("a comma or } is expected")
			}
			s.at++
			continue
		}
		name, err := s.text(r)
		if err != nil {
			return err
		}
		s.name = append(s.name, name...)
		if s.blanks(); s.peek() != ':' {
			return s.wrong("a colon is expected")
		}
		s.at++
		s.blanks()
		if s.peek() == '{' {
			s.name = append(s.name, '.')
			err = s.object(r, depth+1)
		} else {
			err = s.member(r)
		}
		if err != nil {
			return err
		}
		s.name = s.name[:outer]
		s.blanks()
		if c := s.peek(); c == '}' {
			break
		} else if c != ',' {
			return s.wrong("a comma or } is expected")
		}
		s.at++
	}
	s.at++
	return nil
}

// expected reads members from raw[at] on, as long as they are the next columns and are plain texts or numbers, and
// reports whether there were any. It is what most objects consist of, and does nothing that object doesn't.
func (s *jsonRows) expected(r *Record) (any bool) {
	for s.likely < len(s.columns.names) {
		if !s.expectedMember(r, s.columns.names[s.likely]) {
			break
		}
		s.likely, any = s.likely+1, true
		if s.at+1 >= len(s.raw) || s.raw[s.at] != ',' || s.raw[s.at+1] != '"' {
			return true
		}
		s.at++
	}
	if any {
		s.at-- // at the comma
	}
	return any
}

// expectedMember reads the member at raw[at], if it has that name and is a plain text or number.
func (s *jsonRows) expectedMember(r *Record, name string) bool {
	raw, at := s.raw, s.at+1
	end := at + len(name)
	if end+2 >= len(raw) || raw[end] != '"' || raw[end+1] != ':' || string(raw[at:end]) != name {
		return false
	}
	at = end + 2
	kind := StoredText
	if raw[at] == '"' {
		at++
		if end = plainText(raw, at); end >= len(raw) || raw[end] != '"' {
			return false
		}
		if end == at {
			kind = StoredBlank
		}
		s.at = end + 1
	} else {
		before := s.at
		s.at = at
		if _, exponent, err := s.number(); err != nil || exponent {
			s.at = before
			return false
		}
		end, kind = s.at, StoredNumber
	}
	r.Fields[s.likely], r.Stored[s.likely], s.seen[s.likely] = raw[at:end:end], kind, s.count
	return true
}

// member reads a value that is no object into its field.
func (s *jsonRows) member(r *Record) error {
	at := s.columns.near(s.name, s.likely)
	if at < 0 {
		return s.wrong(fmt.Sprintf("the member %q can't be read; the encoding of the file may be another one", s.name))
	}
	s.likely = at + 1
	if s.seen[at] == s.count {
		return s.wrong(fmt.Sprintf("the member %q occurs twice in an object", s.name))
	}
	s.seen[at] = s.count
	var err error
	r.Fields[at], r.Stored[at], err = s.scalar(r)
	return err
}

// jsonColumns are the members that objects have, by their names.
type jsonColumns struct {
	names []string
	index map[string]int
}

func newJSONColumns() *jsonColumns { return &jsonColumns{index: map[string]int{}} }

// near returns the column with a name, which is likely at a position; -1 for none.
func (c *jsonColumns) near(name []byte, likely int) int {
	if likely < len(c.names) && c.names[likely] == string(name) {
		return likely
	}
	if at, ok := c.index[string(name)]; ok {
		return at
	}
	return -1
}

// add adds a column, if there is none with that name, and returns its position.
func (c *jsonColumns) add(name []byte, likely int) int {
	at := c.near(name, likely)
	if at < 0 {
		at = len(c.names)
		c.names = append(c.names, string(name))
		c.index[c.names[at]] = at
	}
	return at
}
