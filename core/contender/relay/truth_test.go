package relay

import (
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/plan"
	"paceduel/core/shots"
)

// BenchmarkTruth holds what is told of effects to when they were really brought about, from a millisecond to a minute
// and a half after the deed: late is how much later each is seen, seen/true the ratio of both delays.
func BenchmarkTruth(b *testing.B) {
	b.Run("short", func(b *testing.B) {
		truth(b, map[string]time.Duration{"1ms": time.Millisecond, "10ms": 10 * time.Millisecond, "1s": time.Second})
	})
	b.Run("long", func(b *testing.B) {
		truth(b, map[string]time.Duration{"10s": 10 * time.Second, "90s": 90 * time.Second})
	})
}

func truth(b *testing.B, delays map[string]time.Duration) {
	y := newYard(b, time.Millisecond)
	s := y.settings(map[string]Effect{})
	for name := range delays {
		s.Effects[name] = Effect{Call: true, Has: name + " {{key}}"}
	}
	s.Within = plan.Span(5 * time.Minute)
	d := y.open(b, s)
	var mu sync.Mutex
	brought := map[string]time.Duration{} // on the driver's clock
	y.Config.Handler = http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		key, call, _ := strings.Cut(string(body), " ")
		for name, delay := range delays {
			go func() {
				time.Sleep(delay)
				mu.Lock()
				brought[name] = d.clock.Now()
				mu.Unlock()
				if answer, err := http.Post(call, "text/plain", strings.NewReader(name+" "+key)); err == nil {
					answer.Body.Close()
				}
			}()
		}
	})
	c := d.Client(0, 1)
	defer c.Close()
	late, ratio, deeds := map[string]time.Duration{}, map[string]float64{}, 0
	for b.Loop() {
		var shot shots.Shot
		if c.Shoot(b.Context(), &shot); shot.Class != shots.OK {
			b.Fatal(shot.Err)
		}
		deeds++
		mu.Lock()
		for name, took := range told(&shot) {
			if name != deedName {
				late[name] += shot.Start + took - brought[name]
				ratio[name] += took.Seconds() / (brought[name] - shot.Start).Seconds()
			}
		}
		mu.Unlock()
	}
	for name := range delays {
		b.ReportMetric(float64(late[name].Microseconds())/float64(deeds), "us-late/"+name)
		b.ReportMetric(ratio[name]/float64(deeds), "seen/true/"+name)
	}
}
