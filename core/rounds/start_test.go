package rounds_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/contender/all"
	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/meter"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/shots"
)

// lamp is the tests' service, run by the test binary itself: it takes a while to light, answers on PORT, and writes
// down by the machine's own clock what it did when.
type lamp struct {
	Created, Printed, Listening, First, Second int64 // nanoseconds of the monotonic clock
}

// mono is the machine's monotonic clock, the same for all processes.
func mono() int64 {
	var now unix.Timespec
	unix.ClockGettime(unix.CLOCK_MONOTONIC, &now)
	return now.Nano()
}

const lampEnv = "ROUNDS_LAMP" // what it is to do besides, in words

// grow holds so many bytes more, which the kernel gives at once and nobody collects.
func grow(n int) {
	if held, err := syscall.Mmap(
		-1, 0, n, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_PRIVATE|syscall.MAP_ANON,
	); err == nil {
		for i := 0; i < n; i += 4096 {
			held[i] = 1
		}
	}
}

func light(how string) {
	l := lamp{Created: created(), Printed: mono()}
	fmt.Println("kindling")
	told := map[string]string{}
	for _, word := range strings.Fields(how) {
		name, value, _ := strings.Cut(word, "=")
		told[name] = value
	}
	if d, err := time.ParseDuration(told["takes"]); err == nil {
		time.Sleep(d) // this is what it is for: a start of known length
	}
	if mib, err := strconv.Atoi(told["holds"]); err == nil {
		grow(mib << 20)
	}
	if _, ok := told["breaks"]; ok {
		fmt.Println("no oil")
		os.Exit(3)
	}
	if _, ok := told["never"]; ok {
		select {}
	}
	if _, ok := told["stubborn"]; ok {
		signal.Ignore(syscall.SIGTERM)
	}
	if _, ok := told["child"]; ok {
		child := exec.Command("/bin/sh", "-c", "sleep 600 & wait # "+told["child"])
		child.Start()
	}
	perShot, _ := strconv.Atoi(told["per-shot"])
	dies, _ := strconv.Atoi(told["dies"])
	listener, err := net.Listen("tcp", "127.0.0.1:"+os.Getenv("PORT"))
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	l.Listening = mono()
	fmt.Printf("lit with 7 wicks\n{\"mark\":\"kindling\",\"ms\":%d}\n", (l.Listening-l.Created)/1e6)
	var fired atomic.Int64
	http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/count" {
			kept, _ := os.ReadFile(told["keeps"])
			fmt.Fprintf(w, `{"records": %d, "doubled": %d}`, len(kept), bytes.Count(kept, []byte("d")))
			return
		}
		grow(perShot << 10)
		n := int(fired.Add(1))
		keep(told, n)
		if n == dies {
			fmt.Println("blown out")
			os.Exit(9)
		}
		fmt.Fprint(w, "light")
		w.(http.Flusher).Flush()
		switch n {
		case 1:
			l.First = mono()
		case 2:
			l.Second = mono()
			line, _ := json.Marshal(l)
			if f, err := os.OpenFile(told["log"], os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644); err == nil {
				f.Write(append(line, '\n'))
				f.Close()
			}
		}
	}))
	os.Exit(1)
}

// keep writes a record down before it is acknowledged: all but every so manieth, and some twice.
func keep(told map[string]string, n int) {
	f, err := os.OpenFile(told["keeps"], os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return
	}
	defer f.Close()
	every := func(name string) bool {
		m, err := strconv.Atoi(told[name])
		return err == nil && n%m == 0
	}
	switch {
	case every("loses"):
	case every("doubles"):
		f.WriteString("rd")
	default:
		f.WriteString("r")
	}
}

