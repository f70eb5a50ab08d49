// Package worker makes a program a worker: it runs its own functions when Pace Duel asks it to, and measures them.
// docs/worker-protocol.md is what both speak. The file depends on nothing but the standard library: copy it.
//
//	func main() {
//		worker.Serve("positions", worker.Function{
//			Name: "locked", Params: worker.Params{"vessels": 3000.0}, Threads: 64,
//			Make: func(p worker.Params) worker.Loop {
//				c := newChart(int(p["vessels"].(float64)))
//				return func(thread int, n int64) any {
//					for range n {
//						c.enter(thread)
//					}
//					return c.size() // kept alive, and compared at the weigh-in
//				}
//			},
//		})
//	}
package worker

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"math/bits"
	"net"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// Params are a function's parameters by name: float64 or string, as in JSON.
type Params map[string]any

// Loop does n operations on a thread, counted from 0, and returns what comes of them: nil where nothing does. Threads
// call it at once.
type Loop func(thread int, n int64) any

// Function is one that can be asked for.
type Function struct {
	Name, About string
	Params      Params // with their defaults
	Threads     int    // that may run it at once; 0: one
	// Make makes its state anew, and the loop that works on it.
	Make func(Params) Loop
}

// Serve connects to whoever started the program, and answers until it is told to stop. It ends the program with a
// message where that is not possible.
func Serve(name string, functions ...Function) {
	network, address, ok := strings.Cut(os.Getenv("PACEDUEL_WORKER"), ":")
	if !ok {
		fmt.Fprintln(os.Stderr, "this is a worker: paceduel worker check -- and this command try it out")
		os.Exit(2)
	}
	answerPings()
	conn, err := net.Dial(network, address)
	if err != nil {
		fmt.Fprintln(os.Stderr, "reach Pace Duel:", err)
		os.Exit(2)
	}
	defer conn.Close()
	w := &server{name: name, functions: functions, out: json.NewEncoder(conn)}
	w.hello()
	lines := bufio.NewScanner(conn)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	for lines.Scan() {
		var q question
		if json.Unmarshal(lines.Bytes(), &q) == nil && !w.answer(&q) {
			return
		}
	}
}

// answerPings sends whatever comes over a second line back, beside the functions, where that is wanted.
func answerPings() {
	network, address, ok := strings.Cut(os.Getenv("PACEDUEL_PINGS"), ":")
	if !ok {
		return
	}
	conn, err := net.Dial(network, address)
	if err != nil {
		fmt.Fprintln(os.Stderr, "answer pings:", err)
		os.Exit(2)
	}
	go io.Copy(conn, conn)
}

type question struct {
	Say        string  `json:"say"`
	ID         int     `json:"id"`
	Function   string  `json:"function"`
	Params     Params  `json:"params"`
	Threads    int     `json:"threads"`
	Operations int64   `json:"operations"`
	For        float64 `json:"for_ns"`
}

type answer map[string]any

type server struct {
	name      string
	functions []Function
	out       *json.Encoder

	loop    Loop // that was prepared; nil: none
	threads int
	batch   int64
	clock   time.Duration // a look at the clock
	pace    float64       // nanoseconds an operation, on one of the threads
	alone   bool          // whether each operation is timed by itself
}

func (w *server) hello() {
	var list []answer
	for _, f := range w.functions {
		list = append(list, answer{"name": f.Name, "about": f.About, "params": f.Params, "threads": max(f.Threads, 1)})
	}
	w.out.Encode(answer{
		"say": "hello", "protocol": 1, "name": w.name, "runtime": "Go", "version": runtime.Version(), "functions": list,
	})
	w.out.Encode(answer{"say": "bells", "struck": 8}) // nobody knows it, and everybody has to skip it
}

// answer reports whether the worker goes on.
func (w *server) answer(q *question) bool {
	switch q.Say {
	case "prepare":
		w.prepare(q)
	case "run":
		w.run(q)
	case "stop":
		return false
	}
	return true
}

func (w *server) trouble(q *question, what string, args ...any) {
	w.out.Encode(answer{"say": "trouble", "id": q.ID, "what": fmt.Sprintf(what, args...)})
}

// Kept is what a loop returned last, so that no compiler leaves its work out.
var Kept any

