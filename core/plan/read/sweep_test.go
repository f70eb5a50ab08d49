package read_test

import (
	"errors"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender/command"
	"paceduel/core/contender/http"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

const writing = `duel: Position reports
baseline: locked
course:
  command: { run: [wc, -c, "{{rows}}.csv"], env: { THREADS: 1, SIZE: "{{rows}}" } }
contenders:
  locked: {}
  mapped: { command: { env: { MODE: mapped } } }
pace: { repeat: 3 }
`

func swept(t *testing.T, sweep string) *plan.Plan {
	t.Helper()
	return reading(t, writing+sweep, options())
}

func TestASweepReadsThePlanAtEveryPoint(t *testing.T) {
	p := swept(t, `sweep:
  over:
    threads: { values: [1, 4, 12], sets: command.env.THREADS, called: { 12: as in production } }
    rows: { from: 20, to: 4000, steps: 3 }
  within: 10m
`)
	s := p.Sweep
	if s == nil || len(s.Points) != 9 || s.Within.D() != 10*time.Minute || s.Bends {
		t.Fatalf("sweep = %+v", s)
	}
	if s.Parameters[0].Values[2].String() != "as in production" || s.Parameters[0].Counts != plan.Threads ||
		s.Parameters[1].Counts != plan.Items || !s.Parameters[1].Log || s.Parameters[1].Values[1].Text != "283" {
		t.Errorf("parameters = %+v", s.Parameters)
	}
	at := s.Find(cell.At(map[string]string{"threads": "4", "rows": "4000"}))
	if at == nil {
		t.Fatalf("no such point among %v", s.Points)
	}
	mapped := at.Plan.Contenders[1].Settings.(*command.Settings)
	if mapped.Env["THREADS"] != "4" || mapped.Env["SIZE"] != "4000" || mapped.Env["MODE"] != "mapped" ||
		!slices.Equal(mapped.Run, []plan.Word{"wc", "-c", "4000.csv"}) {
		t.Errorf("mapped there = %+v", mapped)
	}
	if p.Decides != "mean" || p.Rounds < 10 || at.Plan.Decides != "mean" || at.Plan.Rounds != p.Rounds {
		t.Errorf("it is judged by %q in %d rounds", p.Decides, p.Rounds)
	}
	if first := p.Contenders[0].Settings.(*command.Settings); first.Env["THREADS"] != "1" || first.Env["SIZE"] != "20" {
		t.Errorf("the plan itself is not that of the first point: %+v", first)
	}
}

func TestAParameterSetsKeys(t *testing.T) {
	p := reading(t, strings.Replace(berthBoard, "rounds: 8\n", "", 1)+`sweep:
  over:
    pace.clients: [1, 8, 64]
    deadline: { values: [1s, 2s], sets: [joined.http.timeout, contenders.joined.http.headers.X-Wait] }
`, options())
	if p.Sweep.Parameters[0].Name != "clients" || p.Sweep.Parameters[0].Counts != plan.Clients ||
		p.Sweep.Parameters[1].Counts != plan.Other {
		t.Errorf("parameters = %+v", p.Sweep.Parameters)
	}
	at := p.Sweep.Find(cell.At(map[string]string{"clients": "64", "deadline": "1s"}))
	joined, other := at.Plan.Contenders[1].Settings.(*http.Settings), at.Plan.Contenders[0].Settings.(*http.Settings)
	if at.Plan.Pace.Clients != 64 || joined.Timeout.D() != time.Second || joined.Headers["X-Wait"] != "1s" ||
		other.Timeout.D() != 10*time.Second {
		t.Errorf("there %d clients ask, joined for %s, the other for %s", at.Plan.Pace.Clients, joined.Timeout.D(),
			other.Timeout.D())
	}
	if p.Decides != "p50" {
		t.Errorf("it is judged by %q", p.Decides)
	}
}

// Points between those of the plan are read the same way.
func TestFurtherPointsAreMade(t *testing.T) {
	p := swept(t, "sweep: { over: { rows: [20, 4000] }, where: bends }\n")
	param := &p.Sweep.Parameters[0]
	between, ok := param.Between(param.Values[0], param.Values[1])
	if !ok || between.Text != "283" || !p.Sweep.Bends {
		t.Fatalf("between 20 and 4000 lies %+v, %v", between, ok)
	}
	point, err := p.Sweep.Make([]plan.Value{between})
	if err != nil || point.Plan.Contenders[0].Settings.(*command.Settings).Run[2] != "283.csv" {
		t.Errorf("%+v, %v", point, err)
	}
}

func TestProblemsOfASweepHaveAPlace(t *testing.T) {
	tests := []struct{ name, sweep, want string }{
		{"key of nothing", "sweep: { over: { n: { values: [1, 2], sets: pase.clients } } }",
			`9:45: no key of the plan is called pase.clients; did you mean "pace"?`},
		{"a setting refuses a value", "sweep: { over: { n: { values: [1, many], sets: pace.repeat } } }",
			`9:35: at n many: pace.repeat must be a whole number, this is the text "many"`},
		{"out of range at one point", "sweep: { over: { pace.repeat: [1, 99999999] } }",
			`9:35: at repeat 99999999: pace.repeat: 99999999 is out of range; the maximum is 10000000`},
		{"unknown key of the kind", "sweep: { over: { n: { values: [1, 2], sets: command.enw.N } } }",
			`unknown key "enw" in contenders.locked.command`},
		{"nothing depends on it", "sweep: { over: { n: [1, 2] } }", `nothing in the plan depends on n; write {{n}}`},
		{"falling", "sweep: { over: { rows: [4, 2] } }", `the values of rows do not rise`},
		{"one value", "sweep: { over: { rows: [4] } }", `rows has 1 value; give it 2 to 50`},
		{"twice", "sweep: { over: { rows: [4, 4] } }", `4 stands there twice`},
		{"no range", "sweep: { over: { rows: { from: 9, to: 3 } } }", `from 9 to 3 does not rise`},
		{"units", "sweep: { over: { rows: { from: 9KiB, to: 3s } } }", `units that do not belong together`},
		{"three", "sweep: { over: { rows: [1, 2], b: [1, 2], c: [1, 2] } }", `one or two parameters, not 3`},
		{"both", "sweep: { over: { rows: { values: [1, 2], from: 3 } } }", `both values and a range`},
		{"whole", "sweep: { over: { rows: { values: [1, 2], sets: baseline } } }", `baseline is of the sweep as a whole`},
		{"until", "until: { figure: mean, within: 5% }\nsweep: { over: { rows: [1, 2] } }", `a sweep ends after its rounds`},
		{"rounds and within", "rounds: 5\nsweep: { over: { rows: [1, 2] }, within: 5m }", `both within and rounds`},
		{"secret", "sweep: { over: { rows: [1, '${TOKEN}'] } }", `take nothing from the environment`},
		{"too many heats", "rounds: 1000\nsweep: { over: { rows: { from: 1, to: 900, steps: 40 } } }", `are more than the`},
		{"words between", "sweep: { over: { rows: [few, many] }, where: bends }", `between words there is nothing to add`},
		{"no such parameter in a claim", "claims: [ 'mapped at columns=3 best' ]\nsweep: { over: { rows: [1, 2] } }",
			`no parameter is called "columns"`},
		{"no such value in a claim", "claims: [ 'mapped at rows=3 best' ]\nsweep: { over: { rows: [1, 2] } }",
			`rows has no value 3`},
		{"a claim of no place without a sweep", "claims: [ 'mapped at rows=3 best' ]", `no parameter is called "rows"`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := read.Plan("b.duel.yaml", []byte(writing+tt.sweep+"\n"), options())
			var problems read.Problems
			if !errors.As(err, &problems) || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("Read says\n%v\nwant\n%s", err, tt.want)
			}
			if strings.Contains(tt.want, "at n") && len(problems) != 1 {
				t.Errorf("it is told %d times", len(problems))
			}
		})
	}
}

