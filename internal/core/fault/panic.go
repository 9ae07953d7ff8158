package fault

import (
	"fmt"
	"runtime"
	"strings"
)

// Recover turns a panic into an error, which it puts into err; it must be deferred itself. The error says where in the
// program the panic was, and nothing of the data that the program held.
func Recover(err *error) {
	if p := recover(); p != nil {
		*err = At(Failed, Problem{What: "ladle itself has a fault, in " + panicked(),
			Do: "please report this line; nothing that was not committed is changed"})
	}
}

// panicked is the function and line of the program in which a panic began.
func panicked() string {
	callers := make([]uintptr, 64)
	frames := runtime.CallersFrames(callers[:runtime.Callers(0, callers)])
	began, first := false, ""
	for {
		frame, more := frames.Next()
		began = began || frame.Function == "runtime.gopanic" || frame.Function == "runtime.sigpanic"
		if began && !strings.HasPrefix(frame.Function, "runtime.") {
			place := fmt.Sprintf("%s, line %d", frame.Function, frame.Line)
			if strings.HasPrefix(frame.Function, "ladle/") {
				return place
			}
			if first == "" {
				first = place // of a library, if no function of ladle called it
			}
		}
		if !more {
			return first
		}
	}
}
