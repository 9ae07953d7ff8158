package text

import "regexp/syntax"

// MostGroups is the number of groups up to which a pattern may be straight.
const MostGroups = 9

// Straight is a pattern in which the next character always says how to go on, as in ^(\d+)-(\d+)$: it is a sequence of
// characters and classes, each of them once or repeated, and none is repeated that what follows could begin with. A text of
// ASCII is matched from left to right, without a way back.
type Straight struct {
	items      []item
	groups     int
	start, end bool // it matches only from the start of the text, or only to its end
}

// item is a class of characters of ASCII, so many times; where it is nothing, it is the start or the end of groups.
type item struct {
	class       class
	least, most int // most is -1 for any number
	mark        int // the place in the result for where a group starts or ends; -1 for a class
}

// class has the characters of ASCII that it is made of. It is as wide as a byte, so that no bound needs to be checked.
type class [256]bool

// StraightOf returns a pattern (RE2, github.com/google/re2/wiki/Syntax) as a straight one; nil for one that isn't, or may
// match nothing anywhere.
func StraightOf(pattern string) *Straight {
	parsed, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil
	}
	s := &Straight{groups: parsed.MaxCap()}
	if s.groups > MostGroups || !s.add(parsed) {
		return nil
	}
	least := 0
	for i, it := range s.items {
		least += it.least
		if it.mark < 0 && it.least != it.most && s.follows(i) {
			return nil
		}
	}
	if least == 0 && !(s.start && s.end) {
		return nil
	}
	return s
}

// add adds a part of a pattern, and reports whether it may be in a straight one.
func (s *Straight) add(re *syntax.Regexp) bool {
	if s.end { // nothing can follow
		return false
	}
	if class, ok := classOf(re); ok {
		s.items = append(s.items, item{class: class, least: 1, most: 1, mark: -1})
		return true
	}
	switch re.Op {
	case syntax.OpBeginText:
		if len(s.items) > 0 {
			return false
		}
		s.start = true
	case syntax.OpEndText:
		s.end = true
	case syntax.OpEmptyMatch:
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			if !s.add(&syntax.Regexp{Op: syntax.OpLiteral, Rune: []rune{r}, Flags: re.Flags}) {
				return false
			}
		}
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			if !s.add(sub) {
				return false
			}
		}
	case syntax.OpCapture:
		s.items = append(s.items, item{mark: 2 * re.Cap})
		if !s.add(re.Sub[0]) || s.end {
			return false
		}
		s.items = append(s.items, item{mark: 2*re.Cap + 1})
	default:
		return s.repeat(re)
	}
	return true
}

// repeat adds a class that is repeated, as often as it goes.
func (s *Straight) repeat(re *syntax.Regexp) bool {
	least, most := re.Min, re.Max
	switch re.Op {
	case syntax.OpStar:
		least, most = 0, -1
	case syntax.OpPlus:
		least, most = 1, -1
	case syntax.OpQuest:
		least, most = 0, 1
	case syntax.OpRepeat:
	default:
		return false
	}
	class, ok := classOf(re.Sub[0])
	if !ok || re.Flags&syntax.NonGreedy != 0 {
		return false
	}
	s.items = append(s.items, item{class: class, least: least, most: most, mark: -1})
	return true
}

// classOf is a part of a pattern that is one character, as those of ASCII that it may be.
func classOf(re *syntax.Regexp) (c class, ok bool) {
	put := func(from, to rune) {
		for r := from; r <= min(to, 127); r++ {
			c[r] = true
		}
	}
	switch {
	case re.Op == syntax.OpAnyChar:
		put(0, 127)
	case re.Op == syntax.OpAnyCharNotNL:
		put(0, '\n'-1)
		put('\n'+1, 127)
	case re.Op == syntax.OpCharClass:
		for i := 0; i < len(re.Rune); i += 2 {
			put(re.Rune[i], re.Rune[i+1])
		}
	case re.Op == syntax.OpLiteral && len(re.Rune) == 1:
		r := re.Rune[0]
		put(r, r)
		if letter := r | 0x20; re.Flags&syntax.FoldCase != 0 && 'a' <= letter && letter <= 'z' {
			put(letter, letter)
			put(letter-0x20, letter-0x20)
		}
		if re.Flags&syntax.FoldCase != 0 && r > 127 { // it may stand for one of ASCII
			return c, false
		}
	default:
		return c, false
	}
	return c, true
}

// follows reports whether what comes behind item i may begin with a character of its class.
func (s *Straight) follows(i int) bool {
	for _, next := range s.items[i+1:] {
		if next.mark >= 0 {
			continue
		}
		for character, there := range next.class {
			if there && s.items[i].class[character] {
				return true
			}
		}
		if next.least > 0 {
			return false
		}
	}
	return false
}

// Groups are where a match, and what its groups hold, start and end, as the package regexp gives them.
type Groups [2*MostGroups + 2]int

// Match finds the first match in a text of ASCII, from a place on, and sets g to where it stands.
func (s *Straight) Match(ascii []byte, from int, g *Groups) (found bool) {
	for ; from <= len(ascii); from++ {
		if s.start && from > 0 {
			return false
		}
		if s.matchAt(ascii, from, g) {
			return true
		}
	}
	return false
}

func (s *Straight) matchAt(ascii []byte, from int, g *Groups) bool {
	at := from
	for i := range s.items {
		it := &s.items[i]
		if it.mark >= 0 {
			g[it.mark] = at
			continue
		}
		end := len(ascii)
		if it.most >= 0 {
			end = min(end, at+it.most)
		}
		begun := at
		for at < end && it.class[ascii[at]] {
			at++
		}
		if at-begun < it.least {
			return false
		}
	}
	g[0], g[1] = from, at
	return !s.end || at == len(ascii)
}
