package worker

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"fmt"
	"math"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/conformance"
	"paceduel/core/keeper"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/units"
	core "paceduel/core/worker"
	"paceduel/internal/scratch"
	harness "paceduel/workers/go"
)

const whichWorker = "PACEDUEL_TEST_WORKER"

// The test's own program is the worker when it is asked to be.
func TestMain(m *testing.M) {
	keeper.Run()
	switch os.Getenv(whichWorker) {
	case "":
		os.Exit(scratch.Run(m.Run))
	case "good":
		serve()
	default:
		misbehave(os.Getenv(whichWorker))
	}
}

func serve() {
	harness.Serve("pier", harness.Function{
		Name: "add", Params: harness.Params{"by": 2.0, "called": "gull"}, Threads: 4,
		Make: func(p harness.Params) harness.Loop {
			by := uint64(p["by"].(float64))
			return func(_ int, n int64) any {
				x := uint64(1)
				for range n {
					x = x*by + 1
				}
				return x
			}
		},
	}, harness.Function{Name: "print", Make: func(harness.Params) harness.Loop {
		return func(_ int, n int64) any {
			for range n {
				fmt.Println("the tide is in")
			}
			return nil
		}
	}}, harness.Function{Name: "hash", Make: func(harness.Params) harness.Loop { // long enough to be timed by itself
		water := make([]byte, 256<<10)
		return func(_ int, n int64) any {
			sum := [32]byte{}
			for range n {
				sum = sha256.Sum256(water)
			}
			return fmt.Sprintf("%x", sum)
		}
	}}, harness.Function{Name: "hold", Params: harness.Params{"mib": 1.0}, Make: func(p harness.Params) harness.Loop {
		held := make([]byte, int(p["mib"].(float64))<<20)
		for i := 0; i < len(held); i += 4096 {
			held[i] = 1
		}
		return func(_ int, n int64) any {
			runtime.KeepAlive(held)
			return n * int64(held[0])
		}
	}})
}

// misbehave is a worker that is ready, and then does not keep to what was agreed.
func misbehave(how string) {
	network, address, _ := strings.Cut(os.Getenv(core.Variable), ":")
	conn, err := net.Dial(network, address)
	if err != nil {
		panic(err)
	}
	in := bufio.NewReader(conn)
	fmt.Fprintln(conn, `{"say":"hello","protocol":1,"name":"x","runtime":"r","version":"1","functions":[{"name":"add"}]}`)
	in.ReadString('\n')
	fmt.Fprintln(conn, `{"say":"prepared","id":1,"batch":10,"clock_ns":20,"empty_ns":0.5,"warmup_ns":1,"settled":true}`)
	switch how {
	case "dies asked": // with the question unread, so that its connection is reset, and long before it is gone
		conn.Read(make([]byte, 1))
		conn.Close()
		time.Sleep(100 * time.Millisecond)
		os.Exit(4)
	}
	in.ReadString('\n')
	switch how {
	case "dies":
		fmt.Fprintln(os.Stderr, "the pump is broken")
		os.Exit(3)
	case "lies":
		fmt.Fprintln(conn, `{"say":"ran","id":2,"operations":7,"elapsed_ns":1,"threads":[{"operations":7,"busy_ns":1}]}`)
	}
	time.Sleep(time.Hour)
}

// of are settings for the test's own program as a worker of some kind.
func of(how string, change func(*Settings)) *Settings {
	exe, err := os.Executable()
	if err != nil {
		panic(err)
	}
	s := New().(*Settings)
	s.Run, s.Function, s.Operations, s.Fresh = []plan.Word{plan.Word(exe)}, "add", 200_000, plan.EveryDuel
	s.Env = map[string]plan.Word{whichWorker: plan.Word(how)}
	if change != nil {
		change(s)
	}
	return s
}

func TestConformance(t *testing.T) {
	const limit = 200 * time.Millisecond
	conformance.Run(t, conformance.Subject{
		Kind: Kind,
		Good: of("good", nil), Body: "3",
		Hangs: of("hangs", nil),
		Slow:  of("hangs", func(s *Settings) { s.Timeout = plan.Span(limit) }), Limit: limit,
		Failures: map[shots.Class]plan.Settings{
			shots.NoStart: of("good", func(s *Settings) { s.Function = "sunk" }),
			shots.Exit:    of("dies", nil),
			shots.Other:   of("lies", nil),
		},
		LeftBehind: workers,
	})
}

