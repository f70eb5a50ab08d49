package http

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
)

// Every other answer of 170 KiB is kept as a sample: what that takes is no part of its latency, so the two halves of the
// shots should be alike. The metric is the ratio of their medians, sampled over plain.
func BenchmarkSampledShots(b *testing.B) {
	body := bytes.Repeat([]byte(`{"vessel":"Brave Petrel","berth":7}`), 5000)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write(body) }))
	defer server.Close()
	s := New().(*Settings)
	s.URL = server.URL
	d, err := open(contender.Setup{Clock: clock.Start()}, s, byCrew)
	if err != nil {
		b.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	var plain, sampled []time.Duration
	for i := 0; b.Loop(); i++ {
		var shot contender.Shot
		if i%2 == 1 {
			shot.View = &contender.View{Sample: true, Body: make([]byte, 0, len(body)+64<<10)}
			shot.View.Limit = 4 << 20
		}
		c.Shoot(b.Context(), &shot)
		if shot.Class != contender.OK {
			b.Fatal(shot.Err)
		}
		if i%2 == 1 {
			sampled = append(sampled, shot.Latency())
		} else {
			plain = append(plain, shot.Latency())
		}
	}
	if len(sampled) > 10 {
		slices.Sort(plain)
		slices.Sort(sampled)
		b.ReportMetric(float64(sampled[len(sampled)/2])/float64(plain[len(plain)/2]), "sampled/plain")
	}
}
