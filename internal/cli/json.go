package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"time"
	"unicode/utf16"

	"ladle/internal/core/fault"
	"ladle/internal/term"
)

// jsonFormat is the version of the JSON documents; it counts up when a key changes its name or its meaning.
const jsonFormat = 1

// head is what every JSON document begins with.
type head struct {
	Kind     string          `json:"kind"`   // the command, or what it showed
	Format   int             `json:"format"` // jsonFormat
	Ladle    string          `json:"ladle"`  // the version of the program
	Started  time.Time       `json:"started"`
	Finished time.Time       `json:"finished"`
	Outcome  string          `json:"outcome"`
	Status   int             `json:"status"` // the exit status
	Problems []fault.Problem `json:"problems"`
}

// begun is when the program started.
var begun = time.Now()

func newHead(kind, outcome string, status int) head {
	return head{Kind: kind, Format: jsonFormat, Ladle: Version, Started: begun.UTC().Truncate(time.Millisecond),
		Finished: time.Now().UTC().Truncate(time.Millisecond), Outcome: outcome, Status: status}
}

// printFailure prints the document of a command that could not do its work.
func printFailure(command, outcome string, status int, problems []fault.Problem) error {
	h := newHead(cmp.Or(command, "ladle"), outcome, status)
	h.Problems = problems
	return printDocument(term.Stdout, h, struct{}{})
}

// printDocument prints one JSON object: the head, and behind it what the command has to say. Lists are never null.
func printDocument(out io.Writer, h head, body any) error {
	var both bytes.Buffer
	for _, part := range []any{h, body} {
		v := reflect.New(reflect.TypeOf(part))
		v.Elem().Set(reflect.ValueOf(part))
		fillLists(v.Elem())
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		if err := e.Encode(v.Interface()); err != nil {
			return err
		}
		object := bytes.TrimSpace(b.Bytes())
		inside := object[1 : len(object)-1]
		if both.Len() > 0 && len(inside) > 0 {
			both.WriteByte(',')
		}
		both.Write(inside)
	}
	var indented bytes.Buffer
	if err := json.Indent(&indented, append(append([]byte("{"), both.Bytes()...), '}'), "", "  "); err != nil {
		return err
	}
	indented.WriteByte('\n')
	_, err := out.Write(harmless(indented.Bytes()))
	return err
}

// harmless writes control and format characters, which could command a terminal or turn the text around, as escapes.
// Outside of texts a document has none but line ends.
func harmless(document []byte) []byte {
	if !bytes.ContainsFunc(document, term.Commands) {
		return document
	}
	var b bytes.Buffer
	for _, r := range string(document) {
		if !term.Commands(r) {
			b.WriteRune(r)
			continue
		}
		for _, unit := range utf16.AppendRune(nil, r) {
			fmt.Fprintf(&b, "\\u%04x", unit)
		}
	}
	return b.Bytes()
}

// fillLists makes lists without a value empty ones, in all of v.
func fillLists(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			fillLists(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fillLists(v.Field(i))
			}
		}
	case reflect.Slice:
		if v.IsNil() && v.CanSet() {
			v.Set(reflect.MakeSlice(v.Type(), 0, 0))
		}
		for i := range v.Len() {
			fillLists(v.Index(i))
		}
	}
}