// workers counts processes that were started as workers of ours and are there, and folders of their sockets.
func workers() int {
	out, _ := exec.Command("pgrep", "-P", fmt.Sprint(os.Getpid()), "-f", filepath.Base(os.Args[0])).Output()
	left, _ := filepath.Glob(filepath.Join(os.TempDir(), "paceduel-worker-*"))
	n := len(left)
	for pid := range strings.FieldsSeq(string(out)) {
		env, _ := os.ReadFile("/proc/" + pid + "/environ")
		if bytes.Contains(env, []byte(core.Variable+"=")) {
			n++
		}
	}
	return n
}

func openFor(t *testing.T, s *Settings) *driver {
	t.Helper()
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

func shoot(t *testing.T, d *driver) *shots.Shot {
	t.Helper()
	shot := &shots.Shot{View: &shots.View{}}
	c := d.Client(0, 1)
	defer c.Close()
	c.Shoot(t.Context(), shot)
	return shot
}

func toldOf(shot *shots.Shot, name string) float64 {
	for _, m := range shot.Told {
		if m.Name == name {
			return m.Value
		}
	}
	return math.NaN()
}

func TestAShotIsWhatTheWorkerTold(t *testing.T) {
	d := openFor(t, of("good", func(s *Settings) {
		s.Threads, s.Params = 2, map[string]plan.Word{"by": "5"}
	}))
	var pid int
	for range 3 {
		shot := shoot(t, d)
		if shot.Class != shots.OK || string(shot.View.Body) != "6" {
			t.Fatalf("%s, %v, %q", shot.Class, shot.Err, shot.View.Body)
		}
		// Two threads share the operations: what one takes for its half is about as long as the shot.
		told, latency := toldOf(shot, operation), float64(shot.Latency())
		if told <= 0 || told*200_000/2 > latency*1.001+2 {
			t.Errorf("%g ns an operation in %s", told, shot.Latency())
		}
		if gap := toldOf(shot, threadGap); !(gap >= 0 && gap < 1) {
			t.Errorf("thread gap %g", gap)
		}
		if n := shot.Amounts[operations]; n != 200_000 || shot.Amounts[cpu] <= 0 || shot.Amounts[memory] < 1<<20 {
			t.Errorf("operations %d, CPU %d, memory %d", n, shot.Amounts[cpu], shot.Amounts[memory])
		}
		if d.Used() < time.Duration(shot.Amounts[cpu]) {
			t.Error("what the worker used is taken for somebody else's")
		}
		if shot.Amounts[idle] > int64(time.Second) {
			t.Errorf("%d ns of CPU while it was asked for nothing", shot.Amounts[idle])
		}
		if shot.Aside <= 0 {
			t.Error("asking and answering took no time")
		}
		if r := d.of(0); pid != 0 && r.PID() != pid {
			t.Error("another process for the next heat")
		} else {
			pid = r.PID()
		}
	}
}

// Parts of a nanosecond are kept.
func TestTimesAreNotRoundedToNanoseconds(t *testing.T) {
	c := client{d: &driver{settings: of("good", nil)}}
	var shot shots.Shot
	shot.Count(cpu, 2000)
	c.enter(&shot, &running{}, &core.Ran{Operations: 1000, Elapsed: 1301.7, Threads: []core.Thread{
		{Operations: 1000, Busy: 1301.7},
	}, Amounts: map[string]core.Amount{
		"paused": {Value: 1500, Unit: "ns"}, "heap": {Value: 7, Unit: "bytes"}, "dives": {Value: 2},
		operation: {Value: 9, Unit: "ns"}, "p99 of operation": {Value: 9}, // what we tell ourselves stands
		"allocations of operation": {Value: 3, Unit: "allocations"},
	}})
	if got := toldOf(&shot, operation); math.Abs(got-1.3017) > 1e-9 || units.Nanosecond.PerUnit() < 1000 {
		t.Errorf("%g ns an operation", got)
	}
	want := []shots.Mark{
		{Name: operation, Unit: units.Nanosecond, Value: 1.3017}, {Name: cpuOf, Unit: units.Nanosecond, Value: 2},
		{Name: "allocations of operation", Unit: "allocations", Value: 3}, {Name: "dives", Unit: "dives", Value: 2},
		{Name: "heap", Unit: units.Byte, Value: 7}, {Name: "paused", Unit: units.Second, Value: 1500e-9},
	}
	if fmt.Sprint(shot.Told) != fmt.Sprint(want) {
		t.Errorf("told %v; want %v", shot.Told, want)
	}
}

// What may do nothing is told, and what changes from run to run is no part of what is compared.
func TestASuspicionIsTold(t *testing.T) {
	for _, tt := range []struct {
		busy, empty float64
		settled     bool
		want        []string
	}{
		{5000, 1, true, nil},
		{1200, 1, true, []string{"no more than one of an empty loop (1.00 ns)"}},
		{5000, 1, false, []string{"had not settled after a warm-up of 3"}},
	} {
		var c client
		c.d = &driver{settings: of("good", nil)}
		shot := shots.Shot{View: &shots.View{}}
		r := &running{Process: &core.Process{Session: &core.Session{}}, made: core.Prepared{
			Result: []byte("7"), Empty: tt.empty, Settled: tt.settled, Warmup: 3e9,
		}}
		c.describe(&shot, r, &core.Ran{Operations: 1000, Threads: []core.Thread{{Operations: 1000, Busy: tt.busy}}})
		notes := shot.View.Notes
		if len(notes) != len(tt.want) || len(notes) > 0 && !strings.Contains(notes[0], tt.want[0]) {
			t.Errorf("%g ns: %q; want %q", tt.busy, notes, tt.want)
		}
		if shot.View.Outcome != "returned a result" || string(shot.View.Body) != "7" || toldOf(&shot, warmUp) != 3 {
			t.Errorf("%+v, told %v", shot.View, shot.Told)
		}
	}
}

func TestAWorkerThatPrintsAndReturnsNothing(t *testing.T) {
	for _, to := range []string{"discard", "pipe", "file"} {
		shot := shoot(t, openFor(t, of("good", func(s *Settings) { s.Function, s.Stdout, s.Operations = "print", to, 1000 })))
		if shot.Class != shots.OK || shot.View.Known || shot.View.Outcome != "returned nothing" ||
			!strings.Contains(fmt.Sprint(shot.View.Notes), "cannot be held to the others") {
			t.Errorf("to %s: %s, %v, %+v", to, shot.Class, shot.Err, shot.View)
		}
	}
}

// What is printed is counted, wherever it goes.
// A worker that is to answer pings does so while its function is at work, and the line ends with its process.
func TestAWorkerAnswersPings(t *testing.T) {
	line := make(chan net.Conn, 4)
	s := of("good", func(s *Settings) { s.For = plan.Span(400 * time.Millisecond) })
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start(), Pings: func(c net.Conn) { line <- c }}, s)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if _, err := d.Begin(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	conn := <-line
	working := make(chan struct{})
	var shot shots.Shot
	go func() {
		defer close(working)
		d.Client(0, 1).Shoot(t.Context(), &shot)
	}()
	answered := 0
	for open := true; open; answered++ {
		if _, err := fmt.Fprintln(conn, answered); err != nil {
			t.Fatal(err)
		}
		var back int
		if _, err := fmt.Fscanln(conn, &back); err != nil || back != answered {
			t.Fatalf("%d came back for %d, %v", back, answered, err)
		}
		select {
		case <-working:
			open = false
		default:
		}
	}
	if shot.Class != shots.OK || answered < 2 {
		t.Errorf("%s %v, %d answered", shot.Class, shot.Err, answered)
	}
	d.Close()
	if n, err := conn.Read(make([]byte, 1)); n != 0 || err == nil {
		t.Errorf("after its end %d bytes, %v", n, err)
	}
}

