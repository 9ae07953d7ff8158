package engine

// CarefulSender sends rows in savepoints, and finds those that a server rejects: one by one, where the server can be told
// to do so by itself; else that which it names, and where it names none, by halves.
type CarefulSender struct {
	Exec func(statement string) error
	Send func(start, end int) error // sends the rows from start to end

	// Refusal reports whether an error of Send is about a row, why, and which one, from start; -1 where it doesn't say.
	Refusal func(error) (row int, why string, refused bool)

	// Each sends the rows from start to end one by one within the server and returns those that are not taken, counted
	// from start; able is false where the server can't do that, and nothing is sent then. It may be nil.
	Each func(start, end int) (rejected []Rejection, able bool, err error)

	// Expecting is true where some of the rows will probably be rejected, so that they are not sent together first. Rows
	// sets it for the next rows of their kind.
	Expecting *bool

	rejected []Rejection
}

// Rows sends so many rows and returns those that are not taken.
func (c *CarefulSender) Rows(count int) ([]Rejection, error) {
	done, err := false, error(nil)
	if c.Each != nil && *c.Expecting && count > 1 {
		done, err = c.each(0, count)
	}
	if !done && err == nil {
		err = c.rows(0, count)
	}
	if c.Each != nil {
		*c.Expecting = len(c.rejected) > 0
	}
	return c.rejected, err
}

// each sends rows one by one; false where that can't be done.
func (c *CarefulSender) each(start, end int) (done bool, err error) {
	rejected, able, err := c.Each(start, end)
	if err != nil || !able {
		return false, err
	}
	for _, r := range rejected {
		c.rejected = append(c.rejected, Rejection{Row: start + r.Row, Why: r.Why})
	}
	return true, nil
}

func (c *CarefulSender) rows(start, end int) error {
	if start == end {
		return nil
	}
	if err := c.Exec("SAVEPOINT ladle_batch"); err != nil {
		return err
	}
	failed := c.Send(start, end)
	if failed == nil {
		return c.Exec("RELEASE SAVEPOINT ladle_batch")
	}
	row, why, refused := c.Refusal(failed)
	if !refused {
		return failed
	}
	for _, statement := range []string{"ROLLBACK TO SAVEPOINT ladle_batch", "RELEASE SAVEPOINT ladle_batch"} {
		if err := c.Exec(statement); err != nil {
			return err
		}
	}
	if c.Each != nil && end-start > 1 {
		if done, err := c.each(start, end); done || err != nil {
			return err
		}
		c.Each = nil
	}
	bad := start + row
	switch {
	case end-start == 1:
		bad = start
	case row < 0 || bad >= end:
		middle := (start + end) / 2
		if err := c.rows(start, middle); err != nil {
			return err
		}
		return c.rows(middle, end)
	}
	if err := c.rows(start, bad); err != nil {
		return err
	}
	c.rejected = append(c.rejected, Rejection{Row: bad, Why: why})
	return c.rows(bad+1, end)
}
