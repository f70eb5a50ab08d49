package harbour

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// All ways tell the same, and what they tell is a tide: it rises and falls twice a day or so, within the sum of its
// waves.
func TestPredictorsTellTheSame(t *testing.T) {
	file := filepath.Join(t.TempDir(), "heights.tables")
	if err := PrepareTables(file); err != nil {
		t.Fatal(err)
	}
	prepared, err := loaded(file)
	if err != nil {
		t.Fatal(err)
	}
	late, early := deferred(), atStart()
	for _, q := range [][2]int{{0, 0}, {3, 100}, {gauges - 1, 365}, {3, 101}} {
		want := early(q[0], q[1])
		if !slices.Equal(prepared(q[0], q[1]), want) || !slices.Equal(late(q[0], q[1]), want) || len(want) != daySteps {
			t.Errorf("gauge %d, day %d: the ways differ", q[0], q[1])
		}
		if high, low := slices.Max(want), slices.Min(want); high-low < 50 || high > 700 || low < -250 {
			t.Errorf("gauge %d, day %d: a tide of %d to %d cm", q[0], q[1], low, high)
		}
	}
	if _, err := loaded(filepath.Join(t.TempDir(), "none")); err == nil ||
		!strings.Contains(err.Error(), "--prepare FILE writes them") {
		t.Errorf("loading nothing: %v", err)
	}
}

func TestPredictorAnswers(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	r, w := io.Pipe()
	done := make(chan error)
	go func() { done <- Predict(ctx, "deferred", "127.0.0.1:0", "", w) }()
	line := make([]byte, 200)
	n, err := r.Read(line)
	if err != nil {
		t.Fatal(err)
	}
	_, at, ok := strings.Cut(strings.TrimSpace(string(line[:n])), "answers at ")
	if !ok {
		t.Fatalf("it says %q", line[:n])
	}
	for query, want := range map[string]int{"gauge=2&day=5": 200, "gauge=24&day=5": 400, "gauge=2&day=-1": 400, "": 400} {
		answer, err := http.Get("http://" + at + "/tide?" + query)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		if answer.StatusCode != want || want == 200 && !bytes.HasPrefix(body, []byte(`{"gauge":2,"day":5,"heights_cm":[`)) {
			t.Errorf("%s: %d, %.60s", query, answer.StatusCode, body)
		}
	}
	http.DefaultClient.CloseIdleConnections()
	cancel()
	if err := <-done; err != nil {
		t.Error(err)
	}
	if err := Predict(t.Context(), "guess", "127.0.0.1:0", "", io.Discard); err == nil ||
		!strings.Contains(err.Error(), `called "guess"`) {
		t.Errorf("an unknown way: %v", err)
	}
}