func (w *server) prepare(q *question) {
	at := slices.IndexFunc(w.functions, func(f Function) bool { return f.Name == q.Function })
	if at < 0 {
		w.trouble(q, "there is no function called %q", q.Function)
		return
	}
	f := &w.functions[at]
	params := Params{}
	for name, value := range f.Params {
		params[name] = value
	}
	for name, value := range q.Params {
		if _, known := f.Params[name]; !known {
			w.trouble(q, "%s has no parameter called %q", f.Name, name)
			return
		}
		params[name] = value
	}
	if q.Threads < 1 || q.Threads > max(f.Threads, 1) {
		w.trouble(q, "%s runs on 1 to %d threads, not %d", f.Name, max(f.Threads, 1), q.Threads)
		return
	}
	loop := f.Make(params)
	began := time.Now()
	result := loop(0, 1)
	first := time.Since(began)
	w.loop, w.threads, w.clock, w.alone = f.Make(params), q.Threads, lookCost(), false
	warm, settled := w.settle()
	w.alone = w.pace > 100*aloneCost()
	out := answer{
		"say": "prepared", "id": q.ID, "batch": w.batch, "clock_ns": w.clock, "empty_ns": emptyCost(),
		"first_ns": first, "warmup_ns": warm, "settled": settled,
	}
	if result != nil {
		out["result"] = result
	}
	w.out.Encode(out)
}

