package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/source"
	"ladle/internal/term"
)

// answered works on a ladle file, and once more each time that a person said in which encoding a file of it is.
func answered[T any](ctx context.Context, f *ladlefile.File, asks bool, work func() (T, error)) (T, error) {
	for {
		made, err := work()
		var unclear *source.UnclearEncoding
		if !asks || !term.Interactive() || !errors.As(err, &unclear) || unclear.Could == nil ||
			!f.OneFile(unclear.Input) {
			return made, err
		}
		name, asked := askEncoding(ctx, term.Choose, unclear)
		if asked != nil {
			return made, asked
		}
		if name == "" {
			return made, err
		}
		f.SetEncoding(unclear.Input, name)
		fmt.Fprintln(os.Stderr, term.Safe(fmt.Sprintf("%s is read as %s. To be asked no more, write in the input %s: "+
			"encoding: %s", unclear.Path, name, unclear.Input, ladlefile.Scalar(name))))
	}
}

// askEncoding asks in which encoding a text reads right; "" when the person stops.
func askEncoding(ctx context.Context, choose chooser, u *source.UnclearEncoding) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "%s isn't UTF-8, and its encoding isn't certain. In which one does this read right?\n", u.Path)
	width := 0
	for _, r := range u.Could {
		width = max(width, len(r.Encoding))
	}
	for i, r := range u.Could {
		head := fmt.Sprintf("  %d  %-*s", i+1, width, r.Encoding)
		for _, l := range r.Lines {
			fmt.Fprintf(&b, "%s  line %d: %s\n", head, l.Line, l.Text)
			head = strings.Repeat(" ", len(head))
		}
	}
	b.WriteString("A number, or the name of another encoding; q stops")
	question := term.Safe(b.String())
	for {
		answer, err := choose(ctx, question, "q")
		if err != nil || answer == "q" || answer == "quit" {
			return "", err
		}
		if n, err := strconv.Atoi(answer); err == nil && n >= 1 && n <= len(u.Could) {
			return u.Could[n-1].Encoding, nil
		}
		if wrong := new(source.ReadOptions).SetEncoding(answer); wrong == nil {
			return answer, nil
		}
		question = term.Safe(fmt.Sprintf("%q is neither a number from 1 to %d nor the name of an encoding", answer,
			len(u.Could)))
	}
}
