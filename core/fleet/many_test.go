package fleet

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"paceduel/core/bus"
	"paceduel/core/cell"
	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/all"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// pretended is a kind whose shots take no time of this machine: it draws when they would have ended.
func pretended() contender.Kind {
	var k contender.Kind
	for _, of := range all.Kinds() {
		if of.Afar != nil && of.Draft != nil && !of.Embeds {
			k = of
		}
	}
	k.Floor, k.Level = nil, nil
	k.Open = func(s contender.Setup, _ plan.Settings) (contender.Driver, error) { return &pretending{s}, nil }
	return k
}

type pretending struct{ contender.Setup }

func (p *pretending) Client(i, _ int) contender.Client {
	return &pretendedClient{p, rand.New(rand.NewPCG(uint64(i), 1))}
}
func (p *pretending) Close() error { return nil }

type pretendedClient struct {
	*pretending
	rng *rand.Rand
}

func (c *pretendedClient) Shoot(_ context.Context, s *shots.Shot) {
	s.Start = c.Clock.Now()
	s.End = s.Start + time.Duration(1e6*(1+c.rng.ExpFloat64()))
	s.Took(0, time.Microsecond)
	if s.View != nil {
		s.View.Known, s.View.Outcome, s.View.Body, s.View.Bytes = true, "200 OK", []byte("six berths"), 10
	}
}
func (c *pretendedClient) Rewind() {}
func (c *pretendedClient) Close()  {}

// manyOf and busOf are where a process is told that it is to be very many agents.
const manyOf, busOf = "PACEDUEL_TEST_AGENTS", "PACEDUEL_TEST_BUS"

// hostMany is that process: it serves until its standard input ends.
func hostMany() {
	many, err := strconv.Atoi(os.Getenv(manyOf))
	if err != nil {
		return
	}
	ctx, leave := context.WithCancel(context.Background())
	shared := &press{}
	for i := range many {
		link, err := bus.Connect(ctx, bus.Access{URLs: []string{os.Getenv(busOf)}})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		a := NewAgent(AgentConfig{
			Name: fmt.Sprintf("quay-%d", i), Program: "test", Kinds: []contender.Kind{pretended()}, Rules: DefaultRules(),
			Host: result.Host{Cores: 2}, Guest: true, press: shared,
		}, link)
		a.unasked = true
		go a.Serve(ctx)
	}
	io.Copy(io.Discard, os.Stdin)
	leave()
	os.Exit(0)
}

// usedCPU is the processor time that this process has used.
func usedCPU() time.Duration {
	var u syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// peak is the most memory that this process has held, in bytes.
func peak(t *testing.T) int64 {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			n, _ := strconv.ParseInt(strings.TrimSuffix(strings.TrimSpace(rest), " kB"), 10, 64)
			return n << 10
		}
	}
	return 0
}

// A heat of very many agents is gathered in little time and little memory. They share a process; this one is the bus
// and gathers. PACEDUEL_AGENTS says how many, 60 unless said; docs/many-machines.md has what 1 000 take. It is long
// since it is one story.
func TestManyAgents(t *testing.T) {
	long(t)
	many := 60
	if text := os.Getenv("PACEDUEL_AGENTS"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			t.Fatal(err)
		}
		many = n
	}
	s, err := bus.Listen(bus.Listening{Address: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	kind := pretended()
	agents := exec.Command(os.Args[0])
	agents.Env = append(os.Environ(), manyOf+"="+strconv.Itoa(many), busOf+"="+s.URL())
	agents.Stderr = os.Stderr
	end, err := agents.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := agents.Start(); err != nil {
		t.Fatal(err)
	}
	defer agents.Wait()
	defer end.Close()
	link, err := s.Connect(t.Context(), "runs", "")
	if err != nil {
		t.Fatal(err)
	}
	defer link.Close()
	began := time.Now()
	for {
		cards, _, err := List(t.Context(), link, 500*time.Millisecond)
		if err != nil {
			t.Fatal(err)
		}
		if len(cards) == many {
			break
		}
		if time.Since(began) > time.Minute {
			t.Fatalf("%d of %d agents are there", len(cards), many)
		}
	}
	const each = 50
	text := fmt.Sprintf("duel: Many\nbaseline: a\ncourse: { %s: { url: \"http://127.0.0.1:1/\" } }\n"+
		"contenders: { a: , b: }\npace: { clients: %d, shots: %d, warmup: 0 }\nload: { agents: %d }\n", kind.Name,
		min(many, plan.MaxClients), many*each, many)
	p, err := read.Plan("many.duel.yaml", []byte(text), read.Options{Kinds: contender.PlanKinds([]contender.Kind{kind})})
	if err != nil {
		t.Fatal(err)
	}
	f := New(Config{Link: link, Program: "test", Kinds: []contender.Kind{kind}, Wait: time.Minute})
	atLeisure(f)
	clk := clock.Start()
	began = time.Now()
	if _, err := f.Open(t.Context(), rounds.Opening{Plan: p, Run: "1128-0000abc", Seed: 1, Clock: clk}); err != nil {
		t.Fatal(err)
	}
	ready := time.Since(began)
	defer f.Close()
	sum := tally.NewRecorder(&kind.Shape, 0, 1)
	warm, woken := tally.NewRecorder(&kind.Shape, 0, 1), tally.NewRecorder(&kind.Shape, 0, 1)
	messages, bytes := link.Traffic()
	used := usedCPU()
	d, err := f.Drive(t.Context(), &rounds.Handed{
		Round: 1, Cell: cell.Of("a", ""), Seed: 1, Shape: &kind.Shape, Warm: warm, Judged: sum, Woken: woken,
		OnStage: func(pace.Stage, time.Duration) {},
	})
	if err != nil {
		t.Fatal(err)
	}
	took, cpu := clk.Now()-d.Span.End, usedCPU()-used
	messagesNow, bytesNow := link.Traffic()
	m := tally.Merge([]*tally.Recorder{sum})
	if m.Counts[shots.OK] != int64(many*each) || len(d.Shares) != many || m.Latencies.TotalCount() != int64(many*each) {
		t.Errorf("%d shots by %d agents; want %d by %d", m.Counts[shots.OK], len(d.Shares), many*each, many)
	}
	if many >= 1000 {
		if peak(t) > 300<<20 {
			t.Errorf("gathered with %d MiB; want 300", peak(t)>>20)
		}
	}
	t.Logf("%d agents: ready in %v; a heat takes %d messages and %.1f KB; from its last shot to the merged heat %v; "+
		"this process used %v of a processor for the heat and held %d MiB at most", many, ready.Round(time.Millisecond),
		messagesNow-messages, float64(bytesNow-bytes)/1000,
		took.Round(time.Millisecond), cpu.Round(time.Millisecond), peak(t)>>20)
}