// lookCost is the median of what a look at the clock takes.
func lookCost() time.Duration {
	var took []time.Duration
	for range 1001 {
		began := time.Now()
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	return took[len(took)/2]
}

// aloneCost is what it costs to time an operation by itself: calling it, looking at the clock twice, and entering it.
func aloneCost() float64 {
	const n = 10_000
	t := turn{times: new(histogram)}
	began := time.Now()
	t.oneByOne(func(int, int64) any { return nil }, 0, n, 0)
	return float64(time.Since(began)) / n
}

// emptyCost is what an operation of an empty loop takes.
func emptyCost() float64 {
	const n = 10_000_000
	empty := Loop(func(_ int, n int64) any {
		i := int64(0)
		for i < n {
			i++
		}
		return i
	})
	began := time.Now()
	Kept = empty(0, n)
	return float64(time.Since(began)) / n
}

// long reports whether a batch takes so long that less than a hundredth of it goes into looking at the clock.
func (w *server) long(took float64) bool {
	return took > 100*float64(w.clock) && took > 50e3 || w.batch >= 1<<40
}

// settle finds the batch and warms the function up until the medians of two stretches differ by less than a fiftieth,
// or three seconds are over.
func (w *server) settle() (warm time.Duration, settled bool) {
	const (
		longest = 3 * time.Second
		stretch = 25 // batches
	)
	began := time.Now()
	for w.batch = 1; !w.long(float64(w.once())) && time.Since(began) < longest; {
		w.batch *= 2
	}
	before := 0.0
	for time.Since(began) < longest {
		var each []float64
		for range stretch {
			each = append(each, float64(w.once())/float64(w.batch))
		}
		slices.Sort(each)
		w.pace = each[len(each)/2]
		if !w.long(w.pace * float64(w.batch)) { // one that was held up had looked longer
			w.batch, before = w.batch*2, 0
			continue
		}
		if before > 0 && w.pace < before*1.02 && before < w.pace*1.02 {
			settled = true
			break
		}
		before = w.pace
	}
	return time.Since(began), settled
}

// once is what a batch on every thread takes, the slowest of them.
func (w *server) once() (longest time.Duration) {
	turns, _ := w.work(w.share(w.batch*int64(w.threads)), w.batch, 0)
	for i := range turns {
		longest = max(longest, turns[i].busy)
	}
	return longest
}

// share shares operations out among the threads.
func (w *server) share(operations int64) []int64 {
	n := int64(w.threads)
	each := make([]int64, n)
	for i := range each {
		each[i] = operations / n
		if int64(i) < operations%n {
			each[i]++
		}
	}
	return each
}

// turn is what one thread did.
type turn struct {
	done int64
	busy time.Duration
	each []float64 // nanoseconds an operation, batch by batch
	// times are those of operations; nil where they are too short to be timed by themselves.
	times *histogram
}

// oneByOne does n operations and times each by itself. taken is the time of all of them.
func (t *turn) oneByOne(loop Loop, thread int, n int64, clock time.Duration) (kept any, taken time.Duration) {
	for range n {
		began := time.Now()
		kept = loop(thread, 1)
		took := max(time.Since(began)-clock, 0)
		taken += took
		t.times.enter(took)
	}
	return kept, taken
}

// histogram counts times by their first eight binary digits, so that each is known to half a hundredth.
type histogram [42 * 128]int64

func (h *histogram) enter(took time.Duration) {
	shift := max(bits.Len64(uint64(took))-8, 0)
	h[min(shift*128+int(took>>shift), len(h)-1)]++
}

func (h *histogram) add(more *histogram) {
	for bar := range h {
		if more != nil {
			h[bar] += more[bar]
		}
	}
}

// list is the middle of each bar in nanoseconds, with how many times lie there.
func (h *histogram) list() (out [][2]float64) {
	for bar, count := range h {
		if count > 0 {
			shift := max(bar/128-1, 0)
			wide := float64(int64(1) << shift)
			out = append(out, [2]float64{float64(bar-shift*128)*wide + (wide-1)/2, float64(count)})
		}
	}
	return out
}

// most is how many batches of a thread are told of.
const most = 1000

// work has all threads begin at one moment and do their operations in batches, or as many as the time holds where there
// is one. It returns when the last one is done.
func (w *server) work(operations []int64, batch int64, holds time.Duration) (turns []turn, elapsed time.Duration) {
	turns = make([]turn, w.threads)
	for i := range turns {
		turns[i].each = make([]float64, 0, most)
		if w.alone {
			turns[i].times = new(histogram)
		}
	}
	var ready, done sync.WaitGroup
	ready.Add(w.threads)
	start := make(chan struct{})
	for i := range turns {
		done.Go(func() {
			ready.Done()
			<-start
			w.turn(&turns[i], i, operations[i], batch, holds)
		})
	}
	ready.Wait()
	began := time.Now()
	close(start)
	done.Wait()
	return turns, time.Since(began)
}

// turn is what one thread does from the start on.
func (w *server) turn(t *turn, thread int, operations, batch int64, holds time.Duration) {
	began := time.Now()
	before := began
	for holds > 0 && before.Sub(began) < holds || holds == 0 && t.done < operations {
		n := batch
		if holds == 0 {
			n = min(n, operations-t.done)
		}
		kept, took, now := w.batchOf(t, thread, n, before)
		before, t.done, t.busy = now, t.done+n, t.busy+took
		if len(t.each) < most {
			t.each = append(t.each, float64(took)/float64(n))
		}
		if thread == 0 {
			Kept = kept
		}
	}
}

// batchOf does n operations from a moment on, and tells how long they took and when they were done.
func (w *server) batchOf(t *turn, thread int, n int64, began time.Time) (kept any, took time.Duration, now time.Time) {
	if t.times != nil {
		kept, took = t.oneByOne(w.loop, thread, n, w.clock)
		return kept, took, time.Now()
	}
	kept = w.loop(thread, n)
	now = time.Now()
	return kept, max(now.Sub(began)-w.clock, 0), now
}

func (w *server) run(q *question) {
	if w.loop == nil {
		w.trouble(q, "nothing was prepared")
		return
	}
	operations, holds := w.share(q.Operations), time.Duration(q.For)
	each := float64(slices.Max(operations))
	if holds > 0 {
		each = float64(holds) / max(w.pace, 1e-3)
	}
	batch := max(w.batch, int64(each)/most) // so that all of them can be told of
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	turns, elapsed := w.work(operations, batch, holds)
	runtime.ReadMemStats(&after)
	var all int64
	var threads []answer
	var times histogram
	for i := range turns {
		t := &turns[i]
		all += t.done
		times.add(t.times)
		threads = append(threads, answer{"operations": t.done, "busy_ns": t.busy, "means_ns": t.each})
	}
	w.out.Encode(answer{
		"say": "ran", "id": q.ID, "operations": all, "elapsed_ns": elapsed, "threads": threads, "times": times.list(),
		"amounts": answer{
			"heap": answer{"value": after.HeapAlloc, "unit": "bytes"},
			"allocations of operation": answer{
				"value": float64(after.Mallocs-before.Mallocs) / float64(all), "unit": "allocations",
			},
			"collections": answer{"value": after.NumGC - before.NumGC},
			"paused":      answer{"value": after.PauseTotalNs - before.PauseTotalNs, "unit": "ns"},
		},
	})
}
