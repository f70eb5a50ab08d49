package result_test

import (
	"bytes"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/result"
	"paceduel/internal/golden"
	"paceduel/internal/sample"
)

func made() *result.Result {
	return sample.Make(sample.Duel{
		Entrants: []sample.Entrant{{
			Name: "per-vessel", Latency: sample.Times(0.01, 0.1), Bytes: 80,
		}, {Name: "joined", Latency: sample.Times(0.004, 0.1), Bytes: 80, FailFrac: 0.1}},
		Rounds: 5, Shots: 50, Clients: 4, Seed: 3,
	})
}

func text(t *testing.T, r *result.Result) string {
	t.Helper()
	var out bytes.Buffer
	if err := r.Write(&out); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestWhatIsWrittenReadsBackTheSame(t *testing.T) {
	want := made()
	path := filepath.Join(t.TempDir(), "r.json")
	if err := want.WriteFile(path); err != nil {
		t.Fatal(err)
	}
	got, err := result.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, want) {
		t.Error("the result changed on its way through a file")
	}
	if entries, _ := os.ReadDir(filepath.Dir(path)); len(entries) != 1 {
		t.Errorf("%d files are left; want the result alone", len(entries))
	}
}

// The form of the document is frozen: a change of it needs a new version.
func TestFormOfVersionTwo(t *testing.T) {
	r := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{{
			Name: "a", Latency: sample.Times(0.01, 0.1), CPU: time.Millisecond,
		}, {Name: "b", Latency: sample.Times(0.004, 0.1), FailFrac: 0.5}},
		Rounds: 1, Shots: 3, Seed: 3,
	})
	sample.Serve(r)
	golden.Check(t, "version2.json", text(t, r))
	data, err := os.Open("testdata/version2.json.golden")
	if err != nil {
		t.Fatal(err)
	}
	defer data.Close()
	if _, err := result.Read(data); err != nil {
		t.Errorf("a stored document of version 2 cannot be read: %v", err)
	}
}

// What version 1 had fields for are parts and amounts now; what contenders told has its unit beside it.
func TestVersionOneIsBroughtForward(t *testing.T) {
	const doc = `{"paceduel_result": 1, "program": "old", "plan": {"baseline": "a"}, "order": [["b", "a"], ["a", "b"]],
		"order_states": [["cold", "cold"], ["warm", "cold"]], "footing": {"states": ["cold", "warm"]},
		"contenders": [{"name": "a", "kind": "x"}, {"name": "b", "kind": "y"}],
		"heats": [{"round": 1, "contender": "b", "state": "cold", "clients": 1, "ok": 0, "latencies": "", "cpu_ns": 7, "cpu_known": true,
			"resources": {"system_ns": 3, "page_faults": 5, "page_loads": 2, "read_bytes": 512}, "peak_memory_bytes": 4096,
			"splits": [{"name": "heap [B]", "told": true, "sum_ns": 12, "lengths": ""}, {"name": "rows [rows]", "told": true, "sum_ns": 2500, "lengths": ""},
				{"name": "db", "told": true, "sum_ns": 9, "lengths": ""}, {"name": "wait", "sum_ns": 8, "lengths": ""}]},
			{"round": 1, "contender": "a", "state": "cold", "clients": 1, "ok": 0, "latencies": "", "cpu_ns": 9, "cpu_known": true, "service": {"cpu_ns": 9},
			"connections": 4, "connect_sum_ns": 11, "first_byte_sum_ns": 13, "redirects": 1, "replaced_connections": 2, "output_lines": 6,
			"starts": [{"ready_ns": 5, "marks": [{"name": "rows [rows]", "value": 7500}, {"name": "tables", "value": 2000000000}]}]}]}`
	r, err := result.Read(strings.NewReader(doc))
	if err != nil {
		t.Fatal(err)
	}
	if r.Version != result.Version || r.Order[1][0] != cell.Of("a", "warm") || r.Order[0][0] != cell.Of("b", "cold") {
		t.Errorf("version %d, order %v", r.Version, r.Order)
	}
	if !r.Entrant("b").OwnProcess || r.Entrant("a").OwnProcess {
		t.Error("who starts processes is not who had their processor time")
	}
	for i, want := range []map[string]float64{
		{"cpu": 7e-9, "kernel": 3e-9, "page faults": 7, "page loads": 2, "disk reads": 512, "memory": 4096},
		{
			"cpu": 9e-9, "connections": 4, "connecting": 11e-9, "first byte": 13e-9, "redirects": 1, "replaced": 2,
			"output lines": 6,
		},
	} {
		h := &r.Heats[i]
		if len(h.Amounts) != len(want) {
			t.Errorf("heat %d has %v; want %v", i+1, h.Amounts, want)
		}
		for name, x := range want {
			if got, ok := r.Amount(h, name); !ok || math.Abs(got-x) > 1e-12 {
				t.Errorf("heat %d: %s is %g; want %g", i+1, name, got, x)
			}
		}
	}
	for i, want := range []struct {
		figure figure.Name
		total  float64
	}{{"told heap [B]", 12}, {"told rows [rows]", 2.5}, {"told db", 9e-9}, {"part wait", 8e-9}} {
		if s := &r.Heats[0].Splits[i]; s.Figure() != want.figure || math.Abs(s.Total()-want.total) > 1e-15 {
			t.Errorf("split %d is %s of %g; want %+v", i, s.Figure(), s.Total(), want)
		}
	}
	marks := r.Heats[1].Starts[0].Marks
	if marks[0] != (result.StartMark{Name: "rows", Unit: "rows", Value: 7.5}) ||
		marks[1] != (result.StartMark{Name: "tables", Unit: "s", Value: 2}) || r.Heats[1].Starts[0].Ready != 5 {
		t.Errorf("start %+v", r.Heats[1].Starts[0])
	}
	data, err := os.Open("testdata/version1.json.golden")
	if err != nil {
		t.Fatal(err)
	}
	defer data.Close()
	if r, err := result.Read(data); err != nil || len(r.Heats) != 2 || r.Heats[0].Amounts["cpu"] != 3_000_000 {
		t.Errorf("a stored document of version 1: %v, %+v", err, r)
	}
}

