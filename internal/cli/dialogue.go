package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"ladle/internal/term"
)

// menu is a question with numbered answers, the first of which is the guess.
type menu struct {
	title   string
	why     string
	choices []menuChoice
	back    bool // there is a question before this one
}

type menuChoice struct {
	says    string
	samples []string
	asks    string             // what must be typed for it; "" for nothing
	accepts func(string) error // what is wrong with what was typed; nil for anything
}

// The ways to leave a menu without an answer.
var (
	errBack = errors.New("back to the question before")
	errQuit = errors.New("no more questions")
)

// ask shows the menu on standard error and returns the number of the answer, from 0, and what was typed for it. The
// error is errBack or errQuit, or that of an interrupt.
func (m menu) ask(ctx context.Context) (n int, typed string, err error) {
	s := term.NewScreen(os.Stderr)
	s.Title("%s", m.title)
	if m.why != "" {
		s.Note("%s", m.why)
	}
	for i, c := range m.choices {
		says := c.says
		if c.samples != nil {
			says += "   " + strings.Join(c.samples, " · ")
		}
		s.Item(fmt.Sprintf("%2d ", i+1), "%s", says)
	}
	keys := "Enter for 1"
	if len(m.choices) > 1 {
		keys = fmt.Sprintf("1 to %d, Enter for 1", len(m.choices))
	}
	if m.back {
		keys += ", b to go back"
	}
	for {
		answer, err := term.Prompt(ctx, keys+", q to stop: ")
		switch {
		case errors.Is(err, io.EOF):
			return 0, "", errQuit
		case err != nil:
			return 0, "", err
		case answer == "q" || answer == "Q":
			return 0, "", errQuit
		case (answer == "b" || answer == "B") && m.back:
			return 0, "", errBack
		case answer == "":
			answer = "1"
		}
		number, wrong := strconv.Atoi(answer)
		if wrong != nil || number < 1 || number > len(m.choices) {
			s.Note("There is no answer %q.", answer)
			continue
		}
		c := m.choices[number-1]
		if c.asks == "" {
			return number - 1, "", nil
		}
		if typed, err = c.ask(ctx, s); err != nil || typed != "" {
			return number - 1, typed, err
		}
	}
}

// ask asks for what must be typed; "" when the person wants another answer.
func (c menuChoice) ask(ctx context.Context, s *term.Screen) (string, error) {
	for {
		typed, err := term.Prompt(ctx, term.Safe(strings.ToUpper(c.asks[:1])+c.asks[1:]+" (Enter for another "+
			"answer): "))
		switch {
		case errors.Is(err, io.EOF):
			return "", errQuit
		case err != nil || typed == "" || c.accepts == nil:
			return typed, err
		}
		wrong := c.accepts(typed)
		if wrong == nil {
			return typed, nil
		}
		s.Note("%s", wrong)
	}
}
