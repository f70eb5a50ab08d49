package e2e

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"

	"paceduel/core/judge"
	"paceduel/core/result"
)

// cheap is a server that answers at once, whatever it is asked.
func cheap(b *testing.B) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				in := bufio.NewReader(conn)
				for {
					line, err := in.ReadString('\n')
					if err != nil {
						return
					}
					if line == "\r\n" {
						if _, err := conn.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntide")); err != nil {
							return
						}
					}
				}
			}()
		}
	}()
	return "http://" + l.Addr().String() + "/"
}

// BenchmarkFirstFrame starts the application until its title is drawn on a terminal: on a folder of duels, and with the
// harbour running inside.
func BenchmarkFirstFrame(b *testing.B) {
	h := newHome(b)
	h.write(b, "count.duel.yaml", quick)
	for _, args := range [][]string{{"open", "."}, {"demo"}} {
		b.Run(args[0], func(b *testing.B) {
			for b.Loop() {
				cmd := h.command(args...)
				cmd.Env = append(cmd.Env, "TERM=xterm-256color")
				terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: 142, Rows: 42})
				if err != nil {
					b.Fatal(err)
				}
				var drawn []byte
				buf := make([]byte, 1<<16)
				for !bytes.Contains(drawn, []byte("pace duel")) {
					n, err := terminal.Read(buf)
					if err != nil {
						b.Fatalf("it ended after drawing %q: %v", drawn, err)
					}
					drawn = append(drawn, buf[:n]...)
				}
				b.StopTimer()
				cmd.Process.Kill()
				cmd.Wait()
				terminal.Close()
				b.StartTimer()
			}
		})
	}
}

// BenchmarkOwnMemory runs duels over HTTP to their verdicts and reports the most memory that the program ever had, as
// the kernel counts it: ten million shots by 64 clients, and 400 heats of 8 contenders. What comes after the last shot
// is told too: how long show takes to read such a run and judge it anew.
func BenchmarkOwnMemory(b *testing.B) {
	url := cheap(b)
	for _, duel := range []struct {
		name, contenders, pace string
		rounds, heats          int
	}{
		{"ten million shots", "a: {}, b: {}", "{ clients: 64, shots: 1000000, warmup: 1000 }", 5, 10},
		{
			"8 contenders 50 rounds", "a: {}, b: {}, c: {}, d: {}, e: {}, f: {}, g: {}, h: {}",
			"{ clients: 8, for: 100ms, warmup: 20ms }", 50, 400,
		},
	} {
		b.Run(duel.name, func(b *testing.B) {
			h := newHome(b)
			contenders := strings.ReplaceAll(duel.contenders, "{}", "{ http: {} }")
			h.write(b, "own.duel.yaml", fmt.Sprintf(
				"duel: own\nbaseline: a\ncourse: { http: { url: %q } }\ncontenders: { %s }\npace: %s\nrounds: %d\nseed: 1\n", url,
				contenders, duel.pace, duel.rounds,
			))
			var most, show []float64
			for b.Loop() {
				cmd := h.command("run", "own.duel.yaml")
				if out, err := cmd.CombinedOutput(); err != nil {
					b.Fatalf("%v: %s", err, out)
				}
				most = append(most, float64(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)/1024)
				id, _, _ := strings.Cut(h.run(b, "log").out, " ")
				began := time.Now()
				h.run(b, "show", id).says(b, 0)
				show = append(show, time.Since(began).Seconds()*1e3)
				r, err := result.Read(strings.NewReader(h.run(b, "show", "--json", id).out))
				if err != nil || len(r.Heats) != duel.heats {
					b.Fatalf("%d heats; want %d: %v", len(r.Heats), duel.heats, err)
				}
			}
			b.ReportMetric(slices.Max(most), "peak_MiB")
			slices.Sort(show)
			b.ReportMetric(show[len(show)/2], "show_ms")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkScreenAgainstHeadless runs the same duels with the screen on and without it, in turn, and reports the
// screen's figures as ratios to those without, medians over the rounds: throughput in a closed model, p99 at 5 000
// shots a second. A key is pressed on the screen in mid-heat; key_ms is how long the help that it opens took to show,
// tmux included.
func BenchmarkScreenAgainstHeadless(b *testing.B) {
	h := newHome(b)
	url := cheap(b)
	duel := func(name, pace string) {
		h.write(b, name+"/"+name+".duel.yaml", fmt.Sprintf(
			"duel: %s\nbaseline: a\ncourse: { http: { url: %q } }\ncontenders: { a: { note: one, http: {} }, b: { note: "+
				"other, http: {} } }\npace: %s\nrounds: 4\nseed: 1\n",
			name, url, pace,
		))
	}
	duel("closed", "{ clients: 8, for: 1s, warmup: 100ms }")
	duel("open", "{ rate: 5000/s, for: 1s, warmup: 100ms, most: 16 }")
	all := map[string][]float64{}
	for b.Loop() {
		for _, name := range []string{"closed", "open"} {
			file := filepath.Join(name, name+".duel.yaml")
			// In a terminal, too, since the system's scheduler treats sessions apart.
			term := openTerminal(b, h, 142, 42, "run", file, "--json", name+".json", "--seed", "1")
			time.Sleep(most)
			term.wait("ended with 0")
			without, err := result.ReadFile(filepath.Join(h.dir, name+".json"))
			if err != nil {
				b.Fatal(err)
			}
			with, key := onScreen(b, h, name, name == "closed")
			if name == "closed" {
				all["key_ms"] = append(all["key_ms"], key.Seconds()*1e3)
				all["throughput"] = append(all["throughput"], middle(b, with).throughput/middle(b, without).throughput)
			} else {
				all["p99"] = append(all["p99"], middle(b, with).p99/middle(b, without).p99)
			}
		}
	}
	for name, list := range all {
		slices.Sort(list)
		b.ReportMetric(list[len(list)/2], name)
	}
	b.ReportMetric(0, "ns/op")
}

// onScreen runs a duel on the screen and returns its result, and how long a key took in the midst of it if one is
// pressed. Nobody looks at the screen otherwise while the duel is on: each look is a process of its own, which would be
// measured.
func onScreen(b *testing.B, h home, name string, press bool) (r *result.Result, took time.Duration) {
	term := openTerminal(b, h, 142, 42, "open", name)
	term.wait(name + " asks b against a")
	term.press("Enter")
	begun := time.Now()
	if press {
		time.Sleep(most / 3)
		began := time.Now()
		term.press("?")
		term.wait("Keys of rounds")
		took = time.Since(began)
		term.press("?")
	}
	time.Sleep(most - time.Since(begun))
	term.wait("✓verdict", "shots that count")
	term.press("q")
	term.wait("ended with 0")
	id, _, _ := strings.Cut(h.run(b, "log").out, " ")
	out := h.run(b, "show", "--json", id)
	r, err := result.Read(strings.NewReader(out.out))
	if err != nil {
		b.Fatal(err)
	}
	return r, took
}

// most is how long a duel takes: 8 heats of 1.1 s, and what comes before.
const most = 14 * time.Second

type middles struct{ throughput, p99 float64 }

// middle is the median over all heats.
func middle(b *testing.B, r *result.Result) middles {
	var rates, tails []float64
	for i := range r.Heats {
		histogram, err := r.Heats[i].Histogram()
		if err != nil {
			b.Fatal(err)
		}
		rates, tails = append(rates, r.Heats[i].Throughput()), append(tails, judge.Quantile(histogram, 0.99))
	}
	slices.Sort(rates)
	slices.Sort(tails)
	return middles{rates[len(rates)/2], tails[len(tails)/2]}
}
