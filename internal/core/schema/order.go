package schema

import (
	"slices"
	"strings"
)

// Need says that one thing must be done before another, and why.
type Need struct {
	Before, After int
	Why           string
}

// Cycle is the error of needs that go round in a circle.
type Cycle struct {
	Names []string // the circle, the first name again at its end
	Needs []int    // which need it is by which Names[i] needs Names[i+1]
}

func (c *Cycle) Error() string {
	return "circular reference: " + strings.Join(c.Names, " -> ")
}

// Order puts things so that each stands behind all that it needs, and otherwise as they were given.
// A circular reference is an error of type *Cycle.
func Order(names []string, needs []Need) ([]int, error) {
	waits := make([]int, len(names))
	for _, n := range needs {
		waits[n.After]++
	}
	order := make([]int, 0, len(names))
	for len(order) < len(names) {
		next := slices.Index(waits, 0)
		if next < 0 {
			return nil, circle(names, needs, waits)
		}
		order = append(order, next)
		waits[next] = -1
		for _, n := range needs {
			if n.Before == next {
				waits[n.After]--
			}
		}
	}
	return order, nil
}

// circle finds a circle among the things that still wait: each of them needs another one that waits.
func circle(names []string, needs []Need, waits []int) *Cycle {
	at := slices.IndexFunc(waits, func(w int) bool { return w > 0 })
	var path, why []int
	for !slices.Contains(path, at) {
		path = append(path, at)
		i := slices.IndexFunc(needs, func(n Need) bool { return n.After == at && waits[n.Before] > 0 })
		why = append(why, i)
		at = needs[i].Before
	}
	start := slices.Index(path, at)
	c := &Cycle{Needs: why[start:]}
	for _, i := range append(path[start:], at) {
		c.Names = append(c.Names, names[i])
	}
	return c
}
