package worker

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"sync/atomic"
	"time"

	"paceduel/core/launch"
	"paceduel/core/plan"
)

// output is where a worker prints to.
type output struct {
	file, reader *os.File // reader is the other end of a pipe or a terminal; else nil
	stored       bool     // whether file is one on a disk
	read         atomic.Int64
	drained      chan struct{}
	// What is printed comes out of a pipe or a terminal a little later, in its order. So a mark is sent after it, and
	// waited for.
	mark   []byte
	sought atomic.Bool
	found  chan struct{}
	beside io.Writer // nil for nobody
}

// markLimit is how long a mark is waited for: one that was torn by what somebody else prints never comes.
const markLimit = time.Second

// openOutput opens it; what is printed into a pipe or a terminal goes to beside, too, unless that is nil. Whoever wants
// it has it printed into a pipe.
func openOutput(to string, size plan.Size, beside io.Writer) (o *output, err error) {
	o = &output{beside: beside}
	if beside != nil && to != "terminal" {
		to = "pipe"
	}
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
		o.mark = fmt.Appendf(nil, "paceduel-%016x", rand.Uint64())
		o.drained, o.found = make(chan struct{}), make(chan struct{}, 1)
		go o.drain()
	}
	return o, nil
}

func (o *output) drain() {
	defer close(o.drained)
	buf := make([]byte, 64<<10)
	kept := 0 // bytes at the start of buf that were read before: a mark may begin there
	for {
		n, err := o.reader.Read(buf[kept:])
		o.read.Add(int64(n))
		if o.beside != nil {
			o.beside.Write(bytes.ReplaceAll(buf[kept:kept+n], o.mark, nil)) // nobody's but ours
		}
		n += kept
		if o.sought.Load() && bytes.Contains(buf[:n], o.mark) {
			o.read.Add(-int64(len(o.mark)))
			o.sought.Store(false)
			n = 0
			o.found <- struct{}{}
		}
		kept = copy(buf, buf[max(n-len(o.mark)+1, 0):n])
		if err != nil {
			return // the end of a terminal is an error, too
		}
	}
}

// length is how much was printed up to now, in bytes; 0 where it goes to nothing.
func (o *output) length() (n int64) {
	if o.stored {
		if info, err := o.file.Stat(); err == nil {
			n = info.Size()
		}
		return n
	}
	if o.reader == nil {
		return 0
	}
	o.sought.Store(true)
	if _, err := o.file.Write(o.mark); err == nil {
		limit := time.NewTimer(markLimit)
		defer limit.Stop()
		select {
		case <-o.found:
		case <-limit.C:
		}
	}
	return o.read.Load()
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