func TestWhatAWorkerPrintsIsCounted(t *testing.T) {
	for to, want := range map[string]int64{"discard": 0, "pipe": 15_000, "file": 15_000, "terminal": 16_000} {
		d := openFor(t, of("good", func(s *Settings) { s.Function, s.Stdout, s.Operations = "print", to, 1000 }))
		for range 2 {
			if shot := shoot(t, d); shot.Amounts[printed] != want {
				t.Errorf("%d bytes to %s; want %d", shot.Amounts[printed], to, want)
			}
		}
	}
}

// Operations that are long enough are timed one by one, and drawn batch by batch.
func TestLongOperationsHavePercentiles(t *testing.T) {
	d := openFor(t, of("good", func(s *Settings) { s.Function, s.Operations = "hash", 100 }))
	shot := shoot(t, d)
	p50, each := toldOf(shot, "p50 of operation"), toldOf(shot, operation)
	if shot.Class != shots.OK || !(p50 > 0 && p50 < each*2) { // at most half of all can take over twice the mean
		t.Errorf("%s, %v: p50 %g of a mean of %g", shot.Class, shot.Err, p50, each)
	}
	if p99 := toldOf(shot, "p99 of operation"); p99 == p99 {
		t.Errorf("p99 %g of 100 operations", p99)
	}
	mean, before := 0.0, shot.Start
	for _, w := range shot.Within {
		mean += float64(w.Latency) / float64(len(shot.Within))
		if w.At < before || w.At > shot.End+time.Millisecond {
			t.Errorf("a batch at %s of a shot from %s to %s", w.At, shot.Start, shot.End)
		}
		before = w.At
	}
	if latency := float64(shot.Latency()); len(shot.Within) < 50 || mean < latency*0.99 || mean > latency*1.01 {
		t.Errorf("%d batches, as if shots took %g ns; it took %g", len(shot.Within), mean, latency)
	}
	short := shoot(t, openFor(t, of("good", nil)))
	if p50 := toldOf(short, "p50 of operation"); p50 == p50 {
		t.Error("a percentile of operations that are too short for it")
	}
}

