package schema

import (
	"slices"
	"strings"
	"unicode"
)

// LikelyRelation is a relation that the database does not declare, but that names make likely: a column berth_id beside
// a table berth.
type LikelyRelation struct {
	Child  *Table
	Column string
	Parent *Table
	Key    string // the parent's column
}

// Guess lists the relations that only names tell.
func (s *Schema) Guess() []LikelyRelation {
	var all []LikelyRelation
	for _, t := range s.Tables {
		for _, c := range t.Columns {
			if parent, key := s.guess(t, &c); parent != nil {
				all = append(all, LikelyRelation{t, c.Name, parent, key})
			}
		}
	}
	return all
}

func (s *Schema) guess(t *Table, c *Column) (parent *Table, key string) {
	if t.related(c.Name) || c.Identity || c.Generated {
		return nil, ""
	}
	words := Words(c.Name)
	if len(words) < 2 || !slices.Contains([]string{"id", "code", "no", "nr", "key", "ref"}, words[len(words)-1]) {
		return nil, ""
	}
	for _, p := range s.Tables {
		if Same(words[:len(words)-1], Words(p.Name)) {
			if key := p.keyLike(words[len(words)-1], c); key != "" && (p != t || key != c.Name) {
				return p, key
			}
		}
	}
	return nil, ""
}

// keyLike is the column of t that a column of another table named after it would hold: the primary key, or a unique
// column of that name.
func (t *Table) keyLike(word string, c *Column) string {
	for _, k := range t.Keys {
		if len(k.Columns) != 1 {
			continue
		}
		own := t.Column(k.Columns[0])
		if (k.Primary && word == "id" || strings.EqualFold(own.Name, word)) && own.Type.Kind == c.Type.Kind {
			return own.Name
		}
	}
	return ""
}

// related reports whether a column is part of a declared relation.
func (t *Table) related(column string) bool {
	return slices.ContainsFunc(t.Relations, func(r Relation) bool { return slices.Contains(r.Columns, column) })
}

// Words splits a name into its words, in lower case: at what is no letter or digit, and where a capital follows a small
// letter.
func Words(name string) []string {
	var words []string
	var word strings.Builder
	end := func() {
		if word.Len() > 0 {
			words = append(words, strings.ToLower(word.String()))
			word.Reset()
		}
	}
	before := ' '
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			end()
		case unicode.IsUpper(r) && unicode.IsLower(before):
			end()
			word.WriteRune(r)
		default:
			word.WriteRune(r)
		}
		before = r
	}
	end()
	return words
}

// Same reports whether words are the same but for the plural.
func Same(a, b []string) bool {
	return slices.EqualFunc(a, b, func(x, y string) bool { return Singular(x) == Singular(y) })
}

// Singular takes the plural's ending off an English word.
func Singular(word string) string {
	switch {
	case len(word) > 3 && strings.HasSuffix(word, "ies"):
		return word[:len(word)-3] + "y"
	case len(word) > 4 && (strings.HasSuffix(word, "sses") || strings.HasSuffix(word, "xes") ||
		strings.HasSuffix(word, "ches") || strings.HasSuffix(word, "shes")):
		return word[:len(word)-2]
	case len(word) > 2 && strings.HasSuffix(word, "s") && !strings.HasSuffix(word, "ss") &&
		!strings.HasSuffix(word, "us"):
		return word[:len(word)-1]
	}
	return word
}
