package e2e

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"paceduel/core/result"
)

// fleet is a bus at an address of its own and agents on it, all of them processes of the real program.
type fleet struct {
	home
	bus string // HOST:PORT
}

func newFleet(t *testing.T) *fleet {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return &fleet{newHome(t), l.Addr().String()}
}

// join starts an agent, which waits until the bus is there. It is ended with the test.
func (f *fleet) join(t *testing.T, name string, more ...string) *exec.Cmd {
	t.Helper()
	cmd := f.command(append([]string{"join", "nats://" + f.bus, "--name", name}, more...)...)
	out, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var said sync.WaitGroup
	said.Go(func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			t.Log(name + ": " + s.Text())
		}
	})
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGCONT)
		cmd.Process.Signal(syscall.SIGTERM)
		said.Wait()
		if err := cmd.Wait(); err != nil && !strings.Contains(err.Error(), "killed") {
			t.Errorf("agent %s: %v", name, err)
		}
	})
	return cmd
}

// berths is a service that answers a little; asked is called at each request.
func berths(t *testing.T, asked func()) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked()
		fmt.Fprintln(w, strings.Repeat("berth ", 50))
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func (f *fleet) plan(t *testing.T, url, lines string) {
	t.Helper()
	f.write(t, "board.duel.yaml", "duel: Board\nbaseline: joined\ncourse: { http: { url: \""+url+"/berths\" } }\n"+
		"contenders: { joined: , plain: }\n"+lines)
}