// A worker that is fresh for each heat has starts, and tells how it came up; one that is kept has none.
func TestAWorkerForEachHeat(t *testing.T) {
	for _, fresh := range []string{plan.EveryHeat, plan.EveryDuel} {
		d := openFor(t, of("good", func(s *Settings) { s.Fresh = fresh }))
		anew := fresh == plan.EveryHeat
		pids := map[int]bool{}
		if weighed := shoot(t, d); weighed.Class != shots.OK {
			t.Fatal(weighed.Err)
		}
		pids[d.Resident().PID] = true
		for range 2 {
			before := d.clock.Now()
			starts, err := d.Begin(t.Context(), 1)
			if err != nil {
				t.Fatal(err)
			}
			if anew && (len(starts) != 1 || starts[0].Created < before || starts[0].Ready <= starts[0].Created ||
				starts[0].Ready > d.clock.Now()) || !anew && len(starts) > 0 {
				t.Errorf("%s: starts %+v", fresh, starts)
			}
			pids[d.Resident().PID] = true
			shot := shoot(t, d)
			if told := toldOf(shot, firstOperation); (told > 0) != true || shot.Class != shots.OK {
				t.Errorf("%s: first operation %g, %v", fresh, told, shot.Err)
			}
			unseen := &shots.Shot{}
			d.Client(0, 1).Shoot(t.Context(), unseen)
			if told := toldOf(unseen, warmUp); (told > 0) != anew {
				t.Errorf("%s: a shot of a heat tells a warm-up of %g", fresh, told)
			}
			if rest := unseen.Amounts[rest]; anew && rest > 0 {
				t.Errorf("one that was just started rested for %d ns", rest)
			}
			d.End()
		}
		if want := map[bool]int{true: 3, false: 1}[anew]; len(pids) != want {
			t.Errorf("%s: processes %v; want %d", fresh, pids, want)
		}
		if gone := d.Resident().PID == 0; gone != anew {
			t.Errorf("%s: after the heat its process is there: %v", fresh, !gone)
		}
	}
}

