package main

import (
	"errors"
	"io"
	"os"
	"sync"
	"syscall"

	"golang.org/x/term"

	"paceduel/core/units"
)

// console is the one way on which words leave this program: verdicts and what was asked for on out, all else on err.
type console struct{ out, err *channel }

func newConsole() console { return console{&channel{file: os.Stdout}, &channel{file: os.Stderr}} }

// channel writes to a standard stream. Nothing that a terminal would obey gets through. It never fails to whoever
// writes: a reader that has gone away silences it, since what was to be done is done all the same; anything else that
// goes wrong is kept for the exit status. It is safe for concurrent use.
type channel struct {
	file *os.File

	mu     sync.Mutex
	silent bool
	failed error // the first
}

// Write writes text for people.
func (c *channel) Write(p []byte) (int, error) {
	units.PrintableWriter{To: c.raw()}.Write(p)
	return len(p), nil
}

// raw writes what is fit for a terminal already: JSON, and the bar of a run.
func (c *channel) raw() io.Writer { return rawChannel{c} }

type rawChannel struct{ c *channel }

func (r rawChannel) Write(p []byte) (int, error) {
	c := r.c
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.silent || c.failed != nil {
		return len(p), nil
	}
	switch _, err := c.file.Write(p); {
	case errors.Is(err, syscall.EPIPE):
		c.silent = true
	case err != nil:
		c.failed = err
	}
	return len(p), nil
}

// trouble is what went wrong with writing; nil when nothing did, and when nobody reads any more.
func (c *channel) trouble() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.failed
}

// isTerminal reports whether people read it.
func (c *channel) isTerminal() bool { return isTerminal(c.file) }

// width is how many characters go into a line; 0 where there is no terminal.
func (c *channel) width() int {
	w, _, err := term.GetSize(int(c.file.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// printer writes what a run found to the channel, within its width.
func (c *channel) printer() printer { return printer{out: c, width: c.width()} }
