package meter

import (
	"math"
	"os/exec"
	"testing"
	"time"
)

func TestSharesOfASpan(t *testing.T) {
	at := time.Now()
	a := Reading{at: at, cpus: 2}
	b := Reading{
		own: 20 * time.Millisecond, kids: 30 * time.Millisecond, busy: 90 * time.Millisecond, steal: 10 * time.Millisecond,
		total:  200 * time.Millisecond,
		pauses: time.Millisecond, collect: 2, cpus: 2,
	}
	tests := []struct {
		name        string
		wall, exact time.Duration // exact 0: in ticks alone
		want        Conditions
	}{
		{"to the nanosecond", 100 * time.Millisecond, 56 * time.Millisecond, Conditions{
			OwnFrac: 0.1, OthersFrac: 0.03, StealFrac: 0.05,
		}},
		{"less than ours", 100 * time.Millisecond, 40 * time.Millisecond, Conditions{OwnFrac: 0.1, StealFrac: 0.05}},
		{"in ticks, too short", 100 * time.Millisecond, 0, Conditions{OwnFrac: 0.1, OthersUnknown: true, StealFrac: 0.05}},
		{"in ticks, long enough", time.Second, 0, Conditions{OwnFrac: 0.01, OthersFrac: 0.02, StealFrac: 0.05}},
		{"no time at all", 0, 0, Conditions{StealFrac: 0.05}},
	}
	for _, tt := range tests {
		b.at, b.exact = at.Add(tt.wall), tt.exact
		a.isExact, b.isExact = tt.exact > 0, tt.exact > 0
		tt.want.Pauses, tt.want.Collects = time.Millisecond, 2
		got := Between(a, b)
		got.OwnFrac, got.OthersFrac, got.StealFrac = math.Round(got.OwnFrac*1e6)/1e6, math.Round(got.OthersFrac*1e6)/1e6,
			math.Round(got.StealFrac*1e6)/1e6
		if got != tt.want {
			t.Errorf("%s: Between = %+v; want %+v", tt.name, got, tt.want)
		}
	}
	// Pressure is a share of the time; what the kernel does not tell is none.
	a.at, b.at = at, at.Add(2*time.Second)
	a.pressure, b.pressure = [3]time.Duration{time.Second, -1, 0}, [3]time.Duration{2 * time.Second, -1, time.Minute}
	a.swapped, b.swapped = 100, 350
	a.mhz, b.mhz, b.free = 2400, 1800, 1<<30
	if got := Between(a, b); got.CPUPressure != 0.5 || got.DiskPressure != 0 || got.MemoryPressure != 1 ||
		got.SwapBytes != 250 || got.MHz != 1800 || got.FreeBytes != 1<<30 {
		t.Errorf("pressure in %+v", got)
	}
	if got := Between(b, b); got.OwnFrac != 0 || got.OthersFrac != 0 || math.IsNaN(got.StealFrac) {
		t.Errorf("no time at all gives %+v", got)
	}
}

// Where this machine counts to the nanosecond, what somebody else does in a moment is seen, whom nobody has waited for.
func TestOthersAreSeenInAMoment(t *testing.T) {
	if exactBusy() == nil {
		t.Skip("this machine counts in ticks alone")
	}
	other := exec.Command("sh", "-c", "while :; do :; done")
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	defer other.Wait()
	defer other.Process.Kill()
	used := func() time.Duration {
		d, ok := processTime(other.Process.Pid)
		if !ok {
			t.Skip("the kernel does not say what a process has used")
		}
		return d
	}
	for used() < time.Millisecond { // until it has begun
	}
	from, before := used(), Read()
	for used()-from < 20*time.Millisecond {
	}
	after := Read()
	c := Between(before, after)
	all := after.at.Sub(before.at).Seconds() * float64(after.cpus)
	seen := c.OthersFrac*all + c.StealFrac*all // what its host takes is part of the time that a process has used
	if c.OthersUnknown || seen < 0.018 {
		t.Errorf("of 20 ms that somebody else worked, %.1f ms were seen: %+v", seen*1000, c)
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

// What children used is not somebody else's, whether they have ended or not.
func TestChildrenAreNobodyElse(t *testing.T) {
	at := time.Unix(1000, 0)
	before := Reading{at: at, cpus: 2, isExact: true, kids: time.Second}
	after := Reading{at: at.Add(time.Second), cpus: 2, isExact: true, kids: time.Second, exact: time.Second}
	if c := Between(before, after); c.OthersFrac != 0.5 {
		t.Errorf("others took %g of the machine; want a half", c.OthersFrac)
	}
	c := Between(before.Children(time.Minute), after.Children(time.Minute+900*time.Millisecond))
	if math.Abs(c.OthersFrac-0.05) > 1e-9 {
		t.Errorf("others took %g of the machine beside children; want 0.05", c.OthersFrac)
	}
}