func (f *fleet) result(t *testing.T) *result.Result {
	t.Helper()
	r, err := result.ReadFile(filepath.Join(f.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// A rate is shared by agents to the last shot, and what they recorded is merged exactly: percentiles are those of all
// raw shots together.
func TestAgentsShareARate(t *testing.T) {
	beside(t)
	f := newFleet(t)
	for i := range 4 {
		f.join(t, fmt.Sprint("quay-", i))
	}
	f.plan(t, berths(t, func() {}), "pace: { rate: 250/s, for: 1s, warmup: 0 }\nrounds: 2\nload: { agents: 4 }\n")
	f.run(t, "run", "board.duel.yaml", "--bus", "listen", f.bus, "--json", "out.json", "--shots", "shots.csv").says(t, 0,
		"agent quay-3: ready", "heat 4 of", "driven by 4 agents", "clock", "floor")
	r := f.result(t)
	raw := rawLatencies(t, filepath.Join(f.dir, "shots.csv"))
	counted := 0
	for i := range r.Heats {
		h := &r.Heats[i]
		if !h.Counts() { // this machine held an agent up, and the round was done again
			continue
		}
		counted++
		if h.Due != 250 || h.Shots()+h.Unsent != 250 || len(h.Shares) != 4 {
			t.Errorf("heat %d: %d shots were due, %d came of %d agents; want 250 of 4", i, h.Due, h.Shots(), len(h.Shares))
		}
		d, err := h.Histogram()
		if err != nil {
			t.Fatal(err)
		}
		own := raw[fmt.Sprintf("%d %s", h.Round, h.Contender)]
		slices.Sort(own)
		for _, q := range []float64{0.5, 0.9, 0.99} {
			want := own[int(math.Ceil(q*float64(len(own))))-1]
			if got := d.Quantile(q); math.Abs(got/want-1) > 0.001 {
				t.Errorf("heat %d: quantile %g is %g; of the raw shots %g", i, q, got, want)
			}
		}
	}
	if counted < 4 {
		t.Errorf("%d heats of 4 count", counted)
	}
	f.run(t, "show", "out.json", "--agents").says(t, 0, "plain, by agent", "lag at p99")
}

// rawLatencies are the latencies of shots that were written one by one, in seconds, by round and contender.
func rawLatencies(t *testing.T, path string) map[string][]float64 {
	t.Helper()
	file, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	lines, err := csv.NewReader(file).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	at := func(name string) int { return slices.Index(lines[0], name) }
	round, contender, latency, class := at("round"), at("contender"), at("latency_ns"), at("class")
	if min(round, contender, latency, class) < 0 {
		t.Fatalf("columns %q", lines[0])
	}
	out := map[string][]float64{}
	for _, l := range lines[1:] {
		if l[class] != "ok" {
			continue
		}
		ns, err := strconv.ParseFloat(l[latency], 64)
		if err != nil {
			t.Fatal(err)
		}
		out[l[round]+" "+l[contender]] = append(out[l[round]+" "+l[contender]], ns/1e9)
	}
	return out
}

// An agent that is killed in the middle of a run is missed by its name; one that was stopped for a while too, and
// takes part again. What had ended is kept, and the status says what came of it.
func TestAgentsThatFail(t *testing.T) {
	beside(t)
	for _, tt := range []struct {
		name, lost string
		fail       func(*os.Process)
		status     int
		says       []string
	}{
		{"killed, and the others go on", ", lost: go on", func(p *os.Process) { p.Kill() }, 0,
			[]string{"agent quay-2 has not answered for", "is done again at the end", "the run goes on without quay-2",
				"agent quay-2 was lost in round"}},
		{"killed, and the run ends", "", func(p *os.Process) { p.Kill() }, 4,
			[]string{"agent quay-2 has not answered for", "load: { lost: go on } goes on with the others"}},
		{"stopped", "", func(p *os.Process) {
			p.Signal(syscall.SIGSTOP)
			time.AfterFunc(1200*time.Millisecond, func() { p.Signal(syscall.SIGCONT) })
		}, 0, []string{"agent quay-2 did not run for", "is done again at the end"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			f := newFleet(t)
			f.join(t, "quay-1")
			second := f.join(t, "quay-2")
			var third atomic.Bool // heat is next, or under way
			var once sync.Once
			url := berths(t, func() {
				if third.Load() {
					once.Do(func() { tt.fail(second.Process) })
				}
			})
			f.plan(t, url, "pace: { clients: 4, for: 1s, warmup: 0 }\nrounds: 5\nload: { agents: 2, within: 2s"+
				tt.lost+" }\n")
			cmd := f.command("run", "board.duel.yaml", "--bus", "listen", f.bus, "--json", "out.json")
			var said strings.Builder
			out, err := cmd.StderrPipe()
			if err != nil {
				t.Fatal(err)
			}
			cmd.Stdout = &said
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			var words strings.Builder
			for s := bufio.NewScanner(out); s.Scan(); {
				words.WriteString(s.Text() + "\n")
				if strings.HasPrefix(s.Text(), "heat 2 of") {
					third.Store(true)
				}
			}
			cmd.Wait()
			o := outcome{cmd.ProcessState.ExitCode(), said.String(), words.String()}
			o.says(t, tt.status, tt.says...)
			complete := map[int]int{}
			for _, h := range f.result(t).Heats {
				if h.Counts() {
					complete[h.Round]++
				}
			}
			whole := 0
			for _, n := range complete {
				if n == 2 {
					whole++
				}
			}
			if tt.status == 0 && whole != 5 || whole < 1 {
				t.Errorf("%d rounds are complete; 5 were planned", whole)
			}
		})
	}
}

// The harbour's service is run and watched by an agent that sits beside it, driven by two others; what it holds is in
// the result of whoever asked for it.
func TestADuelBesideItsService(t *testing.T) {
	beside(t)
	f := newFleet(t)
	there := t.TempDir()
	f.env = append(f.env, "PACEDUEL="+program)
	f.join(t, "office", "--beside", there, "--lend", "PACEDUEL")
	f.join(t, "quay-1", "--lend", "PACEDUEL")
	f.join(t, "quay-2", "--lend", "PACEDUEL")
	tides := `duel: Tides
baseline: first
course:
  http: { url: "http://127.0.0.1:${PORT}/tide?gauge=1&day=7" }
  service: { run: ["${PACEDUEL}", harbour, predict, --with, deferred, --listen, "127.0.0.1:${PORT}"] }
contenders: { first: , second: { service: { fresh: duel } } }
pace: { clients: 2, shots: 60, warmup: 4 }
rounds: 2
load: { beside: office, agents: [quay-1, quay-2] }
footing: { before: { duel: [ touch was-here ] } }
`
	f.write(t, "tide.duel.yaml", tides)
	f.run(t, "run", "tide.duel.yaml", "--bus", "listen", f.bus, "--json", "out.json").says(t, 0, "heat 4 of 4")
	f.run(t, "run", "tide.duel.yaml", "--bus", "listen", f.bus, "--shots", "s.csv").says(t, 2, "stay with agent office")
	r := f.result(t)
	for i := range r.Heats {
		h := &r.Heats[i]
		if h.OK != 60 || h.Service == nil || h.Peak() == 0 || len(h.Shares) != 2 {
			t.Errorf("heat %d: %d shots, a service of %d bytes, %d agents", i, h.OK, h.Peak(), len(h.Shares))
		}
	}
	if _, err := os.Stat(filepath.Join(there, "was-here")); err != nil {
		t.Errorf("the duel was not run there: %v", err)
	}
	// the same with the service here
	f.write(t, "tide.duel.yaml", strings.Replace(tides, "beside: office, ", "", 1))
	f.run(t, "run", "tide.duel.yaml", "--bus", "listen", f.bus, "--json", "out.json").says(t, 0, "heat 4 of 4")
	for i, h := range f.result(t).Heats {
		if h.OK != 60 || h.Service == nil || h.Peak() == 0 || len(h.Shares) != 2 {
			t.Errorf("heat %d here: %d shots, a service of %d bytes, %d agents", i, h.OK, h.Peak(), len(h.Shares))
		}
	}
	if _, err := os.Stat(filepath.Join(f.dir, "was-here")); err != nil {
		t.Errorf("the duel was not run here: %v", err)
	}
}

func TestTheBusOnTheCommandLine(t *testing.T) {
	beside(t)
	f := newFleet(t)
	url := berths(t, func() {})
	f.plan(t, url, "pace: { clients: 4, shots: 8 }\nrounds: 1\n")
	f.run(t, "run", "board.duel.yaml", "--bus", "listen").says(t, 2, "none says load:")
	f.run(t, "agents", "nats://"+f.bus).says(t, 4, "nobody answers there")
	f.run(t, "agents", "http://"+f.bus).says(t, 2, "a bus is at nats:// or tls://")
	f.run(t, "join", "nats://"+f.bus, "--name", "Quay 1").says(t, 2, "small letters")
	f.run(t, "join", "nats://"+f.bus, "--beside", "nowhere").says(t, 2, "no folder to run duels in")
	f.plan(t, url, "pace: { clients: 4, shots: 8 }\nrounds: 1\nload: { agents: 2 }\n")
	f.run(t, "run", "board.duel.yaml").says(t, 2, "no bus was named", "--bus listen")
	f.run(t, "run", "board.duel.yaml", "--bus", "listen 0.0.0.0:4999").says(t, 2, "--bus-cert")
	f.run(t, "run", "board.duel.yaml", "--bus", "listen", f.bus, "--bus-wait", "300ms").says(t, 4,
		"waiting for agents: 0 free agents of 2", "paceduel join lets a machine be one")
	f.run(t, "check", "board.duel.yaml").says(t, 0)
}
