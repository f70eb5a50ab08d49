package harbour

import (
	"bufio"
	"cmp"
	"compress/flate"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"sort"
)

// The ship log is written in batches: entries come in any order, and each batch is written packed, its entries in the
// order of their minutes.

// entryCount is how many entries a log has.
const entryCount = 30_000

// entry is a line of the log.
type entry struct {
	minute int
	text   [56]byte
}

func entries() []entry {
	rng := rand.New(rand.NewPCG(seed, 6))
	out := make([]entry, entryCount)
	for i := range out {
		out[i].minute = rng.IntN(1 << 20)
		copy(out[i].text[:], fmt.Sprintf("%s %s at %s", vesselName(rng.IntN(vesselCount)), kinds[rng.IntN(len(kinds))],
			quays[rng.IntN(len(quays))]))
	}
	return out
}

// WriteLog writes the log in batches of so many entries, in a way that keeps each batch in order as entries come
// (as-they-come) or puts it in order when it is full (when-full). It prints how many entries and batches there were.
func WriteLog(way string, batch int, out io.Writer) error {
	if batch < 1 || batch > entryCount {
		return fmt.Errorf("batches of %d: they may be of 1 to %d", batch, entryCount)
	}
	inOrder := func(a, b entry) int { return cmp.Compare(a.minute, b.minute) }
	var add func(full []entry, e entry) []entry
	switch way {
	case "as-they-come":
		add = func(full []entry, e entry) []entry {
			at := sort.Search(len(full), func(i int) bool { return full[i].minute > e.minute }) // behind its equals
			return slices.Insert(full, at, e)
		}
	case "when-full":
		add = func(full []entry, e entry) []entry { return append(full, e) }
	default:
		return fmt.Errorf("there is no way to write the log called %q: as-they-come or when-full", way)
	}
	packed := &counter{}
	pack, err := flate.NewWriter(packed, flate.BestSpeed)
	if err != nil {
		return err
	}
	var full []entry
	sum, batches := 0, 0
	flush := func() error {
		slices.SortStableFunc(full, inOrder) // nothing to do where they are in order already
		pack.Reset(packed)                   // every batch can be read by itself
		w := bufio.NewWriter(pack)
		for i := range full {
			fmt.Fprintf(w, "%07d %s\n", full[i].minute, full[i].text[:])
			sum += full[i].minute
		}
		full, batches = full[:0], batches+1
		if err := w.Flush(); err != nil {
			return err
		}
		return pack.Close()
	}
	for _, e := range entries() {
		if full = add(full, e); len(full) == batch {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	if len(full) > 0 {
		if err := flush(); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintf(out, "%d entries, minutes %d; packed %d bytes\n", entryCount, sum, packed.n)
	return err
}

// counter counts what is written to it.
type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}
