package tally

import (
	"math/bits"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

const (
	maxLatency = time.Hour // longer ones are recorded as this
	digits     = 3         // significant digits of a histogram: a value error of at most 0.1 %
	slots      = 1024      // of an octave, which give these digits
	octaves    = 33        // up to maxLatency
)

// NewHistogram returns an empty histogram of nanoseconds with at most 0.1 % value error, from 1 ns to 1 h.
func NewHistogram() *hdrhistogram.Histogram {
	return hdrhistogram.New(1, int64(maxLatency), digits)
}

// counts is a histogram with the buckets of NewHistogram, of which only those octaves take memory in which something
// lies: some 20 KiB where the whole takes 270. An octave is allocated when its first value comes. The zero value is
// empty.
type counts struct {
	octave [octaves]*[slots]uint32
}

// record adds a value, which it keeps between 1 ns and maxLatency.
func (c *counts) record(d time.Duration) {
	v := uint64(d)
	if v-1 >= uint64(maxLatency) { // none, negative or too long
		v = uint64(min(max(d, 1), maxLatency))
	}
	octave := uint(0)
	if v >= slots {
		octave = uint(bits.Len64(v)) - 10
		v = v >> (octave - 1) & (slots - 1)
	}
	if c.octave[octave] == nil {
		c.octave[octave] = new([slots]uint32)
	}
	c.octave[octave][v]++
}

// reset empties it and keeps its memory.
func (c *counts) reset() {
	for _, o := range c.octave {
		if o != nil {
			clear(o[:])
		}
	}
}

// addTo adds all values to h, which has the same buckets.
func (c *counts) addTo(h *hdrhistogram.Histogram) {
	for octave, o := range c.octave {
		if o == nil {
			continue
		}
		for slot, n := range o {
			if n == 0 {
				continue
			}
			v := int64(slot)
			if octave > 0 {
				v = (v + slots) << (octave - 1)
			}
			h.RecordValues(v, int64(n)) // never out of range
		}
	}
}

// any reports whether there are values.
func (c *counts) any() bool {
	for _, o := range c.octave {
		if o != nil && *o != ([slots]uint32{}) {
			return true
		}
	}
	return false
}
