package result_test

import (
	"encoding/csv"
	"errors"
	"strings"
	"testing"

	"paceduel/core/contender"
	"paceduel/core/result"
	"paceduel/core/tally"
)

func TestShotsAreWrittenAsCSV(t *testing.T) {
	var out strings.Builder
	w, err := result.NewShotWriter(&out)
	if err != nil {
		t.Fatal(err)
	}
	h := &result.Heat{Round: 3, Contender: `joined, "new"`, State: "cold"}
	shots := []tally.Raw{
		{Due: 5, Start: 7, End: 17, Latency: 12, Lookup: 1, Connect: 2, TLS: 3, Asked: 4, FirstByte: 6, Row: 8, Sent: 9, Received: 10, Length: 11, Redirects: 1, Trace: [16]byte{15: 0xab}},
		{Start: 20, End: 21, Latency: 1, Class: contender.Timeout},
	}
	if err := w.Write(h, shots, true); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	if err != nil || len(rows) != 3 || strings.Join(rows[0], " ") != strings.Join(result.ShotColumns, " ") {
		t.Fatalf("rows %q, %v", rows, err)
	}
	for i, want := range []string{
		`3|joined, "new"|cold|ok|5|7|17|12|1|2|3|4|6|8|9|10|11|1|000000000000000000000000000000ab|true`,
		`3|joined, "new"|cold|timeout||20|21|1|0|0|0|0|0|0|0|0|0|0||true`,
	} {
		if got := strings.Join(rows[i+1], "|"); got != want {
			t.Errorf("row %d is %s; want %s", i, got, want)
		}
	}
	w, err = result.NewShotWriter(full{})
	if err == nil {
		err = w.Write(h, shots, false)
	}
	if err == nil || !strings.Contains(err.Error(), "no room") {
		t.Errorf("a full disk gives %v", err)
	}
}

// full is a disk without room.
type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }
