package worker_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/keeper"
	"paceduel/core/worker"
	"paceduel/internal/scratch"
	harness "paceduel/workers/go"
)

// The test's own program is the worker when it is asked to be.
func TestMain(m *testing.M) {
	keeper.Run()
	switch os.Getenv("PACEDUEL_TEST_WORKER") {
	case "":
		os.Exit(scratch.Run(m.Run))
	case "good":
		multiplying()
	case "stays":
		conn := connect()
		fmt.Fprintln(conn, hello)
		time.Sleep(time.Hour)
	case "connects and ends":
		connect()
		os.Exit(5)
	case "prints and ends":
		fmt.Println("the tide is out")
		os.Exit(3)
	}
}

const hello = `{"say":"hello","protocol":1,"name":"x","runtime":"r","version":"1","functions":[{"name":"f","threads":2}]}`

func connect() net.Conn {
	network, address, _ := strings.Cut(os.Getenv(worker.Variable), ":")
	conn, err := net.Dial(network, address)
	if err != nil {
		panic(err)
	}
	return conn
}

// multiplying is a worker made with our own harness.
func multiplying() {
	harness.Serve("try",
		harness.Function{
			Name: "multiply", Params: harness.Params{"by": 3.0}, Threads: 4,
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
		},
		harness.Function{Name: "silent", Make: func(harness.Params) harness.Loop {
			return func(int, int64) any { return nil }
		}})
}

// start starts the test's own program as a worker of some kind.
func start(t *testing.T, kind string) (*worker.Process, error) {
	t.Helper()
	exe, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	return worker.Start(t.Context(), worker.Launch{
		Run: []string{exe}, Dir: ".", Env: append(os.Environ(), "PACEDUEL_TEST_WORKER="+kind),
	})
}

func TestAWorkerFromStartToEnd(t *testing.T) {
	p, err := start(t, "good")
	if err != nil {
		t.Fatal(err)
	}
	if f := p.Hello.Find("multiply"); f == nil || f.Threads != 4 || f.Params["by"] != 3.0 || p.Hello.Runtime != "Go" {
		t.Errorf("hello %+v", p.Hello)
	}
	if err := p.Chat(); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		by      float64
		threads int
		want    string
	}{{3, 1, "4"}, {5, 3, "6"}} {
		made, err := p.Prepare(t.Context(), "multiply", map[string]any{"by": tt.by}, tt.threads)
		if err != nil || string(made.Result) != tt.want || made.Batch < 100 {
			t.Fatalf("prepared %+v, %v; want the result %s", made, err, tt.want)
		}
		const operations = 1_000_003
		r, err := p.Run(t.Context(), operations, time.Minute)
		if err != nil || r.Operations != operations || len(r.Threads) != tt.threads {
			t.Errorf("on %d threads: %+v, %v", tt.threads, r.Operations, err)
		}
		if _, known := r.Amounts["collections"]; !known {
			t.Errorf("amounts %+v", r.Amounts)
		}
		const long = 20 * time.Millisecond
		if r, err := p.RunFor(t.Context(), long); err != nil || r.Elapsed < float64(long) {
			t.Errorf("for %s: %g, %v", long, r.Elapsed, err)
		}
	}
	silent, err := p.Prepare(t.Context(), "silent", nil, 1)
	if err != nil || silent.Result != nil {
		t.Errorf("what returns nothing has the result %s, %v", silent.Result, err)
	}
	var trouble *worker.Trouble
	_, err = p.Prepare(t.Context(), "sunk", nil, 1)
	if !errors.As(err, &trouble) || !strings.Contains(err.Error(), "sunk") {
		t.Errorf("a function that there is not: %v", err)
	}
	if _, err := p.Prepare(t.Context(), "silent", nil, 7); !errors.As(err, &trouble) {
		t.Errorf("more threads than it has: %v", err)
	}
	if !p.End() {
		t.Error("it had to be killed")
	}
}

func TestOurHarnessKeepsTheProtocol(t *testing.T) {
	exe, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	checks := 0
	ok := worker.Check(t.Context(), []string{exe}, ".", append(os.Environ(), "PACEDUEL_TEST_WORKER=good"),
		func(f worker.Finding) {
			checks++
			if f.Err != nil {
				t.Errorf("%s: %v", f.Check, f.Err)
			}
		})
	if !ok || checks != 14 {
		t.Errorf("ok %v after %d checks", ok, checks)
	}
}