// lit runs a duel of two lamps a and b that differ only in what they are told to do, and returns what came of it.
func lit(t *testing.T, pace string, count int, more, a, b string) *result.Result {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	one := func(how string) string {
		return "{ service: { run: [" + self + ", lamp, \"${PORT}\"], env: { " + lampEnv + ": '" + how + "' }" + more + " } }"
	}
	src := "duel: Lamps\nbaseline: a\ncourse: { http: { url: 'http://127.0.0.1:${PORT}/' } }\npace: " + pace +
		"\nrounds: " + strconv.Itoa(count) +
		"\ncontenders:\n  a: " + one(a) + "\n  b: " + one(b) + "\n"
	return ran(t, src)
}

func ran(t *testing.T, src string) *result.Result {
	t.Helper()
	p, err := read.Plan(filepath.Join(t.TempDir(), "p.duel.yaml"), []byte(src), read.Options{Kinds: all.PlanKinds()})
	if err != nil {
		t.Fatal(err)
	}
	out := make(chan rounds.Event)
	go func() {
		for range out {
		}
	}()
	r, err := rounds.Run(t.Context(), rounds.Config{Plan: p, Kinds: all.Kinds(), Seed: 1}, out)
	if err != nil {
		t.Log(err)
	}
	return r
}

// created is when the kernel says that we were, on the monotonic clock: at most a tick too early.
func created() int64 {
	text, err := os.ReadFile("/proc/self/stat")
	if err != nil {
		return 0
	}
	const starttime = 19 // counted from the state, which is the first behind the name
	words := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	ticks, _ := strconv.ParseInt(words[starttime], 10, 64)
	var boot unix.Timespec
	unix.ClockGettime(unix.CLOCK_BOOTTIME, &boot)
	return ticks*int64(tick) - (boot.Nano() - mono())
}

// tick is what the kernel counts creations in.
const tick = 10 * time.Millisecond

// The splits of a start are those that the service itself saw on the same clock, its creation being the kernel's
// record, within 2 % of a start of 800 ms. The closest of several starts is held to that, since a busy machine may come
// between.
func TestSplitsOfAStartAreTrue(t *testing.T) {
	log := filepath.Join(t.TempDir(), "log")
	r := lit(t, "{ clients: 1, shots: 40, warmup: 3 }", 2, "", "takes=800ms log="+log, "takes=800ms log="+log)
	text, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	var truths []lamp
	for line := range bytes.Lines(text) {
		var l lamp
		if err := json.Unmarshal(line, &l); err != nil {
			t.Fatal(err)
		}
		truths = append(truths, l)
	}
	var starts []result.Start
	for _, h := range r.Heats {
		if len(h.Starts) != 1 || h.Stopped != "" {
			t.Fatalf("round %d of %s: starts %+v, stopped %q", h.Round, h.Contender, h.Starts, h.Stopped)
		}
		starts = append(starts, h.Starts[0])
	}
	if n := len(truths); n != len(starts)+2 { // and those of the weigh-in
		t.Fatalf("%d starts by their own account, %d by ours", n, len(starts))
	}
	truths = truths[2:]
	closest := map[string]float64{}
	for i, s := range starts {
		l := truths[i]
		for name, pair := range map[string][2]float64{
			"ready": {
				float64(s.Ready), float64(l.Listening - l.Created),
			}, "first answer": {float64(s.First), float64(l.First - l.Created)},
			"second answer": {
				float64(s.Second), float64(l.Second - l.Created),
			}, "first output": {float64(s.Output), float64(l.Printed - l.Created)},
		} {
			off := math.Abs(pair[0] - pair[1])
			if pair[0] < pair[1]-float64(tick) {
				t.Errorf("start %d: %s seen %s before it was", i, name, time.Duration(pair[1]-pair[0]))
			}
			off /= 0.02 * float64(l.First-l.Created)
			if was, ok := closest[name]; !ok || off < was {
				closest[name] = off
			}
		}
		// From ready to the first answer, the moment of creation does not matter: being ready is seen within a millisecond on
		// a machine that has time for it, here within five.
		off := math.Abs(float64(s.First-s.Ready)-float64(l.First-l.Listening)) / 5e6
		if was, ok := closest["ready to first answer"]; !ok || off < was {
			closest["ready to first answer"] = off
		}
		if !(s.Output < s.Ready && s.Ready < s.Asked && s.Asked < s.First && s.First < s.Second && s.Settled >= s.First &&
			s.Shot >= 1) || s.FirstTook <= 0 || s.SecondTook <= 0 {
			t.Errorf("start %d: out of order: %+v", i, s)
		}
	}
	for name, off := range closest {
		t.Logf("%s: at best %.2f of what is allowed off", name, off)
		if off > 1 {
			t.Errorf("%s: %.2f times as far off as allowed, at best", name, off)
		}
	}
}