func TestClaimsHaveTheirPlaceInASweep(t *testing.T) {
	p := swept(t, `claims:
  - mapped at rows=200 at least 5x faster than locked
  - mapped mean under 20ms at every rows
  - mapped best at rows 200 or more
  - mapped at rows huge best
sweep: { over: { rows: { values: [20, 200, 4000], called: { 4000: huge } } } }
`)
	at := func(rows string) cell.Point { return cell.At(map[string]string{"rows": rows}) }
	for i, want := range [][3]bool{{false, true, false}, {true, true, true}, {false, true, true}, {false, false, true}} {
		for j, rows := range []string{"20", "200", "4000"} {
			if got := p.Claims[i].At.Holds(at(rows)); got != want[j] {
				t.Errorf("%q is about rows %s: %v", p.Claims[i].Text, rows, got)
			}
		}
	}
	if p.Claims[2].How != plan.Best || p.Claims[0].Factor != 5 || p.Claims[1].Limit != 0.02 {
		t.Errorf("claims = %+v", p.Claims)
	}
}

func TestRangesComeOutInPlainAmounts(t *testing.T) {
	for _, tt := range []struct {
		from, to string
		steps    int
		geo      bool
		want     string
	}{
		{"1", "64", 7, true, "1 2 4 8 16 32 64"},
		{"1", "9", 3, false, "1 5 9"},
		{"4KiB", "1MiB", 5, true, "4KiB 16KiB 64KiB 256KiB 1MiB"},
		{"1ms", "100ms", 3, true, "1ms 10ms 100ms"},
		{"100/s", "400/s", 3, true, "100/s 200/s 400/s"},
		{"1", "3", 6, true, "1 2 3"},
		{"0.5", "2.5", 3, false, "0.5 1.5 2.5"},
	} {
		values, err := plan.Stepped(tt.from, tt.to, tt.steps, tt.geo)
		var texts []string
		for _, v := range values {
			texts = append(texts, v.Text)
		}
		if got := strings.Join(texts, " "); err != nil || got != tt.want {
			t.Errorf("%s to %s in %d: %q, %v; want %q", tt.from, tt.to, tt.steps, got, err, tt.want)
		}
	}
}

func FuzzSweeps(f *testing.F) {
	for _, sweep := range []string{
		"sweep: { over: { rows: [1, 2] } }",
		"sweep: { over: { rows: { from: 1, to: 9KiB, spacing: geometric } }, where: bends }",
		"sweep: { over: { pace.repeat: [1, 2], rows: [a, b] }, within: 3m }\nclaims: [ mapped best at rows a ]",
	} {
		f.Add(sweep)
	}
	dir := f.TempDir()
	if err := os.WriteFile(dir+"/x", nil, 0o600); err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, sweep string) {
		p, err := read.Plan("b.duel.yaml", []byte(writing+sweep+"\n"), options())
		if err != nil || p.Sweep == nil {
			return
		}
		if n := len(p.Sweep.Points); n < plan.FewestSwept || n > plan.MaxPoints {
			t.Errorf("%d points", n)
		}
		for _, point := range p.Sweep.Points {
			if again, err := p.Sweep.Make(point.Values); err != nil || again.At != point.At {
				t.Errorf("%v reads again as %v, %v", point.At, again.At, err)
			}
		}
	})
}
