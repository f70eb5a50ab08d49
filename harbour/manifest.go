package harbour

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
)

// manifestLines gives a manifest of about 10 MB.
const manifestLines = 130_000

// ManifestSHA256 is what the manifest's bytes add up to: reading it to see whether it is there already is much quicker
// than making it again.
const ManifestSHA256 = "13fd9e8f774f24f514955c38d8bd860cd52e94e9f57fb631a65ae4c01f11f653"

// WriteManifest writes the cargo manifest of a year: one consignment a line, fields set apart by semicolons.
func WriteManifest(out io.Writer) error {
	rng := rand.New(rand.NewPCG(seed, 2))
	w := bufio.NewWriter(out)
	for i := range manifestLines {
		fmt.Fprintf(w, "%07d;%s;%s;%s;hold %d;%d kg;%s %d;%03d-%s\n",
			i+1, vesselName(rng.IntN(vesselCount)), goods[rng.IntN(len(goods))], kinds[rng.IntN(len(kinds))], 1+rng.IntN(6),
			100+rng.IntN(40_000), quays[rng.IntN(len(quays))], 1+rng.IntN(16), 1+rng.IntN(365),
			[2]string{"high", "low"}[rng.IntN(2)])
	}
	return w.Flush()
}
