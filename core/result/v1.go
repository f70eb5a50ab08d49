package result

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"paceduel/core/cell"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// Documents of version 1 knew two kinds of contenders, whose parts and amounts had fields of their own, and kept
// amounts that contenders told as lengths of time with the unit in their names. Here they become what version 2 has.

// documentV1 shadows what has changed since.
type documentV1 struct {
	Result
	Order       [][]string `json:"order"`
	OrderStates [][]string `json:"order_states"`
	Heats       []heatV1   `json:"heats"`
}

type heatV1 struct {
	Heat
	CPU          int64       `json:"cpu_ns"`
	CPUKnown     bool        `json:"cpu_known"`
	Resources    resourcesV1 `json:"resources"`
	Peak         int64       `json:"peak_memory_bytes"`
	Starts       []startV1   `json:"starts"`
	Connects     int64       `json:"connections"`
	Replaced     int64       `json:"replaced_connections"`
	ConnectSum   int64       `json:"connect_sum_ns"`
	FirstByteSum int64       `json:"first_byte_sum_ns"`
	Redirects    int64       `json:"redirects"`
	Lines        int64       `json:"output_lines"`
	Splits       []splitV1   `json:"splits"`
}

type resourcesV1 struct {
	System    int64 `json:"system_ns"`
	Yields    int64 `json:"voluntary_switches"`
	Preempted int64 `json:"involuntary_switches"`
	Faults    int64 `json:"page_faults"`
	Loads     int64 `json:"page_loads"`
	Read      int64 `json:"read_bytes"`
	Written   int64 `json:"written_bytes"`
}

type startV1 struct {
	Start
	Marks []struct {
		Name string        `json:"name"`
		Took time.Duration `json:"value"`
	} `json:"marks"`
}

type splitV1 struct {
	Name    string `json:"name"`
	Told    bool   `json:"told"`
	Sum     int64  `json:"sum_ns"`
	Lengths string `json:"lengths"`
}

// partsV1 are what latencies were made of, amountsV1 what was counted.
var (
	partsV1   = []string{"late", "look-up", "connect", "tls", "send", "wait", "read"}
	amountsV1 = []shots.Amount{
		{Name: shots.CPU, Unit: units.Second},
		{Name: "kernel", Unit: units.Second, Row: "of it in the kernel", Per: shots.PerShot, Site: shots.Takes},
		{Name: "first byte", Unit: units.Second, Row: "to the first byte", Per: shots.PerSuccess, Site: shots.Takes},
		{Name: "connecting", Unit: units.Second, Row: "connecting, each", Per: "connections", Site: shots.Takes},
		{Name: shots.Memory, Unit: units.Byte, Fold: shots.Most},
		{Name: "waits", Unit: "waits", Row: "waits a run", Per: shots.PerShot, Site: shots.Uses},
		{Name: "preemptions", Unit: "preemptions", Row: "preemptions a run", Per: shots.PerShot, Site: shots.Uses},
		{Name: "page faults", Unit: "faults", Row: "page faults a run", Per: shots.PerShot, Site: shots.Uses},
		{Name: "page loads", Unit: "loads"},
		{Name: "disk reads", Unit: units.Byte, Row: "read from disk a run", Per: shots.PerShot, Site: shots.Uses},
		{Name: "disk writes", Unit: units.Byte, Row: "written to disk a run", Per: shots.PerShot, Site: shots.Uses},
		{Name: "redirects", Unit: "redirects", Row: "redirects a shot", Per: shots.PerShot, Site: shots.Answers},
		{Name: "output lines", Unit: "lines", Row: "output lines a run", Per: shots.PerShot, Site: shots.Answers},
		{Name: "replaced", Unit: "connections", Row: "connections replaced", Site: shots.Connects},
		{Name: "connections", Unit: "connections", Row: "new connections a shot", Per: shots.PerShot, Site: shots.Connects},
	}
)