// Whatever a program does in place of being a worker is told in words, and nothing of it is left.
func TestProgramsThatAreNoWorkers(t *testing.T) {
	if _, err := start(t, "prints and ends"); err == nil ||
		!strings.Contains(err.Error(), "exit status 3 before it connected") || !strings.Contains(err.Error(), "tide is out") {
		t.Errorf("a program that ends: %v", err)
	}
	if _, err := start(t, "connects and ends"); err == nil ||
		!strings.Contains(err.Error(), "it ended with exit status 5 without a hello") {
		t.Errorf("a program that only connects: %v", err)
	}
	if _, err := worker.Start(t.Context(), worker.Launch{Run: []string{"no-such-program"}, Dir: "."}); err == nil {
		t.Error("a program that there is not was started")
	}
	if _, err := worker.Start(t.Context(), worker.Launch{Dir: "."}); err == nil {
		t.Error("nothing was started")
	}
	p, err := start(t, "stays")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := p.Prepare(ctx, "f", nil, 1); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interrupt: %v", err)
	}
	if p.End() {
		t.Error("what does not end by itself is said to have done so")
	}
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "paceduel-worker-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// scripted is a worker that says these lines, one for each line that it is sent; "" ends the conversation.
func scripted(t *testing.T, lines ...string) net.Conn {
	t.Helper()
	ours, theirs := net.Pipe()
	go func() {
		defer theirs.Close()
		in := bufio.NewReader(theirs)
		for i, line := range lines {
			if i > 0 {
				if _, err := in.ReadString('\n'); err != nil {
					return
				}
			}
			if line == "" {
				return
			}
			if _, err := theirs.Write([]byte(line)); err != nil {
				return
			}
		}
		in.ReadString('\n') // until we are done
	}()
	t.Cleanup(func() { ours.Close() })
	return ours
}

func TestBadHellos(t *testing.T) {
	long := `{"say":"hello","name":"` + strings.Repeat("x", worker.MaxLine) + `"}` + "\n"
	for _, tt := range []struct{ name, line, want string }{
		{"no hello", "", "closed the connection without a hello"},
		{"another version", strings.Replace(hello, `"protocol":1`, `"protocol":9`, 1) + "\n", "version 9 of the protocol"},
		{"no functions", `{"say":"hello","protocol":1}` + "\n", "has no functions"},
		{"no JSON", "good morning\n", "not a line of the worker protocol"},
		{"half a line", `{"say":"hello","pro`, "in the middle of a line"},
		{"a long line", long, "longer than"},
		{"no UTF-8", "{\"say\":\"\xff\"}\n", "not UTF-8"},
		{"no say", `{"id":1}` + "\n", "has no say"},
		{"something else first", `{"say":"ran"}` + "\n", "not hello"},
		{"two of one name", strings.Replace(hello, `[{"name":"f","threads":2}]`, `[{"name":"f"},{"name":"f"}]`, 1) + "\n", "no name of its own"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			line := tt.line
			if tt.name == "half a line" {
				ours, theirs := net.Pipe()
				go func() { theirs.Write([]byte(line)); theirs.Close() }()
				if _, err := worker.Greet(t.Context(), ours); err == nil || !strings.Contains(err.Error(), tt.want) {
					t.Errorf("%v; want %s", err, tt.want)
				}
				return
			}
			if _, err := worker.Greet(t.Context(), scripted(t, line)); err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("%v; want %s", err, tt.want)
			}
		})
	}
}

func TestBadAnswers(t *testing.T) {
	const prepared = `{"say":"prepared","id":1,"batch":10,"clock_ns":20,"empty_ns":0.5,"warmup_ns":1,"settled":true}` + "\n"
	ran := func(operations int, elapsed float64, threads string) string {
		return fmt.Sprintf(`{"say":"ran","id":2,"operations":%d,"elapsed_ns":%g,"threads":[%s]}`+"\n", operations, elapsed, threads)
	}
	amount := func(of string) string {
		return strings.Replace(ran(100, 5, `{"operations":100,"busy_ns":5}`), `"threads"`, `"amounts":{`+of+`},"threads"`, 1)
	}
	times := func(of string) string {
		return strings.Replace(ran(100, 4800, `{"operations":100,"busy_ns":4800}`), `"threads"`, `"times":[`+of+`],"threads"`, 1)
	}
	for _, tt := range []struct{ name, prepared, ran, want string }{
		{"as it should be", prepared, ran(100, 5, `{"operations":100,"busy_ns":5}`), ""},
		{"a line between that nobody knows", `{"say":"gulls"}` + "\n" + prepared, ran(100, 5, `{"operations":100,"busy_ns":5}`), ""},
		{"no batch", strings.Replace(prepared, `"batch":10`, `"batch":0`, 1), "", "a batch is of 0 operations"},
		{"a clock that goes back", strings.Replace(prepared, `"clock_ns":20`, `"clock_ns":-20`, 1), "", "not all times"},
		{"it ends", "", "", "closed the connection in place of an answer"},
		{"another id", strings.Replace(prepared, `"id":1`, `"id":7`, 1), "", "with the id 7"},
		{"the answer to something else", `{"say":"ran","id":1}` + "\n", "", "answered ran to prepare"},
		{"trouble", `{"say":"trouble","id":1,"what":"the pump is broken"}` + "\n", "", "the pump is broken"},
		{"it dies in mid-run", prepared, "", "closed the connection in place of an answer to run"},
		{"fewer operations", prepared, ran(99, 5, `{"operations":99,"busy_ns":5}`), "100 operations were asked for, and 99 were done"},
		{"longer than it took", prepared, ran(100, 9e15, `{"operations":100,"busy_ns":5}`), "the answer came after"},
		{"busier than the run", prepared, ran(100, 5, `{"operations":100,"busy_ns":9e9}`), "was busy for"},
		{"threads that do not add up", prepared, ran(100, 5, `{"operations":60,"busy_ns":5}`), "threads did 60 operations"},
		{"another number of threads", prepared, ran(100, 5, ""), "0 are told of"},
		{
			"an amount without a name", prepared, amount(`"\u001b[2J":{"value":1}`), "an amount is called",
		},
		{"times", prepared, times(`[40,60],[60,40]`), ""},
		{"times of other operations", prepared, times(`[40,60],[60,41]`), "times of 101 operations, and 100 were done"},
		{"times that are longer", prepared, times(`[40,60],[90,40]`), "come to 6000 ns, and threads were busy for 4800"},
		{"half an operation", prepared, times(`[40,60.5],[60,39.5]`), "60.5 operations that took 40 ns"},
		{"less than nothing", prepared, amount(`"heap":{"value":-1,"unit":"bytes"}`), "the amount heap is -1"},
		{"nothing", prepared, ran(0, 5, `{"operations":0,"busy_ns":5}`), "nothing that can be"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			s, err := worker.Greet(t.Context(), scripted(t, hello+"\n", tt.prepared, tt.ran))
			if err != nil {
				t.Fatal(err)
			}
			if _, err = s.Prepare(t.Context(), "f", nil, 1); err == nil {
				_, err = s.Run(t.Context(), 100, time.Second)
			}
			if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
				t.Errorf("%v; want %q", err, tt.want)
			}
		})
	}
}

