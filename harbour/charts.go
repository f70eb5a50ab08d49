package harbour

import (
	"encoding/binary"
	"math/rand/v2"
	"path/filepath"
)

// chartBytes is how long the archive of charts is: long enough that moving it takes a while, and far too long for what
// a processor keeps beside it.
const chartBytes = 16 << 20

// charts is the archive of the harbour's charts: soundings that nothing makes shorter.
func charts() []byte {
	rng := rand.New(rand.NewPCG(seed, 5))
	archive := make([]byte, 0, chartBytes)
	for len(archive) < chartBytes {
		archive = binary.LittleEndian.AppendUint64(archive, rng.Uint64())
	}
	return archive
}

// layCharts writes the archive into dir.
func layCharts(dir string) error { return put(filepath.Join(dir, "charts.bin"), charts()) }