// Memory held at the start and with each shot is found, within 5 %.
func TestMemoryOfAServiceIsTrue(t *testing.T) {
	const holds, perShot, fired = 64, 512, 120 // MiB, KiB
	r := lit(t, "{ clients: 1, shots: "+strconv.Itoa(fired)+", warmup: 0, wake: 200ms }", 1, "",
		fmt.Sprintf("holds=%d per-shot=%d", holds, perShot), "holds=0 per-shot=0")
	of := map[string]*result.Service{}
	for _, h := range r.Heats {
		if h.Service == nil {
			t.Fatalf("%s: nothing known, stopped %q", h.Contender, h.Stopped)
		}
		of[h.Contender] = h.Service
		if h.Wake <= 0 {
			t.Errorf("%s: no shot after the silence", h.Contender)
		}
	}
	rest, after, _ := of["a"].Rest()
	bare, bareAfter, _ := of["b"].Rest()
	near := func(name string, got, want float64) {
		if got < want*0.95 || got > want*1.05 {
			t.Errorf("%s: %.1f MiB; want %.1f", name, got/(1<<20), want/(1<<20))
		}
	}
	near("at rest", float64(rest-bare), holds<<20)
	near("grown", float64((after-rest)-(bareAfter-bare)), (fired+1)*perShot<<10)
	if of["a"].Peak < rest+(fired*perShot<<10)*95/100 || of["a"].Peak > after+1<<20 {
		t.Errorf("peak %d of %d to %d", of["a"].Peak, rest, after)
	}
}

// left lists what still runs with a word in its command line.
func left(word string) (pids []string) {
	dirs, _ := filepath.Glob("/proc/[0-9]*")
	for _, dir := range dirs {
		line, err := os.ReadFile(dir + "/cmdline")
		if err == nil && bytes.Contains(line, []byte(word)) && !strings.HasSuffix(dir, "/"+strconv.Itoa(os.Getpid())) {
			pids = append(pids, filepath.Base(dir))
		}
	}
	return pids
}

// A service that goes wrong ends its heat, or the run, in its own words, and leaves nothing running.
func TestServicesInTrouble(t *testing.T) {
	word := fmt.Sprintf("paceduel-lamp-child-%d", os.Getpid())
	tests := []struct{ how, more, want string }{
		{"breaks", "", "ended (exit code 3): kindling\nno oil"},
		{"never", ", limit: 300ms", "was not ready after 300ms"},
		{"dies=60", "", "ended (exit code 9)"},
		{"stubborn child=" + word, ", stop: { grace: 50ms }", ""},
		{"child=" + word, "", ""},
	}
	for _, tt := range tests {
		r := lit(t, "{ clients: 2, shots: 100, warmup: 0 }", 1, tt.more, "takes=1ms", tt.how)
		told := r.Reason
		for _, h := range r.Heats {
			told += h.Stopped
		}
		for _, e := range r.Entrants {
			if e.Touch != nil {
				told += e.Touch.Err
			}
		}
		if tt.want == "" && (len(r.Heats) != 2 || told != "") || !strings.Contains(told, tt.want) {
			t.Errorf("%s: %d heats, told %q; want %q", tt.how, len(r.Heats), told, tt.want)
		}
		for _, of := range []string{word, "\x00lamp\x00"} {
			if pids := left(of); len(pids) > 0 {
				t.Errorf("%s: still running: %v", tt.how, pids)
			}
		}
	}
}

