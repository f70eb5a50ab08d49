package harbour

import (
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Vessels report their positions. So many writers take the reports in at once, each its share, and keep the latest of
// each vessel; what is kept in the end is the same however many they are and in whatever way they share it.

// reportCount is how many reports are taken in; they are made of fewer lines, which come again and again.
const (
	reportCount = 150_000
	reportLines = 5_000
)

// position is where a vessel was last.
type position struct {
	at         int // minutes
	lat, long  float64
	heading    int
	repetition int // of reports of that minute
}

// reports are lines as the receiver has them, in the order in which they come.
func reports() []string {
	rng := rand.New(rand.NewPCG(seed, 5))
	lines := make([]string, reportLines)
	for i := range lines {
		lines[i] = fmt.Sprintf("%d,%04d,%.5f,%.5f,%d", rng.IntN(vesselCount), i/40, 57+rng.Float64(), -6+2*rng.Float64(),
			rng.IntN(360))
	}
	return lines
}

// readReport reads a line; its number settles which of two of the same minute is the later one.
func readReport(line string, number int) (vessel int, p position) {
	fields := strings.Split(line, ",")
	vessel, _ = strconv.Atoi(fields[0])
	p.at, _ = strconv.Atoi(fields[1])
	p.lat, _ = strconv.ParseFloat(fields[2], 64)
	p.long, _ = strconv.ParseFloat(fields[3], 64)
	p.heading, _ = strconv.Atoi(fields[4])
	p.repetition = number
	return vessel, p
}

func (p position) later(than position) bool {
	return p.at > than.at || p.at == than.at && p.repetition > than.repetition
}

// chart keeps the latest position of each vessel.
type chart map[int]position

func (c chart) enter(vessel int, p position) {
	if was, ok := c[vessel]; !ok || p.later(was) {
		c[vessel] = p
	}
}

// recorder takes reports in. Both of its methods may be called by many at once; kept is called when all are in.
type recorder interface {
	take(writer, number int, line string)
	kept() chart
}

// oneLock has one chart and one lock, which is held while a report is read, too.
type oneLock struct {
	mu  sync.Mutex
	all chart
}

func (o *oneLock) take(_, number int, line string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.all.enter(readReport(line, number))
}

func (o *oneLock) kept() chart { return o.all }

// byQuay has many charts, each with a lock that is held for as long as it takes to enter.
type byQuay []struct {
	mu  sync.Mutex
	own chart
}

func newByQuay(n int) byQuay {
	q := make(byQuay, n)
	for i := range q {
		q[i].own = make(chart, vesselCount/n)
	}
	return q
}

func (q byQuay) take(_, number int, line string) {
	vessel, p := readReport(line, number)
	at := &q[vessel%len(q)]
	at.mu.Lock()
	defer at.mu.Unlock()
	at.own.enter(vessel, p)
}

func (q byQuay) kept() chart {
	all := make(chart, vesselCount)
	for i := range q {
		maps.Copy(all, q[i].own)
	}
	return all
}

// byWriter has a chart for each writer, and puts them together in the end.
type byWriter []chart

func newByWriter(n int) byWriter {
	w := make(byWriter, n)
	for i := range w {
		w[i] = make(chart, vesselCount)
	}
	return w
}

func (w byWriter) take(writer, number int, line string) { w[writer].enter(readReport(line, number)) }

func (w byWriter) kept() chart {
	all := make(chart, vesselCount)
	for _, own := range w {
		for vessel, p := range own {
			all.enter(vessel, p)
		}
	}
	return all
}

// Report takes the reports in with so many writers at once, in a way that is one-lock, by-quay or by-writer, and prints
// what is kept.
func Report(way string, writers int, out io.Writer) error {
	if writers < 1 || writers > 256 {
		return fmt.Errorf("%d writers: there may be 1 to 256", writers)
	}
	const quays = 64
	var into recorder
	switch way {
	case "one-lock":
		into = &oneLock{all: make(chart, vesselCount)}
	case "by-quay":
		into = newByQuay(quays)
	case "by-writer":
		into = newByWriter(writers)
	default:
		return fmt.Errorf("there is no way to take reports in called %q: one-lock, by-quay or by-writer", way)
	}
	lines := reports()
	var work sync.WaitGroup
	for writer := range writers {
		work.Go(func() {
			for i := writer; i < reportCount; i += writers {
				into.take(writer, i, lines[i%reportLines])
			}
		})
	}
	work.Wait()
	all := into.kept()
	sum := fnv.New64a()
	for _, vessel := range slices.Sorted(maps.Keys(all)) {
		fmt.Fprintln(sum, vessel, all[vessel])
	}
	_, err := fmt.Fprintf(out, "%d vessels, latest positions %016x\n", len(all), sum.Sum64())
	return err
}
