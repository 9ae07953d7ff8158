package term

import (
	"fmt"
	"os"
	"time"

	"golang.org/x/term"
)

// Progress shows how far something is on one line of standard error, where that is a terminal; else nothing.
type Progress struct {
	on    bool
	shown time.Time
	wide  int
}

// NewProgress is ready to show.
func NewProgress() *Progress {
	return &Progress{on: term.IsTerminal(int(os.Stderr.Fd())), shown: time.Now()}
}

// refresh is how often the line changes; what is over sooner is not shown at all.
const refresh = 200 * time.Millisecond

// Show says that done of all is done of what.
func (p *Progress) Show(what string, done, of int64) {
	if !p.on || time.Since(p.shown) < refresh {
		return
	}
	p.shown = time.Now()
	share := int64(100)
	if of > 0 {
		share = min(done*100/of, 100)
	}
	line := fmt.Sprintf("%s %d %%", what, share)
	fmt.Fprintf(os.Stderr, "\r%-*s", p.wide, line)
	p.wide = len(line)
}

// Clear takes the line away.
func (p *Progress) Clear() {
	if p.wide > 0 {
		fmt.Fprintf(os.Stderr, "\r%*s\r", p.wide, "")
		p.wide = 0
	}
}
