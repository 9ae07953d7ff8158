package cli

import (
	"ladle/internal/core/fault"
	"ladle/internal/core/reason"
)

// hints name what else a person can do, by an option.
var hints = map[fault.Hint]string{
	fault.WithoutLogbook: "or give --no-logbook; the run can't be undone then",
	fault.Replace:        "or give --replace",
	fault.WaitLonger:     "--wait 10m waits up to ten minutes",
	fault.GoOn:           "or load the others: give the same command, with --go-on and the number of the run",
}

// reasonHints name the option by which a load goes on in spite of a reason.
var reasonHints = map[reason.Kind]string{
	reason.LoadedBefore:      "--again adds them",
	reason.LoadedInPart:      "--go-on with the number of the run loads the rest",
	reason.TooLarge:          "--in-parts 100000 commits after every 100,000 lines",
	reason.RemovalNotAllowed: "with --yes, rows are removed only if --allow-removal is given too",
}

// whyRefused says why a load or undo was refused, and what can be done.
func whyRefused(why *reason.Cause) string {
	if hint := reasonHints[why.Kind]; hint != "" {
		return why.Words() + "; " + hint
	}
	return why.Words()
}
