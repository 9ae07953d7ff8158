package inbox

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"ladle/internal/core/fault"
)

const (
	settle = 100 * time.Millisecond // so long what is written bit by bit counts as one change
	blind  = time.Second            // so long Wait lasts at most where the system doesn't tell of changes
)

// Changes tells when something was put into an inbox. A system doesn't tell of what others put into a folder on a network.
type Changes struct {
	watcher *fsnotify.Watcher // nil where the system tells of no changes
}

// Changes begins to listen. Where that is impossible, err says why, and Wait lasts a second at most.
func (f *Folder) Changes() (c *Changes, err error) {
	watcher, err := fsnotify.NewWatcher()
	if err == nil {
		if err = watcher.Add(f.Path); err == nil {
			return &Changes{watcher}, nil
		}
		_ = watcher.Close()
	}
	return &Changes{}, fault.Because(fault.Failed, err, fault.Problem{File: f.Path,
		What: "the system can't tell when files arrive: " + fault.OfSystem(err),
		Do:   "nothing: the folder is looked at every second"})
}

// Close ends listening.
func (c *Changes) Close() error {
	if c.watcher == nil {
		return nil
	}
	return c.watcher.Close()
}

// Wait returns soon after a file was put into the folder or changed there, and at the latest after longest, or when ctx
// ends.
func (c *Changes) Wait(ctx context.Context, longest time.Duration) {
	var events chan fsnotify.Event
	var lost chan error
	if c.watcher != nil {
		events, lost = c.watcher.Events, c.watcher.Errors
	} else {
		longest = min(longest, blind)
	}
	over := time.NewTimer(longest)
	defer over.Stop()
	for came := false; ; {
		select {
		case <-ctx.Done():
			return
		case <-over.C:
			return
		case <-lost: // such as that there were too many
			return
		case e := <-events:
			if !came && arrives(e) {
				came = true
				over.Reset(settle)
			}
		}
	}
}

// arrives reports whether an event may be of a file to load: the program's own files and what is moved away are not.
func arrives(e fsnotify.Event) bool {
	return e.Has(fsnotify.Create|fsnotify.Write) && !strings.HasPrefix(filepath.Base(e.Name), ".")
}