// A worker that answers a question twice is found out at the next one.
func TestAWorkerThatAnswersTwice(t *testing.T) {
	const ran = `{"say":"ran","id":2,"operations":100,"elapsed_ns":5,"threads":[{"operations":100,"busy_ns":5}]}` + "\n"
	s, err := worker.Greet(t.Context(), scripted(t, hello+"\n",
		`{"say":"prepared","id":1,"batch":10,"clock_ns":20,"empty_ns":0.5,"warmup_ns":1}`+"\n", ran+ran, ""))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Prepare(t.Context(), "f", nil, 1); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Run(t.Context(), 100, time.Second); err != nil {
		t.Errorf("the first answer: %v", err)
	}
	if _, err := s.Run(t.Context(), 100, time.Second); err == nil || !strings.Contains(err.Error(), "with the id 2") {
		t.Errorf("the second answer to the first question was taken for one to the second: %v", err)
	}
}

// Percentiles of single operations are told where enough of them lie beyond.
func TestQuantilesOfOperations(t *testing.T) {
	r := worker.Ran{Operations: 1000, Times: []worker.Times{{900, 10}, {200, 490}, {100, 500}}}
	for _, tt := range []struct {
		q, want float64
		known   bool
	}{{0.5, 100, true}, {0.501, 200, true}, {0.99, 200, true}, {0.991, 0, false}, {0.005, 0, false}} {
		if ns, ok := r.Quantile(tt.q); ok != tt.known || ns != tt.want {
			t.Errorf("%g: %g, %v; want %g, %v", tt.q, ns, ok, tt.want, tt.known)
		}
	}
	r.Times = nil
	if _, ok := r.Quantile(0.5); ok {
		t.Error("a percentile of operations that were not timed by themselves")
	}
}

// A worker that took long and says that it did not is not believed.
func TestATimeThatDoesNotFitTheWall(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ours, theirs := net.Pipe()
		defer theirs.Close()
		go func() {
			in := bufio.NewReader(theirs)
			fmt.Fprintln(theirs, hello)
			in.ReadString('\n')
			fmt.Fprintln(theirs, `{"say":"prepared","id":1,"batch":10,"clock_ns":20,"empty_ns":0.5,"warmup_ns":1}`)
			in.ReadString('\n')
			time.Sleep(3 * time.Second) // of the bubble's own time
			fmt.Fprintln(theirs,
				`{"say":"ran","id":2,"operations":100,"elapsed_ns":500,"threads":[{"operations":100,"busy_ns":500}]}`)
		}()
		s, err := worker.Greet(t.Context(), ours)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if _, err := s.Prepare(t.Context(), "f", nil, 1); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Run(t.Context(), 100, time.Minute); err == nil || !strings.Contains(err.Error(), "came only after") {
			t.Errorf("a run of 3 s that says 500 ns: %v", err)
		}
	})
}

// FuzzLines feeds a worker's lines: whatever comes is an answer or an error, and never hangs.
func FuzzLines(f *testing.F) {
	for _, line := range []string{hello, `{"say":"ran","id":1}`, "", "{", `{"say":"hello","protocol":1,"functions":[{}]}`} {
		f.Add([]byte(line + "\n"))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		ours, theirs := net.Pipe()
		go func() {
			theirs.Write(text)
			theirs.Close()
		}()
		s, err := worker.Greet(t.Context(), ours)
		if err != nil {
			return
		}
		defer s.Close()
		if _, err := json.Marshal(s.Hello); err != nil {
			t.Error(err)
		}
	})
}
