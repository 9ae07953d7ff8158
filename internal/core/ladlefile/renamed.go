package ladlefile

import "fmt"

// renamed has the keys that earlier programs read, by what they stood in, with what to write in their place.
var renamed = map[string]map[string]string{
	"an input":        {"footer": "footer_lines:", "stated_totals": "control_totals:"},
	"a block":         {"repeats": "contradictions:"},
	"a source":        {"find": "lookup:", "similar": "similar_names:"},
	"gone_from_file:": {"among": "where_sql:"},
	"a claim":         {"least": "at_least:", "most": "at_most:"},
	"if_blank:":       {"same_for": "as_in_lines_with_same:", "constant": "default: in the rule of the column"},
	"split:":          {"into": "columns:"},
	"a cleaning": {"strip": "without:", "prefix": "add_prefix:", "suffix": "add_suffix:", "no_prefix": "drop_prefix:",
		"no_suffix": "drop_suffix:",
		"pattern":   "regex:", "with": "becomes: for a regex:, using: for a pad:"},
	"the rule of a column": {"recode_from": "recode_file:"},
	"a new column":         {"recode_from": "recode_file:", "with": "between:"},
}

// renamedWords has the words that earlier programs read behind keys, with those in their place.
var renamedWords = map[string]map[string]string{
	"already_there:":  {"refuse": "set_aside"},
	"not_there:":      {"refuse": "set_aside", "leave": "leave_out"},
	"not_found:":      {"refuse": "set_aside"},
	"several:":        {"refuse": "set_aside"},
	"blank_key:":      {"refuse": "set_aside"},
	"blank:":          {"keeps": "keep", "clears": "clear"},
	"recode_others:":  {"refuse": "set_aside"},
	"contradictions:": {"refuse": "set_aside"},
	"similar_names:":  {"refuse": "set_aside"},
}

// now says what to write in place of a key or word that is gone; "" for one that never was.
func now(names map[string]map[string]string, in, name string) string {
	if is := names[in][name]; is != "" {
		return fmt.Sprintf("it is now called %s", is)
	}
	return ""
}
