package worker

import (
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/launch"
	"paceduel/core/plan"
)

// output is where a worker prints to.
type output struct {
	file, reader *os.File // reader is the other end of a pipe or a terminal; else nil
	stored       bool     // whether file is one on a disk
	read         atomic.Int64
	drained      chan struct{}
}

func openOutput(to string, size plan.Size) (o *output, err error) {
	o = &output{}
	switch to {
	case "pipe":
		o.reader, o.file, err = os.Pipe()
	case "terminal":
		o.reader, o.file, err = launch.Terminal(size)
	case "file":
		o.stored = true
		if o.file, err = os.CreateTemp("", "paceduel-output-*"); err == nil {
			err = os.Remove(o.file.Name()) // nobody else needs its name
		}
	default:
		o.file, err = os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	}
	if err != nil {
		return nil, fmt.Errorf("open what the worker prints to: %w", err)
	}
	if o.reader != nil {
		o.drained = make(chan struct{})
		go o.drain()
	}
	return o, nil
}

func (o *output) drain() {
	defer close(o.drained)
	buf := make([]byte, 64<<10)
	for {
		n, err := o.reader.Read(buf)
		o.read.Add(int64(n))
		if err != nil {
			return // the end of a terminal is an error, too
		}
	}
}

// length is how much was printed up to now, in bytes; 0 where it goes to nothing. What lies in a pipe is counted.
func (o *output) length() (n int64) {
	switch {
	case o.stored:
		if info, err := o.file.Stat(); err == nil {
			n = info.Size()
		}
	case o.reader != nil:
		n = o.read.Load()
		if raw, err := o.reader.SyscallConn(); err == nil {
			raw.Control(func(fd uintptr) {
				if waiting, err := unix.IoctlGetInt(int(fd), unix.TIOCINQ); err == nil {
					n += int64(waiting)
				}
			})
		}
	}
	return n
}

// close closes it, once whoever printed has gone; one who left the group and holds a pipe open is not waited for.
func (o *output) close() {
	o.file.Close()
	if o.reader != nil {
		o.reader.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		<-o.drained
		o.reader.Close()
	}
}
