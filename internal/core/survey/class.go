package survey

// class is a kind of character that matters for what a cell can be.
type class uint16

const (
	classDigit class = 1 << iota
	classLetter
	classBlank
	classPoint // . and ,
	classDash  // -
	classSlash // /
	classColon // :
	classAt    // @
	classControl
	classWide // a byte of a character outside of ASCII
	classOther
)

// classes has the class of each byte.
var classes = func() (all [256]class) {
	for c := range all {
		switch {
		case c >= '0' && c <= '9':
			all[c] = classDigit
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z':
			all[c] = classLetter
		case c == ' ':
			all[c] = classBlank
		case c == '.' || c == ',':
			all[c] = classPoint
		case c == '-':
			all[c] = classDash
		case c == '/':
			all[c] = classSlash
		case c == ':':
			all[c] = classColon
		case c == '@':
			all[c] = classAt
		case c < ' ' || c == 0x7f:
			all[c] = classControl
		case c >= 0x80:
			all[c] = classWide
		default:
			all[c] = classOther
		}
	}
	return all
}()

// classesOf is all classes of the characters in b.
func classesOf(b []byte) (all class) {
	for _, c := range b {
		all |= classes[c]
	}
	return all
}

// has reports whether one of the classes in of is there.
func (c class) has(of class) bool { return c&of != 0 }
