package source

import "bytes"

// names returns the members of the objects in a chunk, in the order in which they come. It looks for nothing else: what
// is wrong with an object is found when it is read.
func (s *jsonRows) names() *jsonColumns {
	all := newJSONColumns()
	var r Record
	for {
		if s.between(); s.at >= len(s.raw) || s.raw[s.at] != '{' {
			if s.lines && s.at < len(s.raw) {
				s.nextLine()
				continue
			}
			return all
		}
		s.likely, s.name = 0, s.name[:0]
		if !s.namesOf(all, &r, 0) {
			if !s.lines {
				return all
			}
			s.nextLine()
		}
		r.buf = r.buf[:0]
	}
}

// namesOf adds the members of the object at raw[at]; false when it can't be read.
func (s *jsonRows) namesOf(all *jsonColumns, r *Record, depth int) bool {
	raw, outer := s.raw, len(s.name)
	s.at++
	for first := true; ; first = false {
		s.blanks()
		if first && s.peek() == '}' {
			s.at++
			return true
		}
		if s.peek() != '"' {
			return false
		}
		if depth == 0 {
			if s.passExpected(all.names); s.peek() != '"' {
				if more, ok := s.endMember(); !more {
					return ok
				}
				continue
			}
		}
		name, err := s.text(r)
		if s.blanks(); err != nil || s.peek() != ':' || depth > deepest {
			return false
		}
		s.at++
		s.blanks()
		if outer > 0 || s.peek() == '{' {
			s.name = append(s.name[:outer], name...)
			name = s.name
		}
		switch c := s.peek(); {
		case c == '{':
			s.name = append(s.name, '.')
			if !s.namesOf(all, r, depth+1) {
				return false
			}
			s.name = s.name[:outer]
		default:
			s.likely = all.add(name, s.likely) + 1
			if c == '"' || c == '[' {
				if !s.skipValue() {
					return false
				}
				break
			}
			for s.at < len(raw) && raw[s.at] != ',' && raw[s.at] != '}' && raw[s.at] > ' ' {
				s.at++
			}
		}
		if more, ok := s.endMember(); !more {
			return ok
		}
	}
}

// endMember goes behind what ends a member: more says that another one follows, ok that this or the end of the object
// does.
func (s *jsonScanner) endMember() (more, ok bool) {
	s.blanks()
	c := s.peek()
	s.at++
	return c == ',', c == ',' || c == '}'
}

// passExpected goes over members from raw[at] on, as long as they are the next ones that are known and hold plain texts
// or numbers: to the quote of the next one, or behind the last.
func (s *jsonRows) passExpected(names []string) {
	raw := s.raw
	for s.likely < len(names) {
		name := names[s.likely]
		at := s.at + 1 + len(name)
		if at+2 >= len(raw) || raw[at] != '"' || raw[at+1] != ':' || string(raw[s.at+1:at]) != name {
			return
		}
		if at += 2; raw[at] == '"' {
			end := bytes.IndexByte(raw[at+1:], '"')
			if end < 0 || end > 0 && raw[at+end] == '\\' {
				return
			}
			at += end + 2
		} else if c := raw[at]; c != '-' && (c < '0' || c > '9') {
			return
		} else {
			for at < len(raw) && raw[at] != ',' && raw[at] != '}' && raw[at] > ' ' {
				at++
			}
		}
		s.likely, s.at = s.likely+1, at
		if at+1 >= len(raw) || raw[at] != ',' || raw[at+1] != '"' {
			return
		}
		s.at++
	}
}

// skipValue goes behind the text or array at raw[at]; false when it isn't whole.
func (s *jsonScanner) skipValue() bool {
	if s.peek() == '[' {
		return s.skipObject()
	}
	for at := plainText(s.raw, s.at+1); at < len(s.raw); at = plainText(s.raw, at+1) {
		switch s.raw[at] {
		case '"':
			s.at = at + 1
			return true
		case '\\':
			at++
		}
	}
	return false
}