func decodeV1(text []byte) (*Result, error) {
	var d documentV1
	if err := json.Unmarshal(text, &d); err != nil {
		return nil, fmt.Errorf("this is not a result of Pace Duel: %w", err)
	}
	r := &d.Result
	r.Version, r.Parts, r.Amounts = Version, slices.Clone(partsV1), slices.Clone(amountsV1)
	for i, names := range d.Order {
		var cells []cell.Cell
		for j, name := range names {
			state := r.States()[0]
			if i < len(d.OrderStates) && j < len(d.OrderStates[i]) {
				state = d.OrderStates[i][j]
			}
			cells = append(cells, cell.Of(name, state))
		}
		r.Order = append(r.Order, cells)
	}
	for i := range d.Heats {
		r.addV1(d.Heats[i].heat(), d.Heats[i].CPUKnown)
	}
	return r, nil
}

// decodeHeatV1 is for heats that are kept apart from their documents.
func decodeHeatV1(text []byte) (Heat, error) {
	var h heatV1
	err := json.Unmarshal(text, &h)
	return h.heat(), err
}

// Attach puts heats that were kept apart, of a document of version, under it.
func (r *Result) Attach(version int, heats []Heat) {
	if version > 1 {
		r.Heats = append(r.Heats, heats...)
		return
	}
	for i := range heats {
		_, metered := heats[i].Amounts[shots.CPU]
		r.addV1(heats[i], metered)
	}
}

// addV1 adds a heat of version 1, of which it has to be told whether the processor time of its processes is known.
func (r *Result) addV1(h Heat, metered bool) {
	r.Heats = append(r.Heats, h)
	if e := r.Entrant(h.Contender); e != nil && metered && h.Service == nil {
		e.OwnProcess = true // only who starts processes knew their processor time by itself
	}
}

// heat is what version 2 makes of it.
func (v *heatV1) heat() Heat {
	h := v.Heat
	if v.CPUKnown {
		h.SetAmount(shots.CPU, v.CPU)
	}
	for name, n := range map[string]int64{
		shots.Memory: v.Peak, "kernel": v.Resources.System, "first byte": v.FirstByteSum, "connecting": v.ConnectSum,
		"waits": v.Resources.Yields, "preemptions": v.Resources.Preempted, "page faults": v.Resources.Faults +
			v.Resources.Loads,
		"page loads": v.Resources.Loads, "disk reads": v.Resources.Read, "disk writes": v.Resources.Written,
		"redirects": v.Redirects, "output lines": v.Lines, "replaced": v.Replaced, "connections": v.Connects,
	} {
		if n != 0 {
			h.SetAmount(name, n)
		}
	}
	for i := range v.Starts {
		start := v.Starts[i].Start
		start.Marks = nil
		for _, m := range v.Starts[i].Marks {
			name, unit, per := toldV1(m.Name)
			start.Marks = append(start.Marks, StartMark{Name: name, Unit: unit, Value: float64(m.Took) / per})
		}
		h.Starts = append(h.Starts, start)
	}
	for i := range v.Splits {
		s := Split{Name: v.Splits[i].Name, Told: v.Splits[i].Told, Sum: v.Splits[i].Sum, Lengths: v.Splits[i].Lengths}
		if s.Told {
			s.Name, s.Unit, s.PerUnit = toldV1(s.Name)
		}
		h.Splits = append(h.Splits, s)
	}
	return h
}

// toldV1 takes the name of what a contender told apart: it held the unit, and the values were nanoseconds, bytes or
// thousandths.
func toldV1(full string) (name string, unit units.Unit, perUnit float64) {
	at := strings.LastIndex(full, " [")
	if at <= 0 || !strings.HasSuffix(full, "]") {
		return full, units.Second, units.Second.PerUnit()
	}
	unit = units.Unit(full[at+2 : len(full)-1])
	return full[:at], unit, unit.PerUnit()
}