func TestAServiceOverItsLimit(t *testing.T) {
	src := ", limits: { memory: 64MiB, cpu: 1 }"
	r := lit(t, "{ clients: 1, shots: 300, warmup: 0 }", 1, src, "takes=1ms", "per-shot=1024")
	if _, err := meter.Cgroups(); err != nil {
		if len(r.Footing.Cannot) == 0 || !strings.Contains(r.Footing.Cannot[0], "limits") {
			t.Errorf("no control groups (%v), and nobody says so: %v", err, r.Footing.Cannot)
		}
		return
	}
	if len(r.Footing.Cannot) > 0 {
		t.Skipf("NOT TESTED: %v", r.Footing.Cannot)
	}
	for _, h := range r.Heats {
		if h.Contender == "a" && (h.Stopped != "" || h.Service == nil || !h.Service.CPUExact || h.Service.CPU <= 0 ||
			!strings.Contains(h.Service.Limits, "64 MiB")) {
			t.Errorf("within its limit: stopped %q, %+v", h.Stopped, h.Service)
		}
		if h.Contender == "b" && !strings.Contains(h.Stopped, "was killed for memory: it wanted more than at most 64 MiB") {
			t.Errorf("over its limit: stopped %q", h.Stopped)
		}
	}
}

// A service that somebody else runs is measured and left alone.
func TestAServiceOfSomebodyElse(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := listener.Addr().(*net.TCPAddr).Port
	listener.Close()
	cmd := exec.Command(self, "lamp")
	cmd.Env = append(os.Environ(), lampEnv+"=holds=32", "PORT="+strconv.Itoa(port))
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	// It sits where ours do: a child that nobody knows is ended with the runs of other tests of this process.
	k, err := keeper.Shared()
	if err != nil {
		t.Fatal(err)
	}
	seat, err := k.Seat()
	if err != nil {
		t.Fatal(err)
	}
	defer seat.Release()
	if err := launch.Start(cmd, launch.Place{}, seat); err != nil {
		t.Fatal(err)
	}
	defer cmd.Wait()
	defer cmd.Process.Kill()
	for buf := make([]byte, 1<<10); ; {
		n, err := out.Read(buf)
		if err != nil {
			t.Fatal("it did not light")
		}
		if bytes.Contains(buf[:n], []byte("lit")) {
			break
		}
	}
	src := "duel: Lamps\nbaseline: a\ncourse: { http: { url: 'http://127.0.0.1:${PORT}/' } }\npace: { clients: 2, " +
		"shots: 50 }\nrounds: 1\ncontenders:\n" +
		fmt.Sprintf("  a: { service: { running: { port: %d } } }\n", port) +
		fmt.Sprintf(
			"  b: { http: { url: 'http://127.0.0.1:%d/' }, service: { running: { pid: %d } } }\n", port, cmd.Process.Pid,
		) +
		"  c: { http: { url: 'http://127.0.0.1:" + strconv.Itoa(port) + "/' }, service: { running: { pid: 999999999 } } }\n"
	r := ran(t, src)
	for i, e := range r.Entrants {
		if ok := e.Touch != nil && e.Touch.Err == ""; ok != (i < 2) {
			t.Errorf("%s: %+v", e.Name, e.Touch)
		}
	}
	r = ran(t, src[:strings.Index(src, "  c:")])
	if len(r.Heats) != 2 {
		t.Fatalf("%d heats: %s", len(r.Heats), r.Reason)
	}
	for _, h := range r.Heats {
		if h.Service == nil || h.Service.Peak < 32<<20 || h.Amounts[shots.CPU] == 0 || len(h.Starts) > 0 || h.Stopped != "" {
			t.Errorf("%s: %+v, %d starts, stopped %q", h.Contender, h.Service, len(h.Starts), h.Stopped)
		}
	}
	if cmd.Process.Signal(syscall.Signal(0)) != nil {
		t.Error("it was ended")
	}
}

// Shots into a start fail or wait until the service is ready, and are counted.
func TestShotsIntoAStart(t *testing.T) {
	r := lit(
		t, "{ rate: 100/s, for: 1s, rush: true }", 1,
		", prepare: 'echo laid > laid', marks: { kindling: { pointer: /ms }, wicks: { pattern: 'lit with ([0-9]+)', unit: "+
			"wicks } }",
		"takes=400ms", "takes=1ms",
	)
	for _, h := range r.Heats {
		if len(h.Starts) != 1 || h.Starts[0].Rush == nil || h.Stopped != "" {
			t.Fatalf("%s: %+v, stopped %q", h.Contender, h.Starts, h.Stopped)
		}
		s := h.Starts[0]
		if want := s.Ready.Seconds() * 100; float64(s.Rush.Due) < want-8 || float64(s.Rush.Due) > want+8 ||
			s.Rush.Failed+s.Rush.Waited > s.Rush.Due {
			t.Errorf("%s: %+v with a start of %s", h.Contender, s.Rush, s.Ready)
		}
		if h.Contender == "a" && (s.Ready < 400*time.Millisecond || s.Rush.Failed == 0 ||
			h.Failures["refused"] != h.Failed() || s.First < 400*time.Millisecond) {
			t.Errorf("a: %+v, failures %v, %+v", s, h.Failures, s.Rush)
		}
		if s.Prepared <= 0 || h.Warmup != 0 {
			t.Errorf("%s: prepared in %s, %d shots of warm-up", h.Contender, s.Prepared, h.Warmup)
		}
		if len(s.Marks) != 2 || s.Marks[0].Name != "kindling" || s.Marks[1].Name != "wicks" || s.Marks[1].Unit != "wicks" ||
			s.Marks[1].Value != 7 {
			t.Errorf("%s: marks %+v", h.Contender, s.Marks)
		}
	}
}

// A service that is fresh for every shot has a start for each.
func TestAStartForEveryShot(t *testing.T) {
	r := lit(t, "{ repeat: 3, warmup: 1 }", 1, ", fresh: run", "takes=1ms", "takes=1ms")
	for _, h := range r.Heats {
		if len(h.Starts) != 4 || h.Stopped != "" {
			t.Fatalf("%s: %d starts, stopped %q", h.Contender, len(h.Starts), h.Stopped)
		}
		for i, s := range h.Starts {
			if s.Unjudged != (i == 0) || !(0 < s.Ready && s.Ready < s.First && s.FirstTook > 0) || s.Second != 0 || i > 0 &&
				s.At <= h.Starts[i-1].At {
				t.Errorf("%s: start %d: %+v", h.Contender, i, s)
			}
		}
	}
}

// A service that is fresh for the round is there until its end, and starts in the contender's first heat of it.
func TestAStartForEveryRound(t *testing.T) {
	r := lit(t, "{ clients: 1, shots: 30, warmup: 0 }", 2, ", fresh: round", "takes=1ms", "takes=1ms")
	if len(r.Heats) != 4 {
		t.Fatalf("%d heats: %s", len(r.Heats), r.Reason)
	}
	for _, h := range r.Heats {
		if len(h.Starts) != 1 || h.Starts[0].Second == 0 || h.Service == nil || h.Stopped != "" {
			t.Errorf("%s in round %d: starts %+v, stopped %q", h.Contender, h.Round, h.Starts, h.Stopped)
		}
	}
	for _, name := range []string{"a", "b"} {
		stops := int64(0)
		for _, c := range r.Footing.Costs {
			if c.Contender == name && c.When == "after round" {
				stops += c.Times
			}
		}
		if stops != 2 {
			t.Errorf("the service of %s was stopped %d times after a round; want 2: %+v", name, stops, r.Footing.Costs)
		}
	}
	if pids := left("\x00lamp\x00"); len(pids) > 0 {
		t.Errorf("still running: %v", pids)
	}
}
