package source

import (
	"context"
	"errors"
	"io"
	"runtime"

	"ladle/internal/core/fault"
)

// part is a chunk on its way through Each.
type part[T any] struct {
	chunk *Chunk
	made  T
	err   error // the work came to no end
	done  chan struct{}
}

// Each reads t to its end. Chunks are given to work, several side by side, and what work made of them to keep, one
// after the other in the order of the file. Neither may hold on to the memory of a chunk. What work made must not be
// used when it failed.
func Each[T any](ctx context.Context, t Table, work func(*Chunk) T, keep func(*Chunk, T) error) error {
	inner, stop := context.WithCancel(ctx)
	defer stop()
	workers := runtime.GOMAXPROCS(0)
	todo, ordered := make(chan *part[T], 2*workers), make(chan *part[T], 2*workers)
	for range workers {
		go func() {
			for p := range todo {
				p.make(work)
			}
		}()
	}
	failed := make(chan error, 1)
	go func() {
		defer close(ordered)
		defer close(todo)
		var err error
		defer func() { failed <- err }()
		defer fault.Recover(&err)
		err = feed(inner, t, todo, ordered)
	}()
	var err error
	for p := range ordered {
		<-p.done
		if err != nil {
			continue
		}
		if err = errors.Join(ctx.Err(), p.err, p.chunk.Err()); err == nil {
			t.count(p.chunk)
			err = keep(p.chunk, p.made)
			p.chunk.Release()
		}
		if err != nil {
			stop() // the feeder ends, and nobody works on when this returns
		}
	}
	if err != nil {
		return err
	}
	return <-failed
}

// make has the work done.
func (p *part[T]) make(work func(*Chunk) T) {
	defer close(p.done)
	defer fault.Recover(&p.err)
	p.made = work(p.chunk)
}

// feed hands out the chunks of the table.
func feed[T any](ctx context.Context, t Table, todo, ordered chan<- *part[T]) error {
	for {
		chunk, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		p := &part[T]{chunk: chunk, done: make(chan struct{})}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case ordered <- p:
		}
		todo <- p
	}
}
