package marks_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/marks"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// said reads a text line by line and lists what was told, in order.
func said(m plan.Marks, text string) string {
	r := marks.New(m, "stdout")
	r.Begin()
	r.Lines("stdout", []byte(text))
	var out []string
	for _, m := range r.List() {
		out = append(out, fmt.Sprintf("%s=%g%s", m.Name, math.Round(m.Value*1e9)/1e9, m.Unit))
	}
	return strings.Join(out, " ")
}

func TestMarksAreRead(t *testing.T) {
	startup := plan.Mark{Pattern: `startup ([0-9.]+ ?\S*)`}
	tests := []struct {
		name  string
		marks plan.Marks
		text  string
		want  string
	}{
		{"with its unit", plan.Marks{"startup": startup}, "startup 412 ms\n", "startup=0.412s"},
		{"seconds", plan.Marks{"startup": startup}, "startup 1.5s", "startup=1.5s"},
		{"without a unit", plan.Marks{"startup": {Pattern: "startup ([0-9]+)"}}, "x\nstartup 3\r\n", "startup=0.003s"},
		{"the plan's unit", plan.Marks{"startup": {Pattern: "startup ([0-9]+)", Unit: "us"}}, "startup 3", "startup=3e-06s"},
		{"added up", plan.Marks{"load": {Pattern: "loaded in ([0-9]+)"}}, "a loaded in 2\nb loaded in 3\n", "load=0.005s"},
		{"data", plan.Marks{
			"heap": {Pattern: "heap ([0-9]+ ?[A-Za-z]*)", Unit: "KiB"},
		}, "heap 2 MiB\nheap 4\n", "heap=2.101248e+06B"},
		{"time where data is expected", plan.Marks{"heap": {Pattern: "heap (.*)", Unit: "KiB"}}, "heap 2 ms", ""},
		{"counted", plan.Marks{"modules": {Pattern: "([0-9]+) modules", Unit: "modules"}}, "41 modules", "modules=41modules"},
		{"pointer", plan.Marks{"render": {Pointer: "/ms", Where: map[string]plan.Word{"/mark": "render"}}},
			`{"mark":"load","ms":7}` + "\nnoise {\n" + `{"mark":"render","ms":31.5}`, "render=0.0315s"},
		{"pointer to text", plan.Marks{"render": {Pointer: "/at/0"}}, `{"at":["2 s"]}`, "render=2s"},
		{"pointer to nothing", plan.Marks{"render": {Pointer: "/ms"}}, `{"ms":{}}` + "\n" + `{"ms":"soon"}` + "\n[]", ""},
		{"sum", plan.Marks{"all": {
			Sum: plan.Lines{"load", "render"},
		}, "load": {Pattern: "load ([0-9]+)"}, "render": {Pattern: "render ([0-9]+)"}},
			"load 2\nrender 5\n", "load=0.002s render=0.005s all=0.007s"},
		{"sum with a part missing", plan.Marks{"all": {
			Sum: plan.Lines{"load", "render"},
		}, "load": {Pattern: "load ([0-9]+)"}, "render": {Pattern: "render ([0-9]+)"}},
			"render 5\n", "render=0.005s"},
		{"sum of nothing", plan.Marks{"all": {Sum: plan.Lines{"load"}}, "load": {Pattern: "load ([0-9]+)"}}, "x", ""},
		{"data by the pattern's own unit", plan.Marks{"amount": {
			Pattern: `amount ([0-9]+ B)`,
		}}, "amount 512 B", "amount=512B"},
		{"data by one of several units", plan.Marks{"amount": {
			Pattern: `amount ([0-9]+ (?:k|M)B)`,
		}}, "amount 3 MB", "amount=3e+06B"},
		{"minutes", plan.Marks{"took": {Pattern: `took ([0-9]+ min)`}}, "took 2 min", "took=120s"},
		{"a number alone stays a time", plan.Marks{"took": {Pattern: `in ([0-9]+) Bergen`}}, "in 2 Bergen", "took=0.002s"},
		{"matches are counted", plan.Marks{"lost": {Pattern: `^lost`, Unit: "lines"}}, "lost 7\nkept\nlost 9", "lost=2lines"},
		{"no match is none", plan.Marks{"lost": {Pattern: `^lost`, Unit: "lines"}}, "kept", "lost=0lines"},
		{"largest", plan.Marks{"step": {Pattern: "step ([0-9]+)"}, "worst": {Longest: plan.Lines{"step"}}},
			"step 3\nstep 8\nstep 1", "step=0.012s worst=0.008s"},
		{"largest of what was told", plan.Marks{
			"a": {Pattern: "a ([0-9]+)"}, "b": {Pattern: "b ([0-9]+)"}, "worst": {Longest: plan.Lines{"a", "b"}},
		}, "b 4", "b=0.004s worst=0.004s"},
		{"how often", plan.Marks{"step": {Pattern: "step ([0-9]+)"}, "steps": {Count: plan.Lines{"step"}}},
			"step 3\nstep 8\n", "step=0.011s steps=2steps"},
		{"what every shot does", plan.Marks{"work": {Amount: "400 MB"}}, "", "work=4e+08B"},
		{"negative", plan.Marks{"load": {Pattern: "load (.*)"}}, "load -3", ""},
		{"far too much", plan.Marks{"load": {Pattern: "load (.*)"}}, "load 1e300 h\nload 9e99", "load=1e+15s"},
	}
	for _, tt := range tests {
		if faults := tt.marks.Check("stdout"); len(faults) > 0 {
			t.Errorf("%s: %v", tt.name, faults)
			continue
		}
		if got := said(tt.marks, tt.text); got != tt.want {
			t.Errorf("%s: read %q; want %q", tt.name, got, tt.want)
		}
	}
}

