package sample

import (
	"math/rand/v2"
	"slices"
	"strconv"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// Swept is a made-up duel over one or two parameters.
type Swept struct {
	Duel       // its entrants' own latencies are not drawn from
	Parameters []result.Parameter
	// Takes is what a shot of a contender takes in the median where the parameters have these numbers, in seconds.
	Takes  func(contender int, at ...float64) float64
	Spread float64 // of shots, a share
	Heats  float64 // of whole heats about their point, a share
	Drift  float64 // by so large a share the machine is slower in the last round than in the first
}

// Numbers is a parameter of these whole numbers.
func Numbers(name string, counts plan.Counts, values ...int) result.Parameter {
	p := result.Parameter{Name: name, Counts: string(counts)}
	for _, n := range values {
		p.Values = append(p.Values, result.Value{Text: strconv.Itoa(n), Number: float64(n)})
	}
	p.Log = values[0] > 0 && values[len(values)-1] >= 10*values[0]
	return p
}

// MakeSwept makes the result: every round holds all cells, in shuffled order.
func MakeSwept(d Swept) *result.Result {
	one := d.Duel
	one.Rounds = 0
	r := Make(one)
	r.Plan.Rounds, r.Plan.Decides = d.Rounds, d.Decides
	if d.Decides == "" {
		r.Plan.Decides = figure.Mean
	}
	sweep := &result.Sweep{Parameters: d.Parameters}
	values := [][]result.Value{{}}
	for i := range d.Parameters {
		var next [][]result.Value
		for _, before := range values {
			for _, v := range d.Parameters[i].Values {
				next = append(next, append(slices.Clone(before), v))
			}
		}
		values = next
	}
	numbers := map[cell.Point][]float64{}
	for _, of := range values {
		by, at := map[string]string{}, []float64{}
		for i, v := range of {
			by[d.Parameters[i].Name] = v.Text
			at = append(at, v.Number)
		}
		point := result.Point{At: cell.At(by), Pace: r.Plan.Pace, Entrants: slices.Clone(r.Entrants)}
		sweep.Points = append(sweep.Points, point)
		numbers[point.At] = at
	}
	r.Sweep = sweep
	rng := rand.New(rand.NewPCG(d.Seed, 0x73776570))
	at := time.Second
	for round := range d.Rounds {
		var cells []cell.Cell
		for i := range sweep.Points {
			for _, e := range d.Entrants {
				cells = append(cells, cell.Cell{Contender: e.Name, Point: sweep.Points[i].At})
			}
		}
		rng.Shuffle(len(cells), func(i, j int) { cells[i], cells[j] = cells[j], cells[i] })
		slow := 1 + d.Drift*float64(round)/float64(max(d.Rounds-1, 1))
		for _, c := range cells {
			i := slices.IndexFunc(d.Entrants, func(e Entrant) bool { return e.Name == c.Contender })
			e := d.Entrants[i]
			e.Latency = Times(d.Takes(i, numbers[c.Point]...)*slow*(1+d.Heats*rng.NormFloat64()), d.Spread)
			h := heat(rng, d.Duel, e, round, at)
			h.Cell = c
			at += h.Wall + 10*time.Millisecond
			r.Heats = append(r.Heats, h)
		}
		r.Order = append(r.Order, cells)
	}
	return r
}
