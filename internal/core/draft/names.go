package draft

import (
	"slices"
	"strings"

	"ladle/internal/core/schema"
)

// guess is how likely something is, from 0 to 1, and why.
type guess struct {
	Score float64
	Why   string
}

// better is the likelier of two guesses, the first of equal ones.
func better(a, b guess) guess {
	if b.Score > a.Score {
		return b
	}
	return a
}

// and is the guess of two that bear each other out.
func (g guess) and(o guess) guess {
	switch {
	case o.Score == 0:
		return g
	case g.Score == 0:
		return o
	}
	return guess{1 - (1-g.Score)*(1-o.Score), g.Why + "; " + o.Why}
}

// likely is the least score that makes a match; sure the least one that is no doubt; valuesAlone the most that values
// are worth without a name.
const (
	likely      = 0.5
	sure        = 0.7
	valuesAlone = 0.9
)

// short are words that people write in several ways, by the one that stands for all of them.
var short = map[string]string{
	"number": "no", "nr": "no", "num": "no", "nbr": "no", "telephone": "phone", "tel": "phone", "mobile": "phone",
	"description": "text",
	"desc":        "text", "quantity": "qty", "amount": "amt", "reference": "ref", "identifier": "id", "ident": "id",
	"key": "id", "title": "name",
	"label": "name", "designation": "name", "comment": "note", "remark": "note", "category": "type", "kind": "type",
	"begin": "start",
	"until": "end", "address": "addr", "country": "state", "licence": "license", "weight": "wt", "length": "len",
	"position": "pos", "draught": "draft", "estimated": "expected", "ton": "tonne", "t": "tonne",
}

// units are words at the end of a name that only say in what it is measured.
var units = []string{"m", "km", "cm", "mm", "ft", "tonne", "kg", "g", "lb", "l", "h", "hr", "min", "s", "pct",
	"percent",
	"eur", "usd", "gbp", "at", "on"}

// phrases are names that people write in other words, by those that stand for them.
var phrases = map[string]string{"surname": "last name", "family name": "last name", "forename": "first name",
	"given name": "first name", "eta": "expected arrival", "etd": "expected departure", "ata": "actual arrival",
	"atd": "actual departure"}

// words are the words of a name in the form in which they are compared.
func words(name string) []string {
	all := schema.Words(strings.ReplaceAll(name, "'s ", " "))
	if p, ok := phrases[strings.Join(all, " ")]; ok {
		all = strings.Fields(p)
	}
	for i, w := range all {
		w = schema.Singular(w)
		if s, ok := short[w]; ok {
			w = s
		}
		all[i] = w
	}
	if len(all) > 2 && all[0] == "no" && all[1] == "of" { // how many
		all = all[2:]
	}
	telling := slices.DeleteFunc(slices.Clone(all), func(w string) bool { return w == "of" || w == "the" })
	if len(telling) == 0 {
		return all
	}
	return telling
}

// byName returns how likely a column of a file is meant for a column of a table, by their names.
func byName(file string, table *schema.Table, column string) guess {
	f, t, c := words(file), words(table.Name), words(column)
	switch {
	case len(f) == 0 || len(c) == 0:
		return guess{}
	case slices.Equal(f, c), strings.Join(f, "") == strings.Join(c, ""):
		return guess{1, "the same name"}
	case slices.Equal(without(f, t), c), slices.Equal(f, without(c, t)):
		return guess{0.95, "the same name, but for that of the table"}
	case slices.Equal(slices.Sorted(slices.Values(f)), slices.Sorted(slices.Values(c))):
		return guess{0.9, "the same words"}
	case len(c) > 1 && slices.Contains(units, c[len(c)-1]) && slices.Equal(f, c[:len(c)-1]), len(f) > 1 &&
		slices.Contains(units, f[len(f)-1]) && slices.Equal(c, f[:len(f)-1]):
		return guess{0.9, "the same name, but for the unit"}
	case slices.Equal(f, t) && slices.Equal(c, []string{"name"}):
		return guess{0.85, "the name of the table"}
	case abbreviates(f, c) || abbreviates(c, f):
		return guess{0.75, "one name is short for the other"}
	case sameWords(f, c):
		return guess{0.72, "the same words, some of them short"}
	case len(c) > 1 && slices.Contains([]string{"no", "code"}, c[len(c)-1]) && (slices.Equal(f, c[:len(c)-1]) ||
		abbreviates(f, c[:len(c)-1]) || abbreviates(c[:len(c)-1], f)):
		return guess{0.72, "the same name, but for the last word"}
	case len(f) == 1 && len(f[0]) > 1 && f[0] == initials(c), len(c) == 1 && len(c[0]) > 1 && c[0] == initials(f):
		return guess{0.72, "the first letters of the name"}
	}
	return partly(f, c)
}

// without takes words that stand at the start or the end off a name; a name of nothing else stays.
func without(name, words []string) []string {
	n := len(words)
	switch {
	case n == 0 || len(name) <= n:
		return name
	case slices.Equal(name[:n], words):
		return name[n:]
	case slices.Equal(name[len(name)-n:], words):
		return name[:len(name)-n]
	}
	return name
}

// abbreviates reports whether each word of a shortens the one of b: it starts with its first letter and has no others
// than it, in their order.
func abbreviates(a, b []string) bool {
	return slices.EqualFunc(a, b, func(x, y string) bool {
		if x == y {
			return true
		}
		if len(x) < 2 || len(x) >= len(y) || x[0] != y[0] {
			return false
		}
		at := 0
		for _, r := range y {
			if at < len(x) && rune(x[at]) == r {
				at++
			}
		}
		return at == len(x)
	})
}

// sameWords reports whether two names have the same words in any order, some of them shortened.
func sameWords(a, b []string) bool {
	left := slices.Clone(b)
	for _, x := range a {
		i := slices.IndexFunc(left, func(y string) bool {
			return abbreviates([]string{x}, []string{y}) || abbreviates([]string{y}, []string{x})
		})
		if i < 0 {
			return false
		}
		left = slices.Delete(left, i, i+1)
	}
	return len(left) == 0
}

func initials(words []string) string {
	var b strings.Builder
	for _, w := range words {
		b.WriteByte(w[0])
	}
	return b.String()
}

// general are words that say too little to match names by them alone.
var general = []string{"id", "no", "name", "code", "type", "date", "time", "text", "note", "last", "first",
	"new", "old"}

// partly compares names that share only some of their words, or the stem of one.
func partly(a, b []string) guess {
	shared, all := 0, max(len(a), len(b))
	telling := false
	for _, x := range a {
		for _, y := range b {
			if x == y || stem(x, y) {
				shared++
				telling = telling || !slices.Contains(general, x)
				break
			}
		}
	}
	if !telling || 2*shared < all {
		return guess{}
	}
	return guess{0.45 + 0.2*float64(shared)/float64(all), "part of the name"}
}

// stem reports whether two words start with the same letters, five or more and most of both.
func stem(a, b string) bool {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n >= 5 && 3*n >= 2*max(len(a), len(b))
}
