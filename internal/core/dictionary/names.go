package dictionary

import "strings"

// joined writes names as a list, with commas between them; a name that looks like more than one stands in quotes.
func joined(names []string) string {
	all := make([]string, len(names))
	for i, n := range names {
		if all[i] = n; n != strings.TrimSpace(n) || strings.ContainsAny(n, `,;"`) {
			all[i] = `"` + strings.ReplaceAll(n, `"`, `""`) + `"`
		}
	}
	return strings.Join(all, ", ")
}

// parted reads lists of names: those of a list between commas, lists between semicolons.
func parted(text string) (lists [][]string) {
	var list []string
	var name strings.Builder
	quoted, inside := false, false
	end := func() {
		n := name.String()
		if !quoted {
			n = strings.TrimSpace(n)
		}
		if n != "" {
			list = append(list, n)
		}
		name.Reset()
		quoted = false
	}
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case inside && c == '"' && i+1 < len(text) && text[i+1] == '"':
			name.WriteByte('"')
			i++
		case c == '"' && (inside || strings.TrimSpace(name.String()) == ""):
			if !inside {
				name.Reset()
			}
			inside, quoted = !inside, true
		case inside:
			name.WriteByte(c)
		case c == ',':
			end()
		case c == ';':
			end()
			lists, list = append(lists, list), nil
		case !quoted:
			name.WriteByte(c)
		}
	}
	end()
	if list != nil {
		lists = append(lists, list)
	}
	return lists
}

// names reads a single list of names.
func names(text string) []string {
	var all []string
	for _, list := range parted(text) {
		all = append(all, list...)
	}
	return all
}
