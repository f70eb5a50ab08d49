package sample

import (
	"fmt"
	"math/rand/v2"
	"time"

	"paceduel/core/spans"
)

// Legs is what happens in a heat's shots of a client that asks for a vessel, its berth and the tide, which take so long
// in seconds: one after another, or all at once. A heat is off by some per cent, and so is each shot.
func Legs(together bool, vessel, berth, tide float64) func(*rand.Rand, int) []spans.Shot {
	const shotsOfHeat = 25
	return func(rng *rand.Rand, _ int) (out []spans.Shot) {
		heat := 1 + 0.02*rng.NormFloat64()
		for range shotsOfHeat {
			s := spans.Shot{Known: true}
			at := time.Duration(0)
			for i, took := range []float64{vessel, berth, tide} {
				long := time.Duration(took * heat * (1 + 0.03*rng.NormFloat64()) * 1e9)
				s.Spans = append(s.Spans, spans.Span{
					Name: []string{"vessel", "berth", "tide"}[i], Begin: at, End: at + long, Parent: spans.None,
				})
				s.Length = max(s.Length, at+long)
				if !together {
					at += long
				}
			}
			out = append(out, s)
		}
		return out
	}
}

// Traces is what happens in a heat's shots of a service that makes so many queries for a page, one after another, each
// of which takes so long in seconds, and then renders it.
func Traces(queries int, each, render float64) func(*rand.Rand, int) []spans.Shot {
	const shotsOfHeat = 25
	return func(rng *rand.Rand, _ int) (out []spans.Shot) {
		heat := 1 + 0.02*rng.NormFloat64()
		for range shotsOfHeat {
			took := func(seconds float64) time.Duration {
				return time.Duration(seconds * heat * (1 + 0.03*rng.NormFloat64()) * 1e9)
			}
			s := spans.Shot{Spans: []spans.Span{{Name: "GET /board", Begin: 100 * time.Microsecond, Parent: spans.None}}}
			at := 300 * time.Microsecond
			add := func(name string, long time.Duration, parent int) {
				s.Spans = append(s.Spans, spans.Span{Name: name, Begin: at, End: at + long, Parent: parent})
			}
			for i := range queries {
				long := took(each)
				add("pilot", long, 0)
				add(fmt.Sprintf("select %s", []string{"pilot", "tug"}[i%2]), long*9/10, len(s.Spans)-1)
				at += long + 20*time.Microsecond
			}
			long := took(render)
			add("render", long, 0)
			s.Spans[0].End = at + long + 100*time.Microsecond
			s.Length = s.Spans[0].End + 100*time.Microsecond
			out = append(out, s)
		}
		return out
	}
}
