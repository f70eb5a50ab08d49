package http

import (
	"bytes"
	"fmt"

	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// BenchmarkLegs asks a server of its own process by 8 clients for shots of three legs, in turn with as many bare loops
// that write the same bytes to a socket and read each answer to its end, and reports the legs' requests a second and
// CPU a request as ratios to theirs: medians over the rounds. "rate" is the bare loop's rate over the legs'.
func BenchmarkLegs(b *testing.B) {
	for name, order := range map[string]string{"in turn": inTurn, "at once": asNeeded} {
		b.Run(name, func(b *testing.B) {
			url := serveApart(b, false)
			all := map[string][]float64{}
			for i := 0; b.Loop(); i++ {
				var legs, bare figures
				if i%2 == 0 {
					legs, bare = askLegs(b, url, order), askBare(b, url)
				} else {
					bare, legs = askBare(b, url), askLegs(b, url, order)
				}
				all["rate"] = append(all["rate"], bare.rate/legs.rate)
				all["cpu"] = append(all["cpu"], legs.cpu/bare.cpu)
			}
			for name, list := range all {
				slices.Sort(list)
				b.ReportMetric(list[len(list)/2], name)
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

const benchLegs = 3

func askLegs(b *testing.B, url, order string) figures {
	s := New().(*Settings)
	s.URL, s.Order = url, order
	for i := range benchLegs {
		s.Legs = append(s.Legs, Leg{Name: fmt.Sprint("leg", i), URL: "/"})
	}
	return driven(b, s, benchLegs)
}

// askBare is a loop for each client that does nothing but write a request and read its answer.
func askBare(b *testing.B, url string) figures {
	address := strings.TrimPrefix(url, "http://")
	request := []byte("GET / HTTP/1.1\r\nHost: " + address + "\r\nUser-Agent: paceduel\r\n\r\n")
	var wg sync.WaitGroup
	counts := make([]int64, benchClients)
	before, began := used(), time.Now()
	until := began.Add(benchFor)
	for i := range benchClients {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
		wg.Go(func() {
			buf := make([]byte, 64<<10)
			for time.Now().Before(until) {
				if _, err := conn.Write(request); err != nil {
					b.Error(err)
					return
				}
				// The answer comes whole, and ends in its body.
				n, err := conn.Read(buf)
				if err != nil || !bytes.HasSuffix(buf[:n], []byte("tide is in")) {
					b.Errorf("%q, %v", buf[:n], err)
					return
				}
				counts[i]++
			}
		})
	}
	wg.Wait()
	took, cpu := time.Since(began), used()-before
	var n float64
	for _, c := range counts {
		n += float64(c)
	}
	return figures{n / took.Seconds(), cpu.Seconds() / n}
}