// Several workers are no one process to be looked at.
func TestSeveralWorkersAreNotWatched(t *testing.T) {
	d := openFor(t, of("good", nil))
	if _, err := d.Begin(t.Context(), 2); err != nil || d.Resident().PID != 0 {
		t.Errorf("%v, watched %d", err, d.Resident().PID)
	}
}

func TestAWorkerIsHeldToItsLimits(t *testing.T) {
	groups, err := meter.Cgroups()
	if err != nil {
		t.Skip(err)
	}
	try, err := groups.NewGroup(meter.Limits{Memory: 1 << 30})
	if err != nil {
		t.Skip(err)
	}
	try.Remove()
	for mib, want := range map[string]shots.Class{"1": shots.OK, "200": shots.NoStart} {
		s := of("good", func(s *Settings) {
			s.Function, s.Params, s.Limits = "hold", map[string]plan.Word{"mib": plan.Word(mib)}, &plan.Limits{Memory: 64 << 20}
		})
		d, err := open(contender.Setup{
			Dir: t.TempDir(), Clock: clock.Start(), Group: func(l *plan.Limits) (contender.Group, error) {
				return groups.NewGroup(meter.Limits{Memory: int64(l.Memory), CPU: float64(l.CPU)})
			},
		}, s)
		if err != nil {
			t.Fatal(err)
		}
		shot := shoot(t, d)
		if shot.Class != want {
			t.Errorf("%s MiB: %s, %v", mib, shot.Class, shot.Err)
		}
		const killed = "killed for memory: it wanted more than at most 64"
		if want == shots.NoStart && (!strings.Contains(fmt.Sprint(shot.Err), killed) ||
			contender.HintOf(shot.Err) != "raise limits:, or have it want less") {
			t.Errorf("%v; %s", shot.Err, contender.HintOf(shot.Err))
		}
		if r := d.Resident(); want == shots.OK && (r.Limits == "" || r.CPU() <= 0 || r.Killed() != 0) {
			t.Errorf("%+v", r)
		}
		d.Close()
	}
}

func TestWhatAWorkerCannotDo(t *testing.T) {
	for _, tt := range []struct {
		want   string
		how    string
		change func(*Settings)
	}{
		{"no function sunk; it has add, print, hash, hold", "good", func(s *Settings) { s.Function = "sunk" }},
		{"no parameter bay; it has by, called", "good", func(s *Settings) { s.Params = map[string]plan.Word{"bay": "1"} }},
		{`by of its function add is a number, and "two" is none`, "good", func(s *Settings) {
			s.Params = map[string]plan.Word{"by": "two"}
		}},
		{"runs on 4 threads at most, and threads is 5", "good", func(s *Settings) { s.Threads = 5 }},
		{"exit status 3 in mid-shot; it printed: the pump is broken", "dies", nil},
		{"the worker ended with exit status 4 in mid-shot", "dies asked", nil},
		{"200000 operations were asked for, and 7 were done", "lies", nil},
	} {
		shot := shoot(t, openFor(t, of(tt.how, tt.change)))
		if shot.Err == nil || !strings.Contains(shot.Err.Error(), tt.want) {
			t.Errorf("%v; want %s", shot.Err, tt.want)
		}
	}
}

// A worker that died is started again for the next shot.
func TestAnotherWorkerAfterOneThatDied(t *testing.T) {
	d := openFor(t, of("dies", nil))
	first, second := shoot(t, d), shoot(t, d)
	if first.Class != shots.Exit || second.Class != shots.Exit {
		t.Errorf("%s, then %s, %v", first.Class, second.Class, second.Err)
	}
}

// What a worker used between heats is no amount of a shot, so that no plan may name it as one.
func TestIdleTimeIsNoFigureOfAShot(t *testing.T) {
	if got := shape.Amounts[idle].Figures(); len(got) > 0 {
		t.Errorf("figures %v of what is used between heats", got)
	}
	if got := shape.Amounts[operations].Figures(); len(got) != 1 {
		t.Errorf("figures %v of operations", got)
	}
}

