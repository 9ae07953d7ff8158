package engine

// CarefulSender sends rows in savepoints, and finds those that a server rejects: where it names one, that one; where it
// doesn't, by halves.
type CarefulSender struct {
	Exec func(statement string) error
	Send func(start, end int) error // sends the rows from start to end

	// Refusal reports whether an error of Send is about a row, why, and which one, from start; -1 where it doesn't say.
	Refusal func(error) (row int, why string, refused bool)

	rejected []Rejection
}

// Rows sends so many rows and returns those that are not taken.
func (c *CarefulSender) Rows(count int) ([]Rejection, error) {
	err := c.rows(0, count)
	return c.rejected, err
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
