package harbour_test

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"paceduel/harbour"
)

// Whoever takes the reports in, and however many they are, the same positions are kept.
func TestRecordersAgree(t *testing.T) {
	want := ""
	for _, way := range []string{"one-lock", "by-quay", "by-writer"} {
		for _, writers := range []int{1, 3, 64} {
			var out strings.Builder
			if err := harbour.Report(way, writers, &out); err != nil {
				t.Fatal(err)
			}
			if want == "" {
				want = out.String()
			}
			if out.String() != want || !strings.Contains(want, "vessels, latest positions") {
				t.Errorf("%s with %d writers kept %q; want %q", way, writers, out.String(), want)
			}
		}
	}
	for _, bad := range []struct {
		way     string
		writers int
	}{{"one-lock", 0}, {"one-lock", 1000}, {"by-hand", 1}} {
		if err := harbour.Report(bad.way, bad.writers, io.Discard); err == nil {
			t.Errorf("%d writers took reports in %s", bad.writers, bad.way)
		}
	}
}

// Both ways write the same log, and larger batches pack better.
func TestLogsAgree(t *testing.T) {
	packed := map[int]string{}
	for _, batch := range []int{7, 1000, 4000} {
		for _, way := range []string{"when-full", "as-they-come"} {
			var out strings.Builder
			if err := harbour.WriteLog(way, batch, &out); err != nil {
				t.Fatal(err)
			}
			if packed[batch] == "" {
				packed[batch] = out.String()
			}
			if out.String() != packed[batch] || !strings.HasPrefix(out.String(), "30000 entries, minutes ") {
				t.Errorf("%s in batches of %d wrote %q; want %q", way, batch, out.String(), packed[batch])
			}
		}
	}
	if packed[7] == packed[1000] {
		t.Error("the size of a batch makes no difference")
	}
	if harbour.WriteLog("when-full", 0, io.Discard) == nil || harbour.WriteLog("at-night", 1, io.Discard) == nil {
		t.Error("a log without batches, or of no known way, was written")
	}
}

// Both ways of finding vessels answer the same board.
func TestArrivalsAgree(t *testing.T) {
	url := serve(t)
	get := func(way, rows string) (int, string) { return askWith(t, url+"/arrivals?rows="+rows, "X-Arrivals", way) }
	for _, rows := range []string{"1", "20", "4000"} {
		_, looked := get("look-through", rows)
		status, found := get("index", rows)
		if status != http.StatusOK || looked != found || strings.Count(found, `"vessel"`) == 0 {
			t.Errorf("%s rows: %d, alike: %v", rows, status, looked == found)
		}
	}
	for _, bad := range [][2]string{{"index", "0"}, {"index", "many"}, {"index", "99999"}, {"by-heart", "1"}} {
		if status, _ := get(bad[0], bad[1]); status != http.StatusBadRequest {
			t.Errorf("%s, %s rows: status %d", bad[0], bad[1], status)
		}
	}
}
