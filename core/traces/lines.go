package traces

import (
	"encoding/binary"
	"encoding/hex"
	"regexp"

	"paceduel/core/marks"
)

// Lines takes the lines with a time that a service prints, and makes spans of the receiver of them: of each sampled
// shot whose trace stands in their key. It is safe for concurrent use, as writers are that one process prints to.
type Lines struct {
	r     *Receiver
	steps *marks.Steps
	kept  []byte        // under the receiver's lock, as what follows
	open  []marks.Event // that have no end yet
	made  uint64        // spans
}

// LinesOf makes the spans of a service out of what it prints.
func (r *Receiver) LinesOf(steps *marks.Steps) *Lines {
	l := &Lines{r: r, steps: steps}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.lines = append(r.lines, l)
	return l
}

// Write puts aside what was printed; it is read when a heat is over.
func (l *Lines) Write(p []byte) (int, error) {
	l.r.mu.Lock()
	defer l.r.mu.Unlock()
	if len(l.kept)+len(p) > maxAside {
		l.r.counts.Dropped++
		return len(p), nil
	}
	l.kept = append(l.kept, p...)
	return len(p), nil
}

// maxOpen is how many steps may have begun and not ended; of more the latest.
const maxOpen = 10_000

// traceIn finds the identifier of a trace in a key.
var traceIn = regexp.MustCompile(`[0-9a-f]{32}`)

// read makes spans of what was printed. What has begun and not ended waits for more. It is called with the lock
// held.
func (l *Lines) read() {
	end := len(l.kept)
	for end > 0 && l.kept[end-1] != '\n' {
		end--
	}
	l.open = append(l.open, l.steps.Events(l.kept[:end])...)
	l.kept = append(l.kept[:0], l.kept[end:]...)
	var stretches []marks.Stretch
	stretches, l.open = marks.Pair(l.open)
	if len(l.open) > maxOpen {
		l.open = l.open[len(l.open)-maxOpen:]
	}
	for _, s := range stretches {
		var trace [16]byte
		found := traceIn.FindString(s.Key)
		if _, err := hex.Decode(trace[:], []byte(found)); err != nil || found == "" {
			l.r.counts.Foreign++
			continue
		}
		l.made++
		one := span{name: s.Step, process: "lines", begin: s.Begin.Civil, end: s.End.Civil}
		binary.BigEndian.PutUint64(one.id[:], 1<<63|l.made)
		copy(one.parent[:], trace[8:])
		l.r.add(trace, one)
	}
}