// What an earlier shot told is not told again, and other places are not read.
func TestShotsAreReadApart(t *testing.T) {
	r := marks.New(plan.Marks{"load": {
		Pattern: "load ([0-9]+)",
	}, "rows": {Pointer: "/rows", From: "body", Unit: "rows"}, "db": {From: "header", Header: "X-Db"}}, "stdout")
	tell := func() string {
		var out []string
		for _, m := range r.List() {
			out = append(out, fmt.Sprintf("%s=%g%s", m.Name, m.Value, m.Unit))
		}
		return strings.Join(out, " ")
	}
	r.Begin()
	r.Lines("stdout", []byte("load 2"))
	r.Lines("stderr", []byte("load 9"))
	r.Whole("body", []byte("{\"rows\":\n 12}"))
	r.Header(func(name string) string { return map[string]string{"X-Db": "4.5"}[name] })
	if got := tell(); got != "db=0.0045s load=0.002s rows=12rows" {
		t.Errorf("first: %s", got)
	}
	r.Begin()
	r.Whole("body", []byte("no rows"))
	r.Header(func(string) string { return "" })
	if got := tell(); got != "" {
		t.Errorf("second: %s", got)
	}
	if !r.Reads("body") || r.Reads("stderr") || (*marks.Reader)(nil).Reads("body") || marks.New(nil, "stdout") != nil {
		t.Error("it reads other places than it says")
	}
}

// A sum takes what a contender tells by itself, as in Server-Timing.
func TestSumsTakeWhatIsToldAnyway(t *testing.T) {
	m := plan.Marks{"render": {Pattern: "render ([0-9]+)"}, "all": {Sum: plan.Lines{"told db", "render"}}}
	if faults := m.Check("body", "header"); len(faults) > 0 {
		t.Fatal(faults)
	}
	r := marks.New(m, "body")
	r.Begin()
	r.Lines("body", []byte("render 5"))
	var out shots.Marks
	out.AddTime([]byte("db"), 7*time.Millisecond)
	r.Into(&out)
	if list := out.List(); len(list) != 3 || list[2].Name != "all" || math.Abs(list[2].Value-0.012) > 1e-9 {
		t.Errorf("told %+v", list)
	}
}

// What was not told is said with its reason.
func TestUntoldMarksSayWhy(t *testing.T) {
	r := marks.New(plan.Marks{
		"startup": {Pattern: "startup (.*)"}, "render": {Pointer: "/ms"}, "all": {Sum: plan.Lines{"startup", "render"}},
		"amount": {Pattern: "amount (.*)"}, "lost": {Pattern: "lost", Unit: "lines"},
	}, "stdout")
	r.Begin()
	r.Lines("stdout", []byte("amount 12 B\n"))
	r.List()
	want := []string{
		`mark amount is not told: "12 B" is not in a unit of its kind (ms); set unit:`,
		"mark render is not told: no number stands at /ms in stdout",
		"mark startup is not told: nothing in stdout matches startup (.*)",
		"mark all is not told, since a part of it is missing",
	}
	if got := r.Untold(); !slices.Equal(got, want) {
		t.Errorf("untold:\n%s", strings.Join(got, "\n"))
	}
	r.Begin()
	r.Lines("stdout", []byte("startup 2\n{\"ms\":3}\namount 4\nlost"))
	if r.List(); len(r.Untold()) > 0 {
		t.Errorf("told, and yet untold: %q", r.Untold())
	}
}

func FuzzMarks(f *testing.F) {
	for _, text := range []string{"startup 412 ms", `{"mark":"render","ms":31}`, "startup 1e999", "[1,2", `{"ms":"` +
		strings.Repeat("9", 400) + `"}`, "startup .", "startup ++1e"} {
		f.Add(text)
	}
	m := plan.Marks{"startup": {Pattern: `startup (\S.*)`}, "render": {
		Pointer: "/ms", Where: map[string]plan.Word{"/mark": "render"},
	}, "heap": {Pattern: "heap (.*)", Unit: "KiB"}, "all": {Sum: plan.Lines{"startup", "render"}}}
	f.Fuzz(func(t *testing.T, text string) {
		r := marks.New(m, "stdout")
		r.Begin()
		r.Lines("stdout", []byte(text))
		r.Whole("stdout", []byte(text))
		for _, m := range r.List() {
			if !(m.Value >= 0 && m.Value <= 2*marks.MostTold) {
				t.Errorf("%s = %g", m.Name, m.Value)
			}
		}
	})
}
