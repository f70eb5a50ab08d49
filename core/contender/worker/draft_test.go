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
		{"fresh of 'python3", "", true},
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
