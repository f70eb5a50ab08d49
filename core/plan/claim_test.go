package plan_test

import (
	"errors"
	"math"
	"strings"
	"testing"

	"paceduel/core/figure"
	"paceduel/core/plan"
	"paceduel/core/units"
)

var boards = []string{"joined", "per-vessel", "joined twice"}

// It is long since its cases are listed in it.
func TestClaimsAreUnderstood(t *testing.T) {
	for text, want := range map[string]plan.Claim{
		"joined p95 at least 2x faster than per-vessel": {
			Contender: "joined", Figure: figure.P95, How: plan.AtLeast, Factor: 2, Than: "per-vessel",
		},
		"joined twice cold at least 40x faster than joined": {
			Contender: "joined twice", State: "cold", How: plan.AtLeast, Factor: 40, Than: "joined",
		},
		"joined at least 75 % less time than per-vessel": {
			Contender: "joined", How: plan.AtLeast, Factor: 4, Than: "per-vessel", Reading: "at least 4.0x better",
		},
		"joined p99 at least 75% less than per-vessel": {
			Contender: "joined", Figure: figure.P99, How: plan.AtLeast, Factor: 4, Than: "per-vessel",
			Reading: "at least 4.0x better",
		},
		"joined at least 75% faster than per-vessel": {
			Contender: "joined", How: plan.AtLeast, Factor: 1.75, Than: "per-vessel", Reading: "at least 1.75x faster",
		},
		"joined at most 20 % more memory than per-vessel": {
			Contender: "joined", Figure: figure.Memory, How: plan.AtMost, Factor: 1.2, Than: "per-vessel",
		},
		"joined at least 50% more throughput than per-vessel": {
			Contender: "joined", Figure: figure.Throughput, How: plan.AtLeast, Factor: 1.5, Than: "per-vessel",
		},
		"joined at least 50% fewer bytes than per-vessel": {
			Contender: "joined", Figure: figure.Received, How: plan.AtLeast, Factor: 2, Than: "per-vessel",
			Reading: "at least 2.0x better",
		},
		"joined asleep p99 under 20 ms": {
			Contender: "joined", State: "asleep", Figure: figure.P99, How: plan.Under, Limit: 0.020,
		},
		"joined first answer under 20 ms": {
			Contender: "joined", Figure: figure.FirstAnswer, How: plan.Under, Limit: 0.020,
		},
		"joined first first answer under 20 ms": {
			Contender: "joined", State: "first", Figure: figure.FirstAnswer, How: plan.Under, Limit: 0.020,
		},
		`joined p99 of ping at most 3x that of per-vessel`: {
			Contender: "joined", Figure: figure.Of(figure.P99, "ping"), How: plan.AtMost, Factor: 3, Than: "per-vessel",
		},
		`joined cold longest of "select pilot" under 1s`: {
			Contender: "joined", State: "cold", Figure: figure.Of(figure.Longest, "select pilot"), How: plan.Under, Limit: 1,
		},
		" joined   p99.9  under 20 ms": {
			Contender: "joined", Figure: figure.P999, How: plan.Under, Limit: 0.020,
		},
		"per-vessel bytes at most 10% of joined twice": {
			Contender: "per-vessel", Figure: figure.Received, How: plan.AtMost, Factor: 0.1, Than: "joined twice",
		},
		"joined memory at most 1.2x that of per-vessel": {
			Contender: "joined", Figure: figure.Memory, How: plan.AtMost, Factor: 1.2, Than: "per-vessel",
		},
		"joined throughput at least 1.5x that of per-vessel": {
			Contender: "joined", Figure: figure.Throughput, How: plan.AtLeast, Factor: 1.5, Than: "per-vessel",
		},
		"joined error rate under 0.1 %": {
			Contender: "joined", Figure: figure.ErrorRate, How: plan.Under, Limit: 0.001,
		},
		"lost records of joined under 1%": {
			Contender: "joined", Figure: figure.LostRecords, How: plan.Under, Limit: 0.01,
		},
		"joined twice serves again under 2 s": {
			Contender: "joined twice", Figure: figure.ServesAgain, How: plan.Under, Limit: 2,
		},
		"error rate of joined twice under 0.1 %": {
			Contender: "joined twice", Figure: figure.ErrorRate, How: plan.Under, Limit: 0.001,
		},
		"joined memory not more than 1.2x per-vessel": {
			Contender: "joined", Figure: figure.Memory, How: plan.AtMost, Factor: 1.2, Than: "per-vessel",
		},
		"joined bytes at most 10 % of per-vessel": {
			Contender: "joined", Figure: figure.Received, How: plan.AtMost, Factor: 0.1, Than: "per-vessel",
		},
		"joined throughput over 500/s": {
			Contender: "joined", Figure: figure.Throughput, How: plan.Over, Limit: 500,
		},
		"joined warm memory under 10MiB": {
			Contender: "joined", State: "warm", Figure: figure.Memory, How: plan.Under, Limit: 10 << 20,
		},
		"per-vessel cpu at least 1.1x better than joined twice": {
			Contender: "per-vessel", Figure: figure.CPU, How: plan.AtLeast, Factor: 1.1, Than: "joined twice",
		},
	} {
		got, err := plan.ParseClaim(text, boards, nil)
		want.Text = text
		if math.Abs(got.Limit-want.Limit) < 1e-12 {
			got.Limit = want.Limit
		}
		if err != nil || got != want {
			t.Errorf("%q is read as %+v, %v; want %+v", text, got, err, want)
		}
	}
}

