package harbour

import (
	"bufio"
	"fmt"
	"os"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"

	worker "paceduel/workers/go"
)

// The harbour's worker has functions that are too short for a process of their own: keeping a position report on the
// disk, and working out a week of tides.

// Work serves the harbour's functions to whoever started this program as a worker. It returns when that one is done,
// and ends the program where there is nobody.
func Work() {
	var functions []worker.Function
	for _, k := range keepers {
		functions = append(functions, worker.Function{
			Name: k.way, About: k.about, Threads: mostKeepers, Make: keeping(k.open),
		})
	}
	for _, w := range weeks {
		functions = append(functions, worker.Function{
			Name: w.way, About: w.about, Params: worker.Params{"station": 0.0},
			Make: func(p worker.Params) worker.Loop { return w.loop(int(p["station"].(float64))) },
		})
	}
	worker.Serve("Skerrow Harbour", functions...)
}

// journal is a file that position reports are kept in, line by line, until it is full and begun anew.
type journal interface {
	// keep is called by many at once. What it was given is in the file when it or a later flush has returned.
	keep(line []byte)
	flush()
}

const (
	journalSize = 16 << 20 // bytes
	mostKeepers = 64
)

var keepers = []struct {
	way, about string
	open       func() (journal, error)
}{
	{"locked", "one file and one lock, a write for each report", openLocked},
	{"queued", "reports wait in a queue, and one writer takes them from there", openQueued},
	{"appended", "a write for each report, put at the end by the kernel", openAppended},
	{"mapped", "a file in memory, in which each report takes its place", openMapped},
}

// keeping makes the loop of a way to keep reports. Its result is what one of them looks like in the file.
func keeping(open func() (journal, error)) func(worker.Params) worker.Loop {
	lines := make([][]byte, 0, reportLines)
	for _, line := range reports() {
		lines = append(lines, []byte(line+"\n"))
	}
	return func(worker.Params) worker.Loop {
		j, err := open()
		if err != nil {
			panic(fmt.Errorf("keep position reports: %w", err)) // the worker ends, with these words
		}
		var kept atomic.Int64
		return func(thread int, n int64) any {
			at := int(kept.Add(n)-n) + thread
			for i := range int(n) {
				j.keep(lines[(at+i)%len(lines)])
			}
			j.flush()
			return string(lines[at%len(lines)])
		}
	}
}

// scratch is a file without a name, so that nothing of it stays.
func scratch() (*os.File, error) {
	f, err := os.CreateTemp("", "paceduel-journal-*")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}

// must ends the worker where the disk does not take what it is given.
func must(err error) {
	if err != nil {
		panic(fmt.Errorf("keep a position report: %w", err))
	}
}

// locked writes each report by itself, one writer after another.
type locked struct {
	mu   sync.Mutex
	file *os.File
	size int
}

func openLocked() (journal, error) {
	f, err := scratch()
	return &locked{file: f}, err
}

func (l *locked) keep(line []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.size += len(line); l.size > journalSize {
		l.size = len(line)
		_, err := l.file.Seek(0, 0)
		must(err)
	}
	_, err := l.file.Write(line)
	must(err)
}

func (l *locked) flush() {}

// queued hands reports to one writer, which gathers what it finds before it writes.
type queued struct {
	file  *os.File
	lines chan note
}

// note is a report, or without a line somebody who waits for all before it to be written.
type note struct {
	line    []byte
	written chan<- struct{}
}

func openQueued() (journal, error) {
	f, err := scratch()
	if err != nil {
		return nil, err
	}
	q := &queued{f, make(chan note, 1024)}
	go q.write()
	return q, nil
}

func (q *queued) write() {
	out, size := bufio.NewWriterSize(q.file, 64<<10), 0
	for n := range q.lines {
		if n.written != nil {
			must(out.Flush())
			close(n.written)
			continue
		}
		if size += len(n.line); size > journalSize {
			must(out.Flush())
			size = len(n.line)
			_, err := q.file.Seek(0, 0)
			must(err)
		}
		_, err := out.Write(n.line)
		must(err)
	}
}

func (q *queued) keep(line []byte) { q.lines <- note{line: line} }

func (q *queued) flush() {
	written := make(chan struct{})
	q.lines <- note{written: written}
	<-written
}

// appended leaves it to the kernel to put one report behind another.
type appended struct {
	file *os.File
	size atomic.Int64
}

func openAppended() (journal, error) {
	f, err := scratch()
	if err != nil {
		return nil, err
	}
	_, err = unix.FcntlInt(f.Fd(), unix.F_SETFL, unix.O_APPEND)
	return &appended{file: f}, err
}

func (a *appended) keep(line []byte) {
	if size := a.size.Add(int64(len(line))); size > journalSize && a.size.CompareAndSwap(size, 0) {
		must(a.file.Truncate(0))
	}
	_, err := a.file.Write(line)
	must(err)
}

func (a *appended) flush() {}

// mapped is a file whose pages lie in memory; a report takes the next free place of it.
type mapped struct {
	pages []byte
	next  atomic.Int64
}

func openMapped() (journal, error) {
	f, err := scratch()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	pages, err := unix.Mmap(int(f.Fd()), 0, journalSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err == nil {
		err = f.Truncate(journalSize)
	}
	return &mapped{pages: pages}, err
}

func (m *mapped) keep(line []byte) {
	for {
		end := m.next.Add(int64(len(line)))
		if end <= journalSize {
			copy(m.pages[end-int64(len(line)):], line)
			return
		}
		m.next.CompareAndSwap(end, 0)
	}
}

func (m *mapped) flush() {}

// weekDays is how many days of tides are worked out in one go.
const weekDays = 7

var weeks = []struct {
	way, about string
	loop       func(station int) worker.Loop
}{
	{"in-turn", "one day after another", func(station int) worker.Loop {
		return weekly(station, func(week *[weekDays][]int16, day func(int) []int16) {
			for d := range week {
				week[d] = day(d)
			}
		})
	}},
	{"at-once", "each day by itself, all at once", func(station int) worker.Loop {
		return weekly(station, func(week *[weekDays][]int16, day func(int) []int16) {
			var all sync.WaitGroup
			for d := range week {
				all.Go(func() { week[d] = day(d) })
			}
			all.Wait()
		})
	}},
	{"apart", "one day after another, on a thread of its own", func(station int) worker.Loop {
		ask, done := make(chan func()), make(chan struct{})
		go func() {
			runtime.LockOSThread()
			for do := range ask {
				do()
				done <- struct{}{}
			}
		}()
		return weekly(station, func(week *[weekDays][]int16, day func(int) []int16) {
			ask <- func() {
				for d := range week {
					week[d] = day(d)
				}
			}
			<-done
		})
	}},
}

// weekly works out a week of a station in a way, week after week. Its result is the highest water of each day.
func weekly(station int, way func(week *[weekDays][]int16, day func(int) []int16)) worker.Loop {
	waves := wavesOf(station)
	return func(_ int, n int64) any {
		var week [weekDays][]int16
		for range n {
			way(&week, func(d int) []int16 {
				heights := make([]int16, daySteps)
				for at := range heights {
					heights[at] = heightAt(waves, d*daySteps+at)
				}
				return heights
			})
		}
		var highest [weekDays]int16
		for d, heights := range week {
			highest[d] = slices.Max(heights)
		}
		return highest
	}
}
