// Package charset finds the encoding of a text that isn't UTF-8. [Judge] reads the text in every encoding that it
// knows and asks how likely the words that come out are in the languages that it knows; it says for sure only what no
// other encoding comes near to. What the words of a language look like is learned from the names of countries and
// languages in the Unicode CLDR, and from everyday words.
package charset

import (
	"fmt"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"
)

// UTF8 is the name of the encoding that needs no reading.
const UTF8 = "UTF-8"

// Named returns the encoding with a name of the IANA registry of character sets, or else of the WHATWG Encoding
// Standard; encoding.Nop for UTF-8.
func Named(name string) (encoding.Encoding, error) {
	switch strings.ToUpper(name) {
	case UTF8, "UTF8":
		return encoding.Nop, nil
	case "UTF-16LE":
		return unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM), nil
	case "UTF-16BE":
		return unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM), nil
	case "UTF-16":
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), nil
	case "UTF-32LE":
		return utf32.UTF32(utf32.LittleEndian, utf32.IgnoreBOM), nil
	case "UTF-32BE":
		return utf32.UTF32(utf32.BigEndian, utf32.IgnoreBOM), nil
	}
	for _, t := range tables {
		if strings.EqualFold(t.name, name) ||
			strings.EqualFold(t.name, "IBM"+strings.TrimPrefix(strings.ToLower(name), "cp")) {
			return t.set, nil
		}
	}
	if e, err := ianaindex.IANA.Encoding(name); err == nil && e != nil {
		return e, nil
	}
	if e, err := htmlindex.Get(name); err == nil && e != encoding.Replacement {
		return e, nil
	}
	return nil, fmt.Errorf("there is no encoding %q", name)
}

// named is an encoding with its name.
type named struct {
	name string
	set  encoding.Encoding
	rare bool // hardly anybody writes it today
}

// known are the encodings that are looked for. Of those that read a text alike, the first is named.
var known = []named{
	{"windows-1252", charmap.Windows1252, false},
	{"windows-1250", charmap.Windows1250, false},
	{"windows-1251", charmap.Windows1251, false},
	{"windows-1253", charmap.Windows1253, false},
	{"windows-1254", charmap.Windows1254, false},
	{"windows-1255", charmap.Windows1255, false},
	{"windows-1256", charmap.Windows1256, false},
	{"windows-1257", charmap.Windows1257, false},
	{"windows-1258", charmap.Windows1258, true},
	{"windows-874", charmap.Windows874, false},
	{"ISO-8859-15", charmap.ISO8859_15, false},
	{"ISO-8859-2", charmap.ISO8859_2, false},
	{"ISO-8859-5", charmap.ISO8859_5, false},
	{"ISO-8859-7", charmap.ISO8859_7, false},
	{"ISO-8859-9", charmap.ISO8859_9, false},
	{"ISO-8859-13", charmap.ISO8859_13, true},
	{"ISO-8859-4", charmap.ISO8859_4, true},
	{"ISO-8859-10", charmap.ISO8859_10, true},
	{"ISO-8859-16", charmap.ISO8859_16, true},
	{"ISO-8859-6", charmap.ISO8859_6, true},
	{"KOI8-R", charmap.KOI8R, false},
	{"KOI8-U", charmap.KOI8U, false},
	{"IBM437", charmap.CodePage437, false},
	{"IBM850", charmap.CodePage850, false},
	{"IBM852", charmap.CodePage852, false},
	{"IBM855", charmap.CodePage855, true},
	{"IBM860", charmap.CodePage860, true},
	{"IBM862", charmap.CodePage862, true},
	{"IBM863", charmap.CodePage863, true},
	{"IBM865", charmap.CodePage865, true},
	{"IBM866", charmap.CodePage866, false},
	{"macintosh", charmap.Macintosh, false},
	{"x-mac-cyrillic", charmap.MacintoshCyrillic, true},
	{"Shift_JIS", japanese.ShiftJIS, false},
	{"EUC-JP", japanese.EUCJP, false},
	{"EUC-KR", korean.EUCKR, false},
	{"GB18030", simplifiedchinese.GB18030, false},
	{"Big5", traditionalchinese.Big5, false},
}

// isMany reports whether an encoding is one of more characters than a byte has.
func isMany(name string) bool {
	switch name {
	case "Shift_JIS", "EUC-JP", "EUC-KR", "GB18030", "Big5":
		return true
	}
	return false
}
