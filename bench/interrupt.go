package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"time"

	"ladle/demo"
)

// interrupts measures how long a load goes on after an interrupt, on one kind of database or on all: a load with
// lookups and checks is interrupted once in each tenth of the time that it takes, so in all of its phases.
func (b *bench) interrupts(only string, runs int) error {
	h := demo.NewHarbour(0, million/10, 1)
	h.Cargo = true
	ladle, err := b.with("interrupts", h)
	if err != nil {
		return err
	}
	for _, p := range b.places(only) {
		url, err := p.create()
		if err != nil {
			return err
		}
		whole, _, err := run(b.program, "load", ladle, "--db", url, "--yes", "--json")
		if err != nil {
			return err
		}
		var times []float64
		for range runs {
			for tenth := range 10 {
				if url, err = p.create(); err != nil {
					return err
				}
				after := time.Duration((float64(tenth) + 0.5) / 10 * whole * float64(time.Second))
				took, ended, err := b.interrupted(after, "load", ladle, "--db", url, "--yes", "--json")
				if err != nil {
					return fmt.Errorf("%s, interrupted after %s: %w", p.name, after, err)
				}
				if !ended {
					times = append(times, took)
				}
			}
		}
		if len(times) == 0 {
			return fmt.Errorf("%s: every load was done before its interrupt", p.name)
		}
		fmt.Printf("  %s: %d of %d loads of %.1f s interrupted\n", p.name, len(times), 10*runs, whole)
		figure(p.name+"_interrupt_median", median(times)*1000, "ms", "-")
		figure(p.name+"_interrupt_longest", slices.Max(times)*1000, "ms", "2000")
	}
	return nil
}

// interrupted runs the program and interrupts it after a while. It returns the seconds from then to its end, and
// whether the program was done before.
func (b *bench) interrupted(after time.Duration, arguments ...string) (seconds float64, ended bool, err error) {
	c := exec.Command(b.program, arguments...)
	if err := c.Start(); err != nil {
		return 0, false, err
	}
	time.Sleep(after)
	begun := time.Now()
	if err := c.Process.Signal(os.Interrupt); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return 0, false, err
	}
	err = c.Wait()
	seconds = time.Since(begun).Seconds()
	switch status := c.ProcessState.ExitCode(); status {
	case 0, 4:
		return seconds, true, nil
	case 130:
		return seconds, false, nil
	}
	return seconds, false, err
}
