package sheet

import "bytes"

// withoutSections is markup without its comments and processing instructions, and with the characters of its CDATA
// sections written as references (XML 1.0, 2.5 to 2.7), so that the text of an element stands together. Markup that has
// none comes back as it is.
func withoutSections(b []byte) []byte {
	if !hasSections(b) && !bytes.Contains(b, []byte("<?")) {
		return b
	}
	made := make([]byte, 0, len(b))
	for {
		n := bytes.IndexByte(b, '<')
		if n < 0 {
			return append(made, b...)
		}
		made, b = append(made, b[:n]...), b[n:]
		if b[min(1, len(b)-1)] != '!' && b[min(1, len(b)-1)] != '?' {
			made, b = append(made, '<'), b[1:]
			continue
		}
		section, mark := "<?", "?>"
		switch {
		case bytes.HasPrefix(b, []byte("<![CDATA[")):
			section, mark = "<![CDATA[", "]]>"
		case bytes.HasPrefix(b, []byte("<!--")):
			section, mark = "<!--", "-->"
		case b[1] == '!':
			section, mark = "<!", ">"
		}
		inner, behind, found := bytes.Cut(b[min(len(section), len(b)):], []byte(mark))
		if !found {
			return append(made, b...) // it is cut off: what is wrong is told by who reads it
		}
		if mark == "]]>" {
			made = escaped(made, inner)
		}
		b = behind
	}
}

// escaped appends text with the characters that mean something in markup as references.
func escaped(to, text []byte) []byte {
	for _, c := range text {
		switch c {
		case '<':
			to = append(to, "&lt;"...)
		case '&':
			to = append(to, "&amp;"...)
		case '>':
			to = append(to, "&gt;"...)
		default:
			to = append(to, c)
		}
	}
	return to
}