func TestAllDoAsManyOperationsAsTheMost(t *testing.T) {
	for _, tt := range []struct{ one, other, want int64 }{{0, 0, defaultOperations}, {0, 5, 5}, {7, 5, 7}} {
		one, other := New().(*Settings), New().(*Settings)
		one.Operations, other.Operations = tt.one, tt.other
		got := level([]plan.Settings{one, other})
		for _, s := range got {
			if n := s.(*Settings).Operations; n != tt.want {
				t.Errorf("%d and %d become %d; want %d", tt.one, tt.other, n, tt.want)
			}
		}
		if one.Operations != tt.one {
			t.Error("the plan's own settings were changed")
		}
	}
	one, other := New().(*Settings), New().(*Settings)
	one.Operations, other.For = 7, plan.Span(time.Second)
	for _, s := range level([]plan.Settings{one, other}) {
		if got := s.(*Settings); got.Operations != 0 || got.For != other.For {
			t.Errorf("%d operations in %s; want as many as a second holds", got.Operations, got.For.D())
		}
	}
}

// A shot may last for a time instead of an amount of work.
func TestShotsOfATime(t *testing.T) {
	const long = 20 * time.Millisecond
	d := openFor(t, of("good", func(s *Settings) { s.Operations, s.For = 0, plan.Span(long) }))
	shot := shoot(t, d)
	if shot.Class != shots.OK || shot.Latency() < long || shot.Amounts[operations] < 1000 {
		t.Fatalf("%s, %v in %s, %d operations", shot.Class, shot.Err, shot.Latency(), shot.Amounts[operations])
	}
	n := float64(shot.Amounts[operations])
	took, used := toldOf(shot, operation)*n, toldOf(shot, cpuOf)*n
	if took > float64(shot.Latency())*1.001 || math.Abs(used-float64(shot.Amounts[cpu])) > 1000 || used <= 0 {
		t.Errorf("operations of %g ns and %g ns of CPU in all, in %s with %d", took, used, shot.Latency(), shot.Amounts[cpu])
	}
}

func TestChecks(t *testing.T) {
	for _, tt := range []struct {
		key, want string
		change    func(*Settings)
	}{
		{"", "which worker to start", func(s *Settings) { s.Run = nil }},
		{"run", "name is empty", func(s *Settings) { s.Run = []plan.Word{""} }},
		{"", "which function", func(s *Settings) { s.Function = "" }},
		{"threads", "0 threads", func(s *Settings) { s.Threads = 0 }},
		{"operations", "-1 operations", func(s *Settings) { s.Operations = -1 }},
		{"for", "both operations and for", func(s *Settings) { s.For = plan.Span(time.Second) }},
		{"for", "a shot of 1µs", func(s *Settings) { s.Operations, s.For = 0, plan.Span(time.Microsecond) }},
		{"timeout", "no time at all", func(s *Settings) { s.Timeout = 0 }},
		{"dir", "is not a folder", func(s *Settings) { s.Dir = "nowhere" }},
	} {
		faults := of("good", tt.change).Check(plan.Surroundings{Dir: t.TempDir()})
		if len(faults) != 1 || faults[0].Key != tt.key || !strings.Contains(faults[0].What, tt.want) {
			t.Errorf("%+v; want %s: %s", faults, tt.key, tt.want)
		}
	}
	if faults := of("good", nil).Check(plan.Surroundings{}); len(faults) > 0 {
		t.Errorf("good settings: %+v", faults)
	}
	s := of("good", func(s *Settings) {
		s.Run, s.Threads, s.Params = []plan.Word{"./pier", "-q"}, 2, map[string]plan.Word{"by": "5", "called": "tern"}
	})
	const want = "add (by: 5, called: tern) of ./pier -q on 2 threads, in one process, 200 000 operations a shot"
	if got := s.Summary(); got != want {
		t.Errorf("%q; want %q", got, want)
	}
	s.Stdout, s.Fresh = "terminal", plan.EveryHeat
	const more = "add (by: 5, called: tern) of ./pier -q on 2 threads, printing to a terminal, 200 000 operations a shot"
	if got := s.Summary(); got != more {
		t.Errorf("%q; want %q", got, more)
	}
}
