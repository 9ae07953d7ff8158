package propose

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// plain makes a name of letters, digits and underscores that no dialect reserves, in small letters; fallback where
// nothing is left.
func plain(name, fallback string) string {
	var b strings.Builder
	gap := false
	for _, r := range norm.NFD.String(name) {
		switch {
		case r == 'ß':
			b.WriteString("ss")
		case unicode.Is(unicode.Mn, r): // an accent of the letter before it
		case r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			if gap && b.Len() > 0 {
				b.WriteByte('_')
			}
			gap = false
			b.WriteRune(unicode.ToLower(r))
		default:
			gap = true
		}
	}
	made := b.String()
	const longest = 60 // PostgreSQL and MySQL take 63 and 64 characters
	if len(made) > longest {
		made = strings.TrimRight(made[:longest], "_")
	}
	switch {
	case made == "":
		return fallback
	case made[0] >= '0' && made[0] <= '9':
		return fallback + "_" + made
	case reserved[made]:
		return made + "_"
	}
	return made
}

// free is a name that is not taken: the name itself, or with a number behind it.
func free(name string, taken func(string) bool) string {
	made := name
	for n := 2; taken(made); n++ {
		made = fmt.Sprintf("%s_%d", name, n)
	}
	return made
}

// reserved are the words that SQL:2016, PostgreSQL, MySQL, MariaDB or SQLite reserve and that are likely as names.
var reserved = words(`all alter analyze and any array as asc between both by call case cast change check collate column
	condition connection constraint continue convert create cross cube current current_date current_time current_timestamp
	current_user cursor database default delete desc describe distinct div drop each else end escape except exists exit
	explain false fetch float for foreign from full function grant group groups having high_priority if ignore in index
	inner inout insert int integer intersect interval into is iterate join key keys kill lag language large last_value
	lead leading leave left like limit lines load lock long loop match member merge method mod modifies natural new no
	not null numeric of off offset old on only open option or order out outer over partition period position precision
	primary procedure range rank read reads real recursive references release rename repeat replace require restrict
	result return returning revoke right row row_number rows schema select session_user set show signal smallint some
	specific sql start static system table then time timestamp to trailing trigger true truncate union unique unlock
	unsigned update usage use user using value values varchar varying view when where while window with without write
	year zone`)

func words(text string) map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields(text) {
		all[w] = true
	}
	return all
}

// Reserved reports whether a dialect reserves a word, so that a name that is the same needs quotes.
func Reserved(word string) bool { return reserved[strings.ToLower(word)] }
