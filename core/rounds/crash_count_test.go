package rounds_test

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"paceduel/core/rounds"
)

// What counts may be a shot of a kind: here of what is left by a tool that writes at once and is slow to end.
func TestAKindCountsWhatACrashLeaves(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "kept"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	r, err := real(t, dir, `duel: T
baseline: a
course:
  command: { run: [sh, -c, 'echo x >> kept; exec sleep 0.2'], timeout: 30s }
  crash: { times: 3, count: { command: { run: [sh, -c, "wc -l < kept"], stdout: pipe } } }
footing: { workspace: kept }
contenders: { a: , b: { command: { timeout: 20s }, crash: { times: 1 } } }
pace: { repeat: 3 }
rounds: 1
`, func(e rounds.Event) {
		if c, ok := e.(rounds.Crashed); ok && c.Of != 4 {
			t.Errorf("%d crashes to come are told of; the plan has 3 and 1", c.Of)
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Crashes) != 4 {
		t.Fatalf("%d crashes", len(r.Crashes))
	}
	for _, c := range r.Crashes {
		if c.Err != "" || strings.TrimSpace(c.Said) != strconv.FormatInt(c.Records, 10) ||
			c.After > 100*time.Millisecond && c.Records != 1 || c.Records > 1 {
			t.Errorf("%+v", c)
		}
	}
}

// Of a service that keeps all but every seventh record, and one that keeps every fifth twice, what crashes leave is
// told exactly: each has one record at most that was under way when it was ended.
func TestWhatCrashesLeaveIsExact(t *testing.T) {
	dir := t.TempDir()
	lossy, twice := "loses=7 keeps="+filepath.Join(dir, "lossy"), "doubles=5 keeps="+filepath.Join(dir, "twice")
	r := lit(t, "{ repeat: 3 }", 1, `, ready: { line: lit } }, crash: { times: 3, from: 50ms, to: 150ms,
      count: { http: { url: 'http://127.0.0.1:${PORT}/count' } }`, lossy, twice)
	if len(r.Crashes) != 6 {
		t.Fatalf("%d crashes", len(r.Crashes))
	}
	for _, c := range r.Crashes {
		n := c.Acknowledged
		lost, doubled := []int64{n / 7, max((n+1)/7-1, 0)}, []int64{0}
		if c.Contender == "b" {
			lost, doubled = []int64{0}, []int64{n / 5, (n + 1) / 5}
		}
		if c.Err != "" || n < 7 || c.Unknown > 1 || !slices.Contains(lost, c.Lost()) || !slices.Contains(doubled, c.Doubled) {
			t.Errorf("%+v: lost %d, want one of %v; doubled %v", c, c.Lost(), lost, doubled)
		}
	}
}
