package logbook

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"

	"paceduel/core/result"
)

func TestHeatsAreKeptToTheLastDigit(t *testing.T) {
	r := made("x")
	tests := map[string]func(*result.Heat){
		"as made":          func(*result.Heat) {},
		"without anything": func(h *result.Heat) { *h = result.Heat{} },
		"moments of all kinds": func(h *result.Heat) {
			h.Dots = []result.Dot{
				{At: 7, Latency: 1230000}, {At: 3, Latency: 0}, {At: -9, Latency: -1}, {At: 1 << 60, Latency: 1 << 62},
			}
		},
		"in tens of µs": func(h *result.Heat) {
			h.Dots = []result.Dot{
				{At: 10 * time.Microsecond, Latency: 100}, {At: time.Hour, Latency: 7, Class: "reset"}, {At: time.Hour, Latency: 7},
			}
		},
		"histograms that are none": func(h *result.Heat) {
			h.Latencies, h.Splits = "tide", []result.Split{{Name: "a", Lengths: "QQ"}, {Name: "b", Lengths: ""}}
		},
		"steps": func(h *result.Heat) { h.Steps = []result.Step{{OK: 1, Latencies: h.Latencies}} },
	}
	for name, change := range tests {
		h := r.Heats[1]
		change(&h)
		before, _ := json.Marshal(&h)
		body, err := packHeat(&h)
		if err != nil {
			t.Fatal(err)
		}
		if after, _ := json.Marshal(&h); string(after) != string(before) {
			t.Errorf("%s: packing changed the heat", name)
		}
		var got result.Heat
		if err := unpackHeat(result.Version, body, &got); err != nil || !reflect.DeepEqual(got, h) {
			t.Errorf("%s: %v\n%+v\nwant\n%+v", name, err, got, h)
		}
	}
	text, _ := json.Marshal(&r.Heats[0])
	var got result.Heat
	if err := unpackHeat(result.Version, pack(text), &got); err != nil || !reflect.DeepEqual(got, r.Heats[0]) {
		t.Errorf("a heat that is all JSON: %v", err)
	}
}

// A body is damaged or not; it never takes the program down, nor all memory.
func FuzzUnpackHeat(f *testing.F) {
	r := made("x")
	body, err := packHeat(&r.Heats[0])
	if err != nil {
		f.Fatal(err)
	}
	plain, err := unpacker.DecodeAll(body, nil)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(plain)
	f.Add([]byte(`{}`))
	f.Fuzz(func(t *testing.T, plain []byte) {
		var h, again result.Heat
		if unpackHeat(result.Version, pack(plain), &h) != nil {
			return
		}
		body, err := packHeat(&h)
		if err != nil {
			return
		}
		if err := unpackHeat(result.Version, body, &again); err != nil {
			t.Errorf("%+v is not read again: %v", h, err)
		}
	})
}
