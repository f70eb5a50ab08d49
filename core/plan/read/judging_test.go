package read_test

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/figure"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

func readText(text string, opt read.Options) (*plan.Plan, error) {
	opt.Kinds = all.PlanKinds()
	return read.Plan("t.duel.yaml", []byte(text), opt)
}

const tidal = "duel: T\nbaseline: a\ncontenders:\n  a: { command: { run: [sort] } }\n  b: { command: { run: [sort, " +
	"-r] } }\npace: { repeat: 5 }\n"

func TestRoundsByNumberOrAuto(t *testing.T) {
	for text, want := range map[string]struct {
		rounds int
		looks  []int
	}{
		"": {10, nil}, "rounds: 7\n": {7, nil}, "rounds: auto\n": {40, []int{5, 10, 20, 40}},
		"rounds: auto up to 10\n": {10, []int{5, 10}}, "rounds: \"12\"\n": {12, nil},
	} {
		p, err := readText(tidal+text, read.Options{})
		if err != nil || p.Rounds != want.rounds || !slices.Equal(p.Looks, want.looks) {
			t.Errorf("%q: %v, %+v; want %+v", text, err, p, want)
		}
	}
	if len(plan.Looks) != 4 {
		t.Errorf("reading a plan changed the looks to %v", plan.Looks)
	}
}

