package fleet

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/quantile"
)

// middle is the median of some measurements.
func middle(list []float64) float64 {
	slices.Sort(list)
	return list[quantile.Rank(0.5, int64(len(list)))-1]
}

// A service that answers one at a time is the limit of 16 clients, whoever drives them: what 2 and 4 agents get out of
// it as against one, in turn.
func BenchmarkAgentsAtAServicesLimit(b *testing.B) {
	h := newHarbour(b)
	var berth sync.Mutex
	h.see(func(*http.Request) {
		berth.Lock()
		defer berth.Unlock()
		for began := time.Now(); time.Since(began) < time.Millisecond; {
		}
	})
	for n := range 4 {
		h.join(fmt.Sprint("quay-", n), "", func(a *Agent) { a.cfg.Guest = true })
	}
	rates := map[int][]float64{}
	for b.Loop() {
		for _, agents := range []int{1, 2, 4} {
			r, err := h.run(h.plan(fmt.Sprintf("pace: { clients: 16, for: 500ms, warmup: 100ms }\nrounds: 1\n"+
				"load: { agents: %d }\n", agents), nil), nil)
			if err != nil {
				b.Fatal(err)
			}
			for i := range r.Heats {
				rates[agents] = append(rates[agents], r.Heats[i].Throughput())
			}
		}
	}
	one := middle(rates[1])
	b.ReportMetric(one, "shots/s-of-1")
	b.ReportMetric(middle(rates[2])/one, "of-2/of-1")
	b.ReportMetric(middle(rates[4])/one, "of-4/of-1")
}

// longWay is a way to a server on which everything takes so long in each direction. It returns where it begins.
func longWay(tb testing.TB, to string, each time.Duration) (from string) {
	tb.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { ln.Close() })
	type parcel struct {
		due  time.Time
		data []byte
	}
	carry := func(out, in net.Conn) {
		under := make(chan parcel, 1024)
		go func() {
			defer close(under)
			for {
				data := make([]byte, 16<<10)
				n, err := in.Read(data)
				if err != nil {
					return
				}
				under <- parcel{time.Now().Add(each), data[:n]}
			}
		}()
		for p := range under {
			time.Sleep(time.Until(p.due))
			if _, err := out.Write(p.data); err != nil {
				break
			}
		}
		in.Close()
		out.Close()
	}
	go func() {
		for {
			near, err := ln.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			go carry(far, near)
			go carry(near, far)
		}
	}()
	return ln.Addr().String()
}

// bare is the median of n requests over one connection, asked with as little as can be, in seconds.
func bare(tb testing.TB, at string, n int) float64 {
	tb.Helper()
	conn, err := net.Dial("tcp", at)
	if err != nil {
		tb.Fatal(err)
	}
	defer conn.Close()
	in := bufio.NewReader(conn)
	var took []float64
	for range n {
		began := time.Now()
		fmt.Fprintf(conn, "GET /berths HTTP/1.1\r\nHost: %s\r\n\r\n", at)
		answer, err := http.ReadResponse(in, nil)
		if err != nil {
			tb.Fatal(err)
		}
		io.Copy(io.Discard, answer.Body)
		took = append(took, time.Since(began).Seconds())
	}
	return middle(took)
}

// Agents at two places, one of them behind a way of 5 ms in each direction, against a client that does nothing but ask
// over the same, in turn.
func BenchmarkAWayThatIsKnown(b *testing.B) {
	h := newHarbour(b)
	near := strings.TrimPrefix(h.url, "http://")
	at := map[string]string{"near": near, "far": longWay(b, near, 5*time.Millisecond)}
	for place, address := range at {
		h.join("quay-"+place, place, func(a *Agent) {
			a.cfg.Guest, a.cfg.Rules.Lend = true, []string{"BOARD"}
			a.cfg.Env = func(string) (string, bool) { return address, true }
		})
	}
	h.url = "http://${BOARD}"
	told, truth := map[string][]float64{}, map[string][]float64{}
	for b.Loop() {
		r, err := h.run(h.plan("pace: { clients: 1, shots: 60, warmup: 5 }\nrounds: 1\nload: { places: [near, far] }\n",
			map[string]string{"BOARD": near}), nil)
		if err != nil {
			b.Fatal(err)
		}
		for i := range r.Heats {
			d, err := r.Heats[i].Histogram()
			if err != nil {
				b.Fatal(err)
			}
			told[r.Heats[i].State] = append(told[r.Heats[i].State], d.Quantile(0.5))
		}
		for place, address := range at {
			truth[place] = append(truth[place], bare(b, address, 60), bare(b, address, 60))
		}
	}
	for place := range at {
		said, is := middle(told[place]), middle(truth[place])
		b.ReportMetric(is*1e3, place+"-ms")
		b.ReportMetric(said/is, place+"-told/bare")
		b.ReportMetric((said-is)*1e6, place+"-off-us")
	}
}
