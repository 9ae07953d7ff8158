package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/load"
	"ladle/internal/core/report"
	"ladle/internal/core/setaside"
	"ladle/internal/term"
)

// fixing is a ladle file that is tried and put right, again and again.
type fixing struct {
	path   string
	try    func(corrected []string) (*report.Report, error)
	left   map[string]bool // groups that the person leaves as they are
	put    map[string]bool // the keys that answers of this round have set
	hand   []string        // set-aside files that were corrected and not yet taken in
	screen *term.Screen
}

// runFix asks, for each group of problems with a known cure, which one is written into the ladle file, and tries again.
func runFix(ctx context.Context, c *cli.Command, o load.Options) error {
	path := c.Args().First()
	if without, err := direct(c); err != nil || without {
		if err == nil {
			err = fault.New(fault.Wrong, "--fix goes with a ladle file, into which it writes",
				"write one first, with --keep or ladle draft")
		}
		return err
	}
	if c.Args().Len() > 1 {
		return fault.New(fault.Wrong, "--fix writes into one ladle file", "give one at a time")
	}
	if !term.Interactive() || c.Bool("json") {
		return fault.New(fault.Wrong, "--fix asks, but there is no terminal to ask on",
			"leave it out: what would solve each problem is printed")
	}
	f := &fixing{path: path, left: map[string]bool{}, screen: term.NewScreen(os.Stderr)}
	f.try = func(corrected []string) (*report.Report, error) {
		file, err := ladleFile(c, path)
		if err != nil {
			return nil, err
		}
		others, err := openOthers(ctx, c, file)
		defer closeOthers(others)
		if err != nil {
			return nil, err
		}
		now := o
		now.Others = others
		now.Corrected = append(append([]string(nil), o.Corrected...), corrected...)
		o.Corrected = nil // they are kept once they were taken in
		return answered(ctx, file, true, func() (*report.Report, error) {
			return loadFile(ctx, file, c.String("db"), waits(c), now)
		})
	}
	r, err := f.run(ctx)
	if err != nil {
		return err
	}
	showReport(term.NewScreen(term.Stdout), r)
	if r.Outcome == report.Tried {
		fmt.Fprintln(os.Stderr, term.Safe(fmt.Sprintf("\nNext: ladle load %s --db %s", path,
			engine.Masked(c.String("db")))))
	}
	if status := statusOf(r); status != done {
		return exit(status)
	}
	return nil
}

// run tries and asks until nothing is left that can be asked, and returns the last report.
func (f *fixing) run(ctx context.Context) (*report.Report, error) {
	for {
		r, err := f.try(f.hand)
		if err != nil {
			return nil, err
		}
		f.hand = nil
		var groups []setaside.Group
		for _, g := range r.Groups {
			if !f.left[groupKey(g)] {
				groups = append(groups, g)
			}
		}
		if len(groups) == 0 {
			return f.finish(ctx, r)
		}
		f.screen.Line("")
		f.screen.Line("%s of %s set aside, for %s.", plural(r.LinesSetAside(), "line"), term.Count(r.LinesRead()),
			plural(int64(len(groups)), "reason"))
		changed, stopped, err := f.round(ctx, r, groups)
		switch {
		case err != nil:
			return nil, err
		case changed && stopped: // what was chosen counts
			return f.try(f.hand)
		case stopped:
			return r, nil
		}
	}
}

// asked is a group that was asked about, with the ladle file before the answer.
type asked struct {
	group int
	text  []byte
}

