package relay

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"paceduel/core/plan"
	"paceduel/core/shots"
)

// BenchmarkTruth holds what is told of effects to the delays after which they are brought about, from a millisecond to
// a minute and a half, all of one deed: seen/true is to be 1.
func BenchmarkTruth(b *testing.B) {
	delays := map[string]time.Duration{
		"1ms": time.Millisecond, "10ms": 10 * time.Millisecond, "100ms": 100 * time.Millisecond, "1s": time.Second,
		"10s": 10 * time.Second, "90s": 90 * time.Second,
	}
	y := newYard(b, time.Millisecond)
	s := y.settings(map[string]Effect{})
	for name := range delays {
		s.Effects[name] = Effect{Call: true, Has: name + " {{key}}"}
	}
	s.Request.URL = y.URL + "/delays"
	s.Within = plan.Span(5 * time.Minute)
	late := map[string]time.Duration{}
	y.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body := make([]byte, 256)
		n, _ := r.Body.Read(body)
		key, call, _ := strings.Cut(string(body[:n]), " ")
		began := time.Now()
		for name, delay := range delays {
			go func() {
				time.Sleep(time.Until(began.Add(delay)))
				if answer, err := http.Post(call+"/"+name, "text/plain", strings.NewReader(name+" "+key)); err == nil {
					answer.Body.Close()
				}
			}()
		}
	})
	d := y.open(b, s)
	c := d.Client(0, 1)
	deeds := 0
	for b.Loop() {
		var shot shots.Shot
		if c.Shoot(b.Context(), &shot); shot.Class != shots.OK {
			b.Fatal(shot.Err)
		}
		deeds++
		for name, took := range told(&shot) {
			late[name] += took
		}
	}
	for name, delay := range delays {
		b.ReportMetric(late[name].Seconds()/float64(deeds)/delay.Seconds(), fmt.Sprintf("seen/%s", name))
	}
}