// What cannot be understood is pointed at, with the nearest word that could.
func TestClaimsThatCannotBeUnderstood(t *testing.T) {
	for text, want := range map[string]string{
		"":                            `a contender is missing; known here: joined twice, per-vessel, joined`,
		"joind p99 under 2ms":         `|no contender is called "joind"; did you mean "joined"?`,
		"joined p98 under 2ms":        `joined |"p98" says neither which figure nor how much; did you mean "p90"?`,
		"joined p99 unter 2ms":        `joined p99 |"unter" says neither which figure nor how much; did you mean "under"?`,
		"joined p99 under soon":       `joined p99 under |"soon" is not a limit for p99; write a time, as 20ms`,
		"joined error rate under 0.1": `joined error rate under |"0.1" is not a limit for error rate; write a share, as 0.1%`,
		"joined lost records at most 2x that of per-vessel": `joined lost records at most |lost records is held to a limit; write it as: lost records under 0.1%`,
		"joined serves again best":                          `joined serves again |serves again is held to a limit; write it as: serves again under 2s`,
		"joined under 2ms":                                  `joined |nothing says which figure; name a figure, as p99`,
		"joined p99 at least 2 faster than x":               `joined p99 at least |"2" is not a factor; write it as 2x or 10%`,
		"joined p99 at least 2x faster then x":              `joined p99 at least 2x |"faster" does not say than whom; known here: faster than, better than, that of, of`,
		"joined p99 at least 2x faster than it":             `joined p99 at least 2x faster than |no contender is called "it"; known here: joined twice, per-vessel, joined`,
		"joined p99 at least 2x that of per-vessel":         `joined p99 at least |less of p99 is better; write it as: at least 2x faster than …, or at most 1.2x that of …`,
		"joined p99 at least 2x faster than joined":         `joined p99 at least 2x faster than joined|joined against itself`,
		"joined p99 at most 2x that of per-vessel, always":  `joined p99 at most 2x that of |no contender is called "per-vessel,"; did you mean "per-vessel"?`,
		"joined p99 at most 2x that of per-vessel always":   `joined p99 at most 2x that of per-vessel |"always" is more than a claim says; leave it out`,
	} {
		_, err := plan.ParseClaim(text, boards, nil)
		var wrong *plan.ClaimError
		if !errors.As(err, &wrong) {
			t.Errorf("%q: %v; want a ClaimError", text, err)
			continue
		}
		if got := strings.TrimPrefix(text[:wrong.At]+"|"+wrong.Error(), "|"); got != strings.TrimPrefix(want, "|") {
			t.Errorf("%q:\n got %s\nwant %s", text, got, want)
		}
	}
}

func FuzzClaim(f *testing.F) {
	f.Add("joined p95 at least 2x faster than per-vessel")
	f.Add("joined error rate under 0.1 %")
	f.Add("joined twice cold memory at most 1e3x that of joined")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := plan.ParseClaim(text, boards, nil)
		var wrong *plan.ClaimError
		switch {
		case errors.As(err, &wrong):
			if wrong.At < 0 || wrong.At > len(text) || wrong.What == "" {
				t.Errorf("%q: points to %d: %s", text, wrong.At, wrong.What)
			}
		case err != nil:
			t.Errorf("%q: %v", text, err)
		case c.Contender == "" || c.Figure == "" || (c.Than == "") == (c.Factor > 0) || (c.Limit > 0) == (c.Factor > 0) ||
			math.IsInf(c.Limit+c.Factor, 0):
			t.Errorf("%q is read as %+v", text, c)
		}
	})
}

// A figure whose name begins like another's is itself.
func TestFiguresThatBeginAlike(t *testing.T) {
	marks := []figure.Name{
		figure.RateOf("operations", "operations"), figure.Told("operation", units.Nanosecond),
		figure.Told("p99 of operation", units.Nanosecond), figure.ToldMore("operations/s of a thread", units.PerSecond),
	}
	for text, want := range map[string]figure.Name{
		"joined p99 under 2ms":                                         figure.P99,
		"joined p99 of operation under 2ms":                            marks[2],
		"joined operation at least 2x faster than slim":                marks[1],
		"joined operations/s at least 2x that of slim":                 marks[0],
		"joined operations at least 2x that of slim":                   marks[0],
		"joined operations/s of a thread at least 2x that of slim":     marks[3],
		"joined throughput at least 2x that of slim":                   figure.Throughput,
		"joined cold p99 of operation at least 2x faster than slim":    marks[2],
		"joined p99 of operation at least 2x faster than slim, always": "",
	} {
		c, err := plan.ParseClaim(text, []string{"joined", "slim"}, nil, marks...)
		if c.Figure != want && want != "" || (err != nil) != (want == "") {
			t.Errorf("%s: %q, %v; want %q", text, c.Figure, err, want)
		}
	}
}

// Limits of single operations may have parts of a nanosecond.
func TestLimitsInNanoseconds(t *testing.T) {
	operation := figure.Told("operation", units.Nanosecond)
	for text, want := range map[string]float64{
		"1.3ns": 1.3, "250us": 250e3, "2 ms": 2e6, "1.5": 0, "few ns": 0, "-2ns": 0,
	} {
		c, err := plan.ParseClaim("joined operation under "+text, []string{"joined", "slim"}, nil, operation)
		if c.Limit != want && want > 0 || (err == nil) != (want > 0) {
			t.Errorf("%s: %g, %v; want %g", text, c.Limit, err, want)
		}
		if want == 0 && !strings.Contains(err.Error(), "1.3ns") {
			t.Errorf("%v does not say how to write it", err)
		}
	}
}