// round asks about groups one after the other. What an earlier answer may have solved is not asked before the next try.
func (f *fixing) round(ctx context.Context, r *report.Report, groups []setaside.Group) (changed, stopped bool,
	err error) {
	var before []asked
	f.put = map[string]bool{}
	for i := 0; i < len(groups); i++ {
		g := groups[i]
		if f.perhapsSolved(g) || len(f.put) > 0 && (g.Advice == nil || len(g.Advice.Settings) == 0) {
			continue // the next try tells
		}
		text, err := os.ReadFile(f.path)
		if err != nil {
			return changed, false, unreadable(f.path, err)
		}
		m, does := f.menu(r, g)
		m.title, m.back = fmt.Sprintf("%d of %d: %s", i+1, len(groups), title(g, len(r.Inputs) > 1)), len(before) > 0
		n, _, err := m.ask(ctx)
		switch {
		case errors.Is(err, errBack):
			last := before[len(before)-1]
			before, i = before[:len(before)-1], last.group-1
			delete(f.left, groupKey(groups[last.group]))
			f.forget(groups[last.group])
			if err := writeLadleFile(f.path, string(last.text)); err != nil {
				return changed, false, err
			}
			continue
		case errors.Is(err, errQuit):
			return changed, true, nil
		case err != nil:
			return changed, false, err
		}
		before = append(before, asked{i, text})
		if err := does[n](ctx); err != nil {
			f.screen.Note("%s", err)
			f.left[groupKey(g)] = true
		}
		now, _ := os.ReadFile(f.path) // it was just written
		changed = changed || !bytes.Equal(now, text) || f.hand != nil
	}
	return changed, false, nil
}

// perhapsSolved reports whether an answer of this round has put in a setting that solves the group too, perhaps with
// another value.
func (f *fixing) perhapsSolved(g setaside.Group) bool {
	return g.Advice != nil && slices.ContainsFunc(g.Advice.Settings, func(s ladlefile.Setting) bool {
		return f.put[placeOf(s)]
	})
}

func (f *fixing) forget(g setaside.Group) {
	if g.Advice != nil {
		for _, s := range g.Advice.Settings {
			delete(f.put, placeOf(s))
		}
	}
}

// placeOf names the key of a setting, with all above it.
func placeOf(s ladlefile.Setting) string {
	return strings.Join(append(slices.Clone(s.At), s.Under, s.Key), "\x00")
}

func groupKey(g setaside.Group) string {
	return fmt.Sprintf("%s\x00%s\x00%+v", g.Input, g.Column, g.Why)
}

// title is what a group has in common.
func title(g setaside.Group, several bool) string {
	words := strings.TrimSpace(g.Column + " " + g.Says)
	if g.Count == 1 {
		words = g.First[0].Says
	}
	if several {
		words = g.Input + ": " + words
	}
	return words
}

// menu lists what can be done about a group: its cures, correcting lines by hand, leaving them.
func (f *fixing) menu(r *report.Report, g setaside.Group) (m menu, does []func(context.Context) error) {
	var first []string
	for _, e := range g.First {
		one := e.Place
		if e.Cell != "" {
			one += fmt.Sprintf(" %q", e.Cell)
		}
		first = append(first, one)
	}
	m.why = strings.Join(first, ", ")
	if more := g.Count - int64(len(first)); more > 0 {
		m.why += fmt.Sprintf(", and %s more", term.Count(more))
	}
	if a := g.Advice; a != nil {
		if a.Says != "" {
			m.why += "; " + strings.Join(append([]string{a.Says}, quotedWords(a)...), ": ")
		}
		for i, s := range a.Settings {
			says := fmt.Sprintf("%s (%s)", inWords(s), s.YAML())
			if i == 0 && a.Covers > 0 {
				says += fmt.Sprintf("; solves %s of %s", term.Count(a.Covers), term.Count(g.Count))
			}
			m.choices = append(m.choices, menuChoice{says: says})
			does = append(does, func(context.Context) error { return f.set(s) })
		}
	}
	add := func(says string, do func(context.Context) error) {
		m.choices, does = append(m.choices, menuChoice{says: says}), append(does, do)
	}
	known := len(m.choices) > 0
	leave := func() { add("leave "+pick(g.Count == 1, "it", "them")+" set aside", f.leave(g)) }
	if !known { // the first answer is the one that changes nothing
		leave()
	}
	if hand := f.byHand(r, g); hand != nil {
		add("correct the "+pick(g.Count == 1, "line", "lines")+" by hand, in "+filepath.Base(editor()[0]), hand)
	}
	if known {
		leave()
	}
	return m, does
}