func TestWhatIsJudgedIsRead(t *testing.T) {
	p, err := readText(tidal+`
rungs: [p50, p99.9, memory]
interests: { p99: 5%, memory: 0.1 }
stakes: { runs-per-day: 400, minute-price: 0.008, peak-rate: 90/m, spare: 30%, items: 2e6, currency: crowns, prices: { bytes: 0.09/GB, cpu: 3.6/h } }
`, read.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(p.Rungs, []figure.Name{figure.P50, figure.P999, figure.Memory}) || p.Interests[figure.P99] != 0.05 ||
		p.Interests[figure.Memory] != 0.1 {
		t.Errorf("rungs %v, interests %v", p.Rungs, p.Interests)
	}
	each := map[figure.Name]float64{figure.Received: 0.09 / 1e9, figure.CPU: 0.001}
	if got := p.Stakes.Each; !maps.Equal(got, each) {
		t.Errorf("prices %v; want %v", got, each)
	}
	got := *p.Stakes
	got.Each, got.Prices = nil, nil
	if want := (plan.Stakes{
		RunsPerDay: 400, MinutePrice: 0.008, PeakRate: 1.5, Spare: 0.3, Items: 2e6, Currency: "crowns",
	}); !reflect.DeepEqual(got, want) {
		t.Errorf("stakes %+v", got)
	}
	for text, want := range map[string]string{
		"rungs: [p50, p98]":         `:7:14: no figure is called "p98"; did you mean "p90"?`,
		"interests: { memroy: 2% }": `no figure is called "memroy"; did you mean "memory"?`,
		"rounds: auto up to 12":     `:7:9: rounds: "12" is not a number of rounds that is looked at, take 5, 10, 20 or 40`,
		"rounds: sometimes":         `write 1 to 1000, or auto`,
		"stakes: { spare: 30% }": "nothing says how much is done; set runs-per-day:, peak-rate: " +
			"or items:",
		"stakes: { items: 5, prices: { cpu: 1 } }":                  "prices of figures go with runs-per-day",
		"stakes: { runs-per-day: 5, prices: { p99: 1 } }":           "p99 of shots do not add up",
		"stakes: { runs-per-day: 5, prices: { cpuu: 1 } }":          `no figure is called "cpuu"; did you mean "cpu"?`,
		"stakes: { runs-per-day: 5, prices: { bytes: 1/h } }":       `"h" is no amount of it, write /GB`,
		"stakes: { runs-per-day: 5, prices: { cpu: 0.04/parsec } }": `"parsec" is no amount of it, write /h`,
		"stakes: { runs-per-day: 5, prices: { cpu: free } }":        `"free" is not a price, write it as 0.002, or as 0.09/GB for an amount`,
		"stakes: { items: 5, minute-price: 2 }":                     "the price of a minute goes with runs-per-day",
		"stakes: { items: 5, server-price: 2 }":                     "server-price and spare go with peak-rate",
		"stakes: { peak-rate: 5/s, spare: 100% }":                   "no server does anything",
		"stakes: { items: -5 }":                                     `"-5" is not an amount`,
		"stakes: { itmes: 5 }":                                      `did you mean "items"?`,
		"rounds: auto\nuntil: { figure: mean, within: 5% }":         "rounds: auto and until are two ways to end a run",
	} {
		if _, err := readText(tidal+text+"\n", read.Options{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %s", text, err, want)
		}
	}
}

func TestTheMirrorIsTheBaselineOnceMore(t *testing.T) {
	p, err := readText(tidal, read.Options{Mirror: true})
	if err != nil || len(p.Contenders) != 3 {
		t.Fatalf("%v, %d contenders", err, len(p.Contenders))
	}
	twin := p.Contenders[2]
	if twin.Name != "a again" || !twin.Mirror || twin.Settings.Summary() != p.Contenders[0].Settings.Summary() ||
		p.Contenders[0].Mirror {
		t.Errorf("twin %+v", twin)
	}
	taken := strings.Replace(tidal, "  b: {", "  a again: {", 1)
	if _, err := readText(taken, read.Options{Mirror: true}); err == nil ||
		!strings.Contains(err.Error(), `"a again" is what the baseline's twin is called`) {
		t.Errorf("its name is taken: %v", err)
	}
	if p, err = readText(tidal, read.Options{Mirror: true, Only: []string{"a"}}); err != nil || len(p.Contenders) != 2 ||
		!p.Contenders[1].Mirror {
		t.Errorf("the baseline alone against itself: %v", err)
	}
}

// What a plan names to decide, or to go on for, is any figure that it gives something to be read from.
func TestWhatDecidesCanBeRead(t *testing.T) {
	const marked = "duel: T\nbaseline: a\ncontenders:\n  a: { command: { run: [sort], stdout: pipe, marks: { load: " +
		"'load ([0-9]+ ms)' } } }\n" +
		"  b: { command: { run: [sort, -r] } }\npace: { repeat: 5 }\n"
	for text, want := range map[string]figure.Name{
		"decides: p95\n": figure.P95, "decides: memory\n": figure.Memory, "decides: total\n": figure.Total,
		"decides: load\n": figure.Told("load", ""),
	} {
		for _, until := range []bool{false, true} {
			whole := marked + text
			if until {
				name := strings.TrimSpace(strings.TrimPrefix(text, "decides: "))
				whole = marked + "until: { figure: " + name + ", within: 5% }\n"
			}
			p, err := readText(whole, read.Options{})
			if err != nil {
				t.Errorf("%s: %v", whole, err)
				continue
			}
			got := p.Decides
			if until {
				got = figure.Name(p.Until.Figure)
			}
			if got != want {
				t.Errorf("%s: %q; want %q", whole, got, want)
			}
		}
	}
	for text, want := range map[string]string{
		"decides: throughput\n":                       "with repeat, throughput says no more than the mean does; name mean",
		"decides: holds\n":                            "holds is the figure of a climb, and its only one",
		"decides: start\n":                            "start is a figure of services, and no contender has one",
		"decides: wake\n":                             "the pace has none; set pace: { wake: 500ms }",
		"decides: error rate\n":                       `"error rate" cannot stand here`,
		"decides: p98\n":                              `no figure is called "p98"; did you mean "p90"?`,
		"rungs: [holds]\n":                            `"holds" cannot stand here`,
		"until: { figure: throughput, within: 5% }\n": "with repeat, throughput says no more",
	} {
		if _, err := readText(marked+text, read.Options{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", text, err, want)
		}
	}
}
