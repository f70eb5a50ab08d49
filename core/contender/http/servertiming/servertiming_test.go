package servertiming_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"paceduel/core/contender/http/servertiming"
)

func read(value string) string {
	var out []string
	servertiming.Read([]byte(value), func(name []byte, took time.Duration) {
		out = append(out, fmt.Sprintf("%s %s", name, took))
	})
	return strings.Join(out, ", ")
}

func TestEntries(t *testing.T) {
	for value, want := range map[string]string{
		"db;dur=53":             "db 53ms",
		"db;dur=53, app;dur=.5": "db 53ms, app 500µs",
		`cache;desc="read, then \"kept\"";dur=23.2 , db ; dur = 2`: "cache 23.2ms, db 2ms",
		"miss":                         "", // says that, not how long
		"miss, db;dur=1":               "db 1ms",
		"db;dur=1;dur=2":               "db 1ms",
		`db;DUR="7"`:                   "db 7ms",
		"db;dur=-1":                    "",
		"db;dur=NaN, x;dur=Inf":        "",
		"db;dur=1e300":                 "",
		"db dur=1, app;dur=2":          "app 2ms", // a broken entry spoils none after it
		`db;desc="never ended;dur=1`:   "",
		";dur=1,,=, app;dur=3":         "app 3ms",
		"":                             "",
		"a;dur=0":                      "a 0s",
		"totals;desc=all;dur=120;x, b": "totals 120ms",
	} {
		if got := read(value); got != want {
			t.Errorf("%q gives %q; want %q", value, got, want)
		}
	}
}

func TestReadingAllocatesNothing(t *testing.T) {
	value := []byte(`cache;desc="hit";dur=0.2, db;dur=53`)
	n := 0
	if allocs := testing.AllocsPerRun(
		100, func() { servertiming.Read(value, func([]byte, time.Duration) { n++ }) },
	); allocs != 0 {
		t.Errorf("%g allocations; want none", allocs)
	}
	if n == 0 {
		t.Error("nothing was read")
	}
}

func FuzzRead(f *testing.F) {
	f.Add(`db;dur=53, cache;desc="a, b";dur=.5`)
	f.Add(`;;=",\`)
	f.Fuzz(func(t *testing.T, value string) {
		servertiming.Read([]byte(value), func(name []byte, took time.Duration) {
			if len(name) == 0 || strings.ContainsAny(string(name), " \t,;=\"") || took < 0 || took > servertiming.Longest {
				t.Errorf("%q gives %q %s", value, name, took)
			}
		})
	})
}
