package cli

import (
	"fmt"
	"strings"

	"ladle/internal/core/ladlefile"
)

// inWords says what a setting does, for people who don't know the ladle file.
func inWords(s ladlefile.Setting) string {
	key := s.Key
	if key == "" { // more of a list or of pairs
		key = s.At[len(s.At)-1]
	}
	words := valueWords(s.Value)
	switch key {
	case "recode":
		return "read " + words
	case "blank_is":
		return "take " + words + " for blank"
	case "number":
		return "numbers are written like " + words
	case "date":
		return "dates are written like " + words
	case "round":
		return fmt.Sprintf("round to %v digits after the point", s.Value)
	case "shorten_to":
		return fmt.Sprintf("cut to %v characters", s.Value)
	}
	if known, ok := settingWords[key+" "+words]; ok {
		return known
	}
	return "set " + key + " to " + words
}

// settingWords says what settings do whose value is one of few words.
var settingWords = map[string]string{
	`contradictions "most"`:   "keep, for each column, the value that most of them have",
	`contradictions "first"`:  "keep the first of them, overrule the others",
	`contradictions "last"`:   "keep the last of them, overrule the others",
	`clean "trim"`:            "take the blanks at the ends off",
	`clean "squeeze"`:         "make one blank of several",
	`already_there "update"`:  "update the rows that are there",
	`already_there "keep"`:    "keep the rows that are there as they are",
	`not_found "add"`:         "they are new: add them to the lookup table",
	`not_found "leave_blank"`: "leave the column blank for them",
	`similar_names "accept"`:  "they are other names: add them",
}

// valueWords are the words or pairs of a setting, quoted.
func valueWords(value any) string {
	var all []string
	switch v := value.(type) {
	case []string:
		for _, w := range v {
			all = append(all, fmt.Sprintf("%q", w))
		}
		return strings.Join(all, " or ")
	case []ladlefile.Pair:
		for _, p := range v {
			all = append(all, fmt.Sprintf("%q as %q", p.Key, p.Value))
		}
		return strings.Join(all, ", ")
	}
	return fmt.Sprintf("%q", fmt.Sprint(value))
}