func TestFiguresAreComputedFromTheHeatAlone(t *testing.T) {
	r := made()
	h := r.Of("per-vessel", result.AnyState)[0]
	if got, want := h.Mean(), h.LatencySum.Seconds()/50; math.Abs(got-want) > 1e-12 {
		t.Errorf("mean %g; want %g", got, want)
	}
	if got, want := h.Throughput(), 50*4/h.Busy.Seconds(); math.Abs(got-want) > 1e-9 {
		t.Errorf("throughput %g; want %g", got, want)
	}
	histogram, err := h.Histogram()
	if err != nil || histogram.TotalCount() != 50 {
		t.Fatalf("histogram of %d shots, %v", histogram.TotalCount(), err)
	}
	empty := &result.Heat{Clients: 1}
	if !math.IsNaN(empty.Mean()) || !math.IsNaN(empty.Throughput()) {
		t.Error("a heat without shots has figures")
	}
}

func TestCutHeatsAreKeptButDoNotCount(t *testing.T) {
	r := made()
	r.Heats[2].Cut = true
	name := r.Heats[2].Contender
	if got := len(r.Of(name, "")); got != 4 {
		t.Errorf("%d heats of %s count; want 4", got, name)
	}
}

func TestForeignAndBrokenDocumentsAreRefused(t *testing.T) {
	good := text(t, made())
	swap := func(old, new string) string { return strings.Replace(good, old, new, 1) }
	tests := []struct{ name, doc, want string }{
		{"no JSON", "tide", "not a result of Pace Duel"},
		{"other JSON", `{"a":1}`, "paceduel_result is missing"},
		{
			"newer", swap(`"paceduel_result": 2`, `"paceduel_result": 3`),
			"this result has format 3, this program knows up to 2",
		},
		{"no baseline", swap(`"baseline": "per-vessel"`, `"baseline": "nobody"`), `the baseline "nobody" is not a contender`},
		{
			"heat of a stranger", strings.ReplaceAll(good, `"contender": "joined"`, `"contender": "stranger"`),
			"who is not a contender",
		},
		{"round zero", swap(`"round": 1`, `"round": 0`), "is in round 0"},
		{"count and histogram differ", swap(`"ok": 50`, `"ok": 51`), "the histogram holds 50 shots, the heat 51"},
		{"negative", swap(`"clients": 4`, `"clients": -4`), "" /* of the plan; harmless */},
		{"histogram is not one", swap(`"latencies": "`, `"latencies": "x`), "latencies of per-vessel in round 1"},
		{"two heats in a round", swap(`"round": 2`, `"round": 1`), "two heats in round 1"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := result.Read(strings.NewReader(tt.doc))
			if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
				t.Errorf("Read says %v; want %q", err, tt.want)
			}
		})
	}
}

func TestAFullDiskLeavesNoHalfFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "none", "r.json")
	if err := made().WriteFile(path); err == nil || !strings.Contains(err.Error(), "write result") {
		t.Errorf("WriteFile into no folder says %v", err)
	}
}

func FuzzRead(f *testing.F) {
	var out bytes.Buffer
	made().Write(&out)
	f.Add(out.String())
	f.Add(`{"paceduel_result":1,"heats":[{"latencies":"HISTFAAAAB542pNpmSzMwMDAxAABzFCaEUoz2X"}]}`)
	f.Fuzz(func(t *testing.T, doc string) {
		r, err := result.Read(strings.NewReader(doc))
		if err != nil {
			return
		}
		for i := range r.Heats {
			if _, err := r.Heats[i].Histogram(); err != nil {
				t.Fatalf("an accepted document holds a histogram that cannot be read: %v", err)
			}
		}
	})
}

func TestFailuresAreToldByTheirClass(t *testing.T) {
	for want, failures := range map[string]map[string]int64{
		"0 failed":                            nil,
		"3 failed: timeout":                   {"timeout": 3},
		"1 005 failed: 1 003 status, 2 reset": {"reset": 2, "status": 1003},
	} {
		if got := result.FailuresSay(failures); got != want {
			t.Errorf("%v: %q; want %q", failures, got, want)
		}
	}
}

// What a contender's own service uses is nobody else's.
func TestOthersAreNotTheService(t *testing.T) {
	r := result.Result{Host: result.Host{Cores: 2}}
	h := result.Heat{Wall: time.Second, Conditions: result.Conditions{OthersFrac: 0.55}}
	if got := r.Others(&h); got != 0.55 {
		t.Errorf("%g without a service", got)
	}
	h.Service = &result.Service{CPU: time.Second}
	if got := r.Others(&h); math.Abs(got-0.05) > 1e-9 {
		t.Errorf("%g beside a service that has one of two processors to itself; want 0.05", got)
	}
	h.Service.CPU = 3 * time.Second
	if got := r.Others(&h); got != 0 {
		t.Errorf("%g", got)
	}
}