// set puts a setting into the ladle file and shows what that changes.
func (f *fixing) set(s ladlefile.Setting) error {
	text, err := os.ReadFile(f.path)
	if err != nil {
		return unreadable(f.path, err)
	}
	now, err := ladlefile.Edit(f.path, text, s)
	if err != nil {
		return err
	}
	if err := writeLadleFile(f.path, string(now)); err != nil {
		return err
	}
	if f.put != nil {
		f.put[placeOf(s)] = true
	}
	f.screen.Line("  %s:", f.path)
	showDiff(f.screen, string(text), string(now))
	return nil
}

func (f *fixing) leave(g setaside.Group) func(context.Context) error {
	return func(context.Context) error {
		f.left[groupKey(g)] = true
		return nil
	}
}

// editor is the person's editor, with its arguments; nil for none.
func editor() []string {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if words := strings.Fields(os.Getenv(name)); len(words) > 0 {
			return words
		}
	}
	return nil
}

// byHand opens the set-aside file of a group's input in the person's editor, at its first line; nil where that can't
// be.
func (f *fixing) byHand(r *report.Report, g setaside.Group) func(context.Context) error {
	file := ""
	for _, in := range r.Inputs {
		if in.Input == g.Input && strings.HasSuffix(in.SetAsideFile, ".csv") {
			file = in.SetAsideFile
		}
	}
	words := editor()
	if file == "" || words == nil {
		return nil
	}
	return func(ctx context.Context) error {
		before, err := os.ReadFile(file)
		if err != nil {
			return unreadable(file, err)
		}
		c := exec.CommandContext(ctx, words[0], append(words[1:], fmt.Sprintf("+%d", lineIn(before, g.First[0].Place)),
			file)...)
		c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
		if err := c.Run(); err != nil {
			return fmt.Errorf("%s ended with an error: %w", words[0], err)
		}
		now, err := os.ReadFile(file)
		switch {
		case err != nil:
			return unreadable(file, err)
		case bytes.Equal(before, now):
			f.screen.Note("Nothing was changed in %s.", file)
			f.left[groupKey(g)] = true
		default:
			f.hand = append(f.hand, g.Input+"="+file)
		}
		return nil
	}
}

// lineIn is the line of a set-aside file that holds the line of an input at a place, from 1; the first one where it
// isn't found.
func lineIn(file []byte, place string) int {
	const first = 3 // behind the note and the header
	number := place[strings.LastIndexAny(place, ":! ")+1:]
	for i, line := range bytes.Split(file, []byte("\n")) {
		if bytes.HasPrefix(line, []byte(number+",")) {
			return i + 1
		}
	}
	return first
}

func unreadable(path string, err error) error {
	return fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the file can't be read: " +
		fault.OfSystem(err),
		Do: "check the path"})
}

// finish asks whether the lines that stay set aside keep a load from being done.
func (f *fixing) finish(ctx context.Context, r *report.Report) (*report.Report, error) {
	n := r.LinesSetAside()
	if n == 0 || r.Outcome != report.Refused {
		return r, nil
	}
	s := ladlefile.Setting{Key: "set_aside_limit", Value: strconv.FormatInt(n, 10)}
	m := menu{title: plural(n, "line") + " would be set aside, and the load refused",
		choices: []menuChoice{{says: "leave it so"}, {says: "load the others: " + s.YAML()}}}
	choice, _, err := m.ask(ctx)
	switch {
	case errors.Is(err, errQuit), err == nil && choice == 0:
		return r, nil
	case err != nil:
		return nil, err
	}
	if err := f.set(s); err != nil {
		return nil, err
	}
	return f.try(nil)
}
