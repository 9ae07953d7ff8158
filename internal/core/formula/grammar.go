package formula

import (
	"fmt"
	"slices"
	"strings"

	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser/lexer"

	"ladle/internal/core/fault"
	"ladle/internal/core/text"
)

// signs are the operators of formulas, besides the words and, or, not and in.
var signs = []string{"+", "-", "*", "/", "==", "!=", "<", "<=", ">", ">=", ","}

// instead says what is written in place of operators that formulas don't have; the word stands in lower case.
var instead = map[string]string{
	"=": "write == to compare", "<>": "write !=", "=<": "write <=", "=>": "write >=",
	"&&": "write and", "||": `write or; join("", a, b) joins texts`, "!": "write not",
	"&": `join("", a, b) joins texts`,
	"?": "use choose(condition, one, other)", ":": "use choose(condition, one, other)", "??": "use coalesce(a, b)",
	"?.": "use choose(condition, one, other)", "if": "use choose(condition, one, other)",
	"then": "use choose(condition, one, other)", "else": "use choose(condition, one, other)",
	"case": "use choose(condition, one, other)", "when": "use choose(condition, one, other)",
	"contains": `use has(x, "-")`, "startswith": `use starts(x, "N")`, "endswith": `use ends(x, "N")`,
	"matches": "use fits(x, `^N[0-9]+$`)", "like": `use starts(x, "N"), ends(x, "N"), has(x, "N") or fits(x, "^N")`,
	"between": "write x >= 1 and x <= 9", "is": "use is_blank(x)", "mod": "", "%": "", "^": "", "**": "",
	".": `write a column in lower case with _ between its words, or col("Reg. No.") with the name as it stands`,
	"|": "", "..": "", "#": "", ";": "write one formula",
}

// operatorList is the advice where nothing better is known.
const operatorList = "the operators are + - * / == != < <= > >= and or not in"

// grammar returns why text is no formula, in words of ours, whatever the library says of it; nil when the words and
// signs of it look right.
func grammar(formula string) error {
	if err := quotes(formula); err != nil {
		return err
	}
	tokens, err := lexer.Lex(file.NewSource(formula))
	if err != nil {
		return badToken(formula, err)
	}
	var open []lexer.Token
	before := lexer.Token{Kind: lexer.Operator} // something is to come
	for _, t := range tokens {
		switch {
		case t.Is(lexer.Identifier, "nil", "null", "NULL", "Null", "None"):
			return wrongAt(formula, t.From, fmt.Sprintf("%s is no value", t.Value), "write blank")
		case t.Kind == lexer.Bytes, t.Is(lexer.Bracket, "{", "}"):
			return wrongAt(formula, t.From, fmt.Sprintf("%s has no meaning here", quoted(formula, t)), "")
		case t.Is(lexer.Operator, ">") && before.Is(lexer.Operator, "<"):
			return noOperator(formula, "<>", before.From)
		case t.Is(lexer.Operator) && !known(t.Value):
			return noOperator(formula, t.Value, t.From)
		case t.Is(lexer.Identifier) && ends(before):
			return noOperator(formula, t.Value, t.From)
		case (t.Is(lexer.Number) || t.Is(lexer.String)) && ends(before):
			return wrongAt(formula, t.From, fmt.Sprintf("an operator or a comma is missing before %s",
				quoted(formula, t)), "")
		case t.Is(lexer.EOF) && len(open) > 0:
			return wrongAt(formula, open[len(open)-1].From, "this bracket is never closed", "close it")
		case t.Is(lexer.EOF) && before.Is(lexer.Operator):
			return wrongAt(formula, t.From, "something is missing at the end", "")
		case t.Is(lexer.Bracket, "(", "["):
			open = append(open, t)
		case t.Is(lexer.Bracket) && (len(open) == 0 || open[len(open)-1].Value != map[string]string{")": "(",
			"]": "["}[t.Value]):
			return wrongAt(formula, t.From, fmt.Sprintf("this %s has no opening bracket", t.Value),
				"delete it, or open it before")
		case t.Is(lexer.Bracket):
			open = open[:len(open)-1]
		}
		before = t
	}
	return nil
}

// ends reports whether a value ends with t, so that no other one can follow.
func ends(t lexer.Token) bool {
	return t.Is(lexer.Identifier) || t.Is(lexer.Number) || t.Is(lexer.String) || t.Is(lexer.Bracket, ")", "]")
}

func known(operator string) bool {
	return slices.Contains(signs, operator) || slices.Contains([]string{"and", "or", "not", "in"}, operator)
}

// quotes returns where a text in quotes has no end.
func quotes(formula string) error {
	runes := []rune(formula)
	for i := 0; i < len(runes); i++ {
		quote, start := runes[i], i
		if !strings.ContainsRune("\"'`", quote) {
			continue
		}
		for i++; i < len(runes) && runes[i] != quote; i++ {
			if runes[i] == '\\' && quote != '`' {
				i++
			}
		}
		if i >= len(runes) {
			return wrongAt(formula, start, "the text that begins here has no closing quote", "close it")
		}
	}
	return nil
}

// badToken says what the library does not take for a word, a number, a text or a sign.
func badToken(formula string, err error) error {
	at := positionOf(err)
	switch {
	case strings.Contains(formula, `\`):
		return wrongAt(formula, at, "a backslash has a special meaning in quotes",
			"put the text in backquotes, as in fits(x, `^\\d+$`)")
	case at < len([]rune(formula)) && strings.ContainsRune("=$@~§€£!?", []rune(formula)[at]):
		return noOperator(formula, string([]rune(formula)[at]), at)
	}
	return wrongAt(formula, at, "this is neither a column, a number, a text in quotes, an operator nor a function", "")
}

// noOperator says what is written instead of an operator that there isn't.
func noOperator(formula, word string, at int) error {
	runes := []rune(formula)
	if at+1 < len(runes) {
		if pair := string(runes[at : at+2]); instead[pair] != "" {
			word = pair
		}
	}
	do := instead[strings.ToLower(word)]
	if do == "" {
		do = operatorList
		if near := text.Nearest(word, functionNames); near != "" && isLetterOrDigit([]rune(word)[0]) {
			do = fmt.Sprintf("did you mean the function %s()?", near)
		}
	}
	return wrongAt(formula, at, fmt.Sprintf("there is no operator %s", word), do)
}

// positionOf is the position, in characters from 0, that an error of the library is about.
func positionOf(err error) int {
	var at *file.Error
	if e, ok := err.(*file.Error); ok {
		at = e
	}
	if at == nil {
		return 0
	}
	return max(at.From, at.Column)
}

func quoted(formula string, t lexer.Token) string {
	runes := []rune(formula)
	return string(runes[min(t.From, len(runes)):min(max(t.To, t.From), len(runes))])
}

// wrongAt says what is wrong at a character, from 0, of a formula.
func wrongAt(formula string, at int, what, do string) error {
	return fault.InvalidValue{What: fmt.Sprintf("is not a formula: %s (at character %d of %s)", what, at+1, formula),
		Do: do}
}
