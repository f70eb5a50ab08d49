package meter

import (
	"math"
	"testing"
	"time"
)

func TestSharesOfASpan(t *testing.T) {
	a := Reading{}
	b := Reading{
		own: 20 * time.Millisecond, kids: 30 * time.Millisecond, busy: 90 * time.Millisecond, steal: 10 * time.Millisecond, total: 200 * time.Millisecond,
		pauses: time.Millisecond, collect: 2,
	}
	got := Between(a, b)
	want := Conditions{OwnFrac: 0.1, OthersFrac: 0.2, StealFrac: 0.05, Pauses: time.Millisecond, Collects: 2}
	if math.Abs(got.OwnFrac-want.OwnFrac) > 1e-9 || math.Abs(got.OthersFrac-want.OthersFrac) > 1e-9 || got.StealFrac != want.StealFrac || got.Pauses != want.Pauses || got.Collects != want.Collects {
		t.Errorf("Between = %+v; want %+v", got, want)
	}
	// Pressure is a share of the time; what the kernel does not tell is none.
	at := time.Now()
	a.at, b.at = at, at.Add(2*time.Second)
	a.pressure, b.pressure = [3]time.Duration{time.Second, -1, 0}, [3]time.Duration{2 * time.Second, -1, time.Minute}
	a.swapped, b.swapped = 100, 350
	a.mhz, b.mhz, b.free = 2400, 1800, 1<<30
	if got := Between(a, b); got.CPUPressure != 0.5 || got.DiskPressure != 0 || got.MemoryPressure != 1 || got.SwapBytes != 250 || got.MHz != 1800 || got.FreeBytes != 1<<30 {
		t.Errorf("pressure in %+v", got)
	}
	if got := Between(b, b); got.OwnFrac != 0 || got.OthersFrac != 0 || math.IsNaN(got.StealFrac) {
		t.Errorf("no time at all gives %+v", got)
	}
	// Ticks may make our own time seem more than the whole.
	b.busy = 10 * time.Millisecond
	if got := Between(a, b); got.OthersFrac != 0 {
		t.Errorf("others used %g; never less than nothing", got.OthersFrac)
	}
}

func TestOwnWorkIsSeen(t *testing.T) {
	before := Read()
	// Busy until the kernel has counted some of it, in ticks of up to 10 ms.
	for x := 0.0; ; x += math.Sqrt(x + 1) {
		if after := Read(); after.own-before.own > 20*time.Millisecond {
			break
		}
	}
	after := Read()
	if c := Between(before, after); c.OwnFrac <= 0 || c.OwnFrac > 1 {
		t.Errorf("own share %g after being busy", c.OwnFrac)
	}
	h := ReadHost()
	if h.Cores < 1 || h.OS == "" || h.Go == "" {
		t.Errorf("host = %+v", h)
	}
}
