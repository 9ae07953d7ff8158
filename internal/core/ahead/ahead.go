// Package ahead lets one goroutine make things while another one uses those that were made before.
package ahead

import (
	"errors"

	"ladle/internal/core/fault"
)

// errUnwanted is what give answers once nobody wants more.
var errUnwanted = errors.New("nothing more is wanted")

// Of has produce give things, in a goroutine of its own, and calls use for each of them, in their order: while use works on
// one, produce makes the next. What was given belongs to use until that is done with it, which it is when the next give is
// back. An error of use ends produce at its next give, and is that of Of; else it is the error of produce. Of is back only
// when produce is.
func Of[T any](produce func(give func(T) error) error, use func(T) error) error {
	things, stop := make(chan T), make(chan struct{})
	var err error
	go func() {
		defer close(things)
		defer fault.Recover(&err)
		err = produce(func(t T) error {
			select {
			case things <- t:
				return nil
			case <-stop:
				return errUnwanted
			}
		})
	}()
	defer func() {
		close(stop)
		for range things { //nolint:revive // what nobody wants any more
		}
	}()
	for t := range things {
		if err := use(t); err != nil {
			return err
		}
	}
	return err
}
