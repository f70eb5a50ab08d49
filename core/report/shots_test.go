package report_test

import (
	"encoding/csv"
	"errors"
	"strings"
	"testing"

	"paceduel/core/cell"
	"paceduel/core/report"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/core/units"
)

func TestShotsAreWrittenAsCSV(t *testing.T) {
	shape := shots.Shape{
		Parts: []string{"wait", "look-up"},
		Amounts: []shots.Amount{
			{Name: shots.CPU, Unit: units.Second}, {Name: shots.Memory, Unit: units.Byte}, {Name: "page faults", Unit: "faults"},
		},
	}
	more := append([]shots.Amount{{Name: "lines", Unit: "lines"}}, shape.Amounts...) // of another kind
	var out strings.Builder
	w, err := report.NewShotWriter(&out, []string{"look-up", "wait"}, more)
	if err != nil {
		t.Fatal(err)
	}
	h := &result.Heat{Round: 3, Cell: cell.Of(`joined, "new"`, "cold")}
	fired := []tally.Raw{
		{Due: 5, Start: 7, End: 17, Latency: 12, Row: 8, Sent: 9, Received: 10, Length: 11, Trace: [16]byte{15: 0xab},
			Parts: [shots.MaxParts]tally.Brief{6, 7}, Amounts: [shots.MaxAmounts]tally.Brief{1, 2, 3}},
		{Start: 20, End: 21, Latency: 1, Class: shots.Timeout},
	}
	if err := w.Write(h, &shape, fired, true); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	if err != nil || len(rows) != 3 {
		t.Fatalf("rows %q, %v", rows, err)
	}
	for i, want := range []string{
		"round|contender|state|class|due_ns|start_ns|end_ns|latency_ns|row|" +
			"sent_bytes|received_bytes|body_bytes|trace|sampled|" +
			"part_look_up_ns|part_wait_ns|amount_lines|amount_cpu_ns|amount_memory_bytes|amount_page_faults",
		`3|joined, "new"|cold|ok|5|7|17|12|8|9|10|11|000000000000000000000000000000ab|true|7|6||1|2|3`,
		`3|joined, "new"|cold|timeout||20|21|1|0|0|0|0||true|0|0||0|0|0`,
	} {
		if got := strings.Join(rows[i], "|"); got != want {
			t.Errorf("row %d is %s; want %s", i, got, want)
		}
	}
	w, err = report.NewShotWriter(full{}, nil, nil)
	if err == nil {
		err = w.Write(h, &shape, fired, false)
	}
	if err == nil || !strings.Contains(err.Error(), "no room") {
		t.Errorf("a full disk gives %v", err)
	}
}

// full is a disk without room.
type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }
