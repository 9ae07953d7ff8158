package term

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"
)

// Manner is how progress is shown.
type Manner string

const (
	Plain Manner = "text" // for people
	JSON  Manner = "json" // an object a line: what, done, of, unit; or says
	None  Manner = "none"
)

// ProgressIn is how all progress of the program is shown.
var ProgressIn = Plain

// Progress shows how far something is: on a terminal in one line that changes, else in a line every so often.
type Progress struct {
	manner   Manner
	mu       sync.Mutex
	out      io.Writer
	terminal bool
	now      func() time.Time
	what     string
	begun    time.Time // of what
	shown    time.Time
	told     time.Time // of the last sign of progress, or of what was said of its lack
	wide     int
}

// NewProgress shows on standard error.
func NewProgress() *Progress {
	p := &Progress{manner: ProgressIn, out: os.Stderr, terminal: term.IsTerminal(int(os.Stderr.Fd())), now: time.Now}
	p.shown = p.now()
	go func() {
		for now := range time.Tick(time.Second) {
			p.watch(now)
		}
	}()
	return p
}

// watch says when there has been no progress for long.
func (p *Progress) watch(now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.what == "" || now.Sub(p.told) < long {
		return
	}
	p.told = now
	p.say(fmt.Sprintf("%s: no progress for %s; waiting for the database or the file", p.what, long))
}

// Say tells something that happens while progress is shown.
func (p *Progress) Say(format string, parts ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.say(fmt.Sprintf(format, parts...))
}

func (p *Progress) say(text string) {
	switch p.manner {
	case JSON:
		p.object(struct {
			Says string `json:"says"`
		}{Safe(text)})
	case Plain:
		p.clear()
		fmt.Fprintln(p.out, Safe(text))
	}
}

// object writes a line of JSON.
func (p *Progress) object(of any) {
	line, err := json.Marshal(of)
	if err == nil {
		fmt.Fprintf(p.out, "%s\n", line)
	}
}

const (
	// how often the line of a terminal changes; what is over sooner is not shown at all
	refresh = 200 * time.Millisecond
	seldom  = 10 * time.Second // between lines where there is no terminal
	often   = time.Second      // between objects
	long    = 30 * time.Second // without progress
)

// Show says that done of all is done of what, in units like rows; bytes are shown in larger units.
func (p *Progress) Show(what string, done, of int64, unit string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.now()
	p.told = now
	if what != p.what {
		p.what, p.begun = what, now
	}
	wait := seldom
	switch {
	case p.manner == None:
		return
	case p.manner == JSON && done == of:
		wait = 0
	case p.manner == JSON:
		wait = often
	case p.terminal:
		wait = refresh
	}
	if now.Sub(p.shown) < wait {
		return
	}
	p.shown = now
	if p.manner == JSON {
		p.object(struct {
			What string `json:"what"`
			Done int64  `json:"done"`
			Of   int64  `json:"of"`
			Unit string `json:"unit"`
		}{Safe(what), done, of, unit})
		return
	}
	line := Safe(what) + ": " + account(done, of, unit, now.Sub(p.begun))
	if !p.terminal {
		fmt.Fprintln(p.out, line)
		return
	}
	if buf := p.width() - 1; len(line) > buf {
		line = line[:buf]
	}
	fmt.Fprintf(p.out, "\r%-*s", p.wide, line)
	p.wide = len(line)
}

func (p *Progress) width() int {
	if w, _, err := term.GetSize(int(os.Stderr.Fd())); err == nil && w > narrowest {
		return w
	}
	return usual
}

// account says how much is done, how fast it goes, and how long the rest will take.
func account(done, of int64, unit string, taken time.Duration) string {
	share := int64(100)
	if of > 0 {
		share = min(done*100/of, 100)
	}
	parts := []string{fmt.Sprintf("%d %%", share), amount(float64(done), unit)}
	if seconds := taken.Seconds(); seconds > 0.5 && done > 0 {
		rate := float64(done) / seconds
		parts = append(parts, amount(rate, unit)+"/s")
		if done < of {
			parts = append(parts, fmt.Sprintf("%s left", time.Duration(math.Ceil(float64(of-done)/rate))*time.Second))
		}
	}
	return strings.Join(parts, ", ")
}

func amount(n float64, unit string) string {
	if unit == "bytes" {
		return fmt.Sprintf("%.1f MB", n/1e6)
	}
	return fmt.Sprintf("%.0f %s", n, unit)
}

// Clear takes the line away, until there is progress again.
func (p *Progress) Clear() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.what = ""
	p.clear()
}

func (p *Progress) clear() {
	if p.wide > 0 {
		fmt.Fprintf(p.out, "\r%*s\r", p.wide, "")
		p.wide = 0
	}
}
