package worker

import (
	"slices"
	"strings"
	"testing"
)

func TestDrafts(t *testing.T) {
	for _, tt := range []struct {
		text, want string
		claimed    bool
	}{
		{"fresh of python3 reports.py", `worker: { run: ["python3", "reports.py"], function: "fresh", for: 100ms }`, true},
		{"add of './my pier' -q", `worker: { run: ["./my pier", "-q"], function: "add", for: 100ms }`, true},
		{"python3 reports.py", "", false},
		{"fresh of", "", false},
		{"fresh of 'python3", "", false},
		{"in turn of ./pier", `worker: { run: ["./pier"], function: "in turn", for: 100ms }`, false}, // there is no such file
		{"in turn of sh pier", `worker: { run: ["sh", "pier"], function: "in turn", for: 100ms }`, true},
		{"sort lists of things", `worker: { run: ["things"], function: "sort lists", for: 100ms }`, false},
	} {
		got, err := drafting.Settings(tt.text)
		if got != tt.want || (err == nil) != (tt.want != "") {
			t.Errorf("%q: %s, %v; want %s", tt.text, got, err, tt.want)
		}
		if err != nil && !strings.Contains(err.Error(), "write it as FUNCTION of PROGRAM") {
			t.Errorf("%v does not say how to write it", err)
		}
		if claimed := drafting.Claims(tt.text); claimed != tt.claimed {
			t.Errorf("%q: claimed %v", tt.text, claimed)
		}
	}
	for did, want := range map[string]string{
		"in turn of python3 reports.py, shots of 20ms": "in turn of python3 reports.py",
		"add of ./pier -q, 200 000 operations a shot":  "add of ./pier -q",
		"add (by: 5) of ./pier, shots of 20ms":         "", // no text says so much
		"add of ./pier, in one process, shots of 20ms": "",
	} {
		if text, ok := drafting.Typed(did); text != want || ok != (want != "") {
			t.Errorf("%q is typed as %q, %v; want %q", did, text, ok, want)
		}
	}
	names, err := drafting.Names([]string{"fresh of python3 reports.py", "pooled of python3 reports.py"})
	if err != nil || !slices.Equal(names, []string{"fresh", "pooled"}) {
		t.Errorf("%q, %v", names, err)
	}
	if pace, err := drafting.Pace([]string{"5"}); err != nil || !strings.HasPrefix(pace, "{ repeat: 5, warmup: 1 }") {
		t.Errorf("%q, %v", pace, err)
	}
	if _, err := drafting.Pace([]string{"few"}); err == nil {
		t.Error("few runs were taken for a number")
	}
}
