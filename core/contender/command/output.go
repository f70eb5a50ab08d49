package command

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"time"

	"paceduel/core/launch"
	"paceduel/core/marks"
	"paceduel/core/shots"
)

// output is where a process's standard output goes, and what is known of it afterwards.
type output struct {
	file     *os.File
	stored   *os.File // when it can be looked at afterwards: in memory, or in the file that the plan asks for
	reader   *os.File // when read by us: the other end of a pipe or a terminal
	terminal *os.File // our end of a terminal; the reader too
	drained  chan struct{}
	count    int64
	lines    int64
	kept     bytes.Buffer
}

// output makes the place that one run prints to. What is only kept for a sample never goes elsewhere than unsampled
// runs' output does.
func (c *client) output(view *shots.View) (*output, error) {
	if view == nil && (c.marks.Reads("stdout") || c.steps != nil && c.d.settings.Lines.From != "stderr") {
		view = &shots.View{Limit: marks.MaxText, Sample: true}
	}
	switch c.d.settings.Stdout {
	case "pipe":
		r, w, err := os.Pipe()
		if err != nil {
			return nil, fmt.Errorf("open a pipe for output: %w", err)
		}
		o := &output{file: w, reader: r, drained: make(chan struct{})}
		go o.drain(view)
		return o, nil
	case "terminal":
		ours, theirs, err := launch.Terminal(c.d.settings.Size)
		if err != nil {
			return nil, err
		}
		o := &output{file: theirs, reader: ours, terminal: ours, drained: make(chan struct{})}
		if view == nil {
			view = &shots.View{Limit: maxLastWords} // nothing else holds what it says of a failure
		}
		go o.drain(view)
		return o, nil
	case "file":
		if err := c.stdout.Truncate(0); err != nil {
			return nil, fmt.Errorf("empty the file for output: %w", err)
		}
		c.stdout.Seek(0, io.SeekStart)
		return &output{file: c.stdout, stored: c.stdout}, nil
	}
	if view != nil && !view.Sample {
		m, err := memoryFile()
		return &output{file: m, stored: m}, err
	}
	return &output{file: c.stdout}, nil
}

// maxLastWords is how much is kept of what a run says on a terminal, to be told when it fails.
const maxLastWords = 4 << 10

var lineEnd = []byte{'\n'}

// countLines reads stored output once more, outside any timing.
func (o *output) countLines() {
	buf := make([]byte, 64<<10)
	for at := int64(0); ; {
		n, err := o.stored.ReadAt(buf, at)
		at += int64(n)
		o.lines += int64(bytes.Count(buf[:n], lineEnd))
		if err != nil {
			return // its end
		}
	}
}

func (o *output) drain(view *shots.View) {
	defer close(o.drained)
	buf := make([]byte, 64<<10)
	for {
		n, err := o.reader.Read(buf)
		o.count += int64(n)
		o.lines += int64(bytes.Count(buf[:n], lineEnd))
		if view != nil {
			o.kept.Write(buf[:min(n, max(view.Room()-o.kept.Len(), 0))])
		}
		if err != nil {
			return // the end of a terminal is an error, too
		}
	}
}

// finish waits for the last bytes. The whole group is gone by now, so nobody holds the other end, unless a process left
// its group; the deadline is for that one.
func (o *output) finish(shot *shots.Shot) {
	if o.reader != nil {
		o.file.Close()
		o.reader.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		<-o.drained
		shot.Received = o.count
	}
	if o.stored != nil {
		if info, err := o.stored.Stat(); err == nil {
			shot.Received = info.Size()
		}
		o.countLines()
	}
	shot.Count(lines, o.lines)
}

// seen is the head of the output and its whole length; known is false where it went to nothing.
func (o *output) seen(room int) (head []byte, length int64, known bool) {
	if o.stored != nil {
		info, err := o.stored.Stat()
		if err != nil {
			return nil, 0, false
		}
		return headOf(o.stored, int(min(int64(room), info.Size()))), info.Size(), true
	}
	return o.kept.Bytes(), o.count, o.reader != nil
}

// close releases what the run alone had; drained or not, the reader has ended by then.
func (o *output) close(keep *os.File) {
	if o.reader != nil {
		o.file.Close()
		o.reader.SetReadDeadline(time.Now())
		<-o.drained
		o.reader.Close()
	}
	if o.stored != nil && o.stored != keep {
		o.stored.Close()
	}
}
