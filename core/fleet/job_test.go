package fleet

import (
	"context"
	"os"
	"testing"

	"paceduel/core/result"
	"paceduel/core/rounds"
)

// What whoever watches a heat is shown of it, shot by shot, comes once, whether it is asked for often or seldom.
func TestDotsAreToldOnce(t *testing.T) {
	a := NewAgent(AgentConfig{Name: "quay-1"}, nil)
	a.run = newHosted(a, "board", t.TempDir())
	a.run.job = newJob("heat-1", func() {})
	close(a.run.job.over)
	defer a.run.end()
	u := underWay{glances: map[*member]*seenGlance{}, here: []*member{{}}}
	own := hand{job: a.run.job}
	ask := func() {
		t.Helper()
		got, err := a.wait(&waitAsk{asked: asked{"board", "heat-1"}})
		if err != nil {
			t.Fatal(err)
		}
		u.f = New(Config{})
		u.see(u.here[0], &got)
	}
	happens := func(dots int) {
		own.glanced(rounds.Progress{Shots: 7, Recent: make([]result.Dot, dots)})
	}
	happens(3)
	happens(2) // nobody asked in between
	ask()
	ask() // nothing happened in between
	happens(4)
	ask() // nobody looked in between
	if seen := u.glance(); len(seen.Recent) != 9 || seen.Shots != 7 {
		t.Errorf("%d dots of 9, %d shots", len(seen.Recent), seen.Shots)
	}
	if seen := u.glance(); len(seen.Recent) != 0 || seen.Shots != 7 {
		t.Errorf("%d dots once more", len(seen.Recent))
	}
	for range 3 {
		happens(maxRecent)
	}
	ask()
	if seen := u.glance(); len(seen.Recent) != maxRecent {
		t.Errorf("%d dots at once", len(seen.Recent))
	}
}

// A run that was let go begins and keeps nothing any more, and lets go what it was just about to open.
func TestARunThatIsOverStaysOver(t *testing.T) {
	a := NewAgent(AgentConfig{Name: "quay-1", Guest: true}, nil)
	dir := t.TempDir() + "/laid"
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	run := newHosted(a, "board", dir)
	opened := make(chan struct{})
	if err := run.start("open-1", func(ctx context.Context, _ *job) (any, error) {
		close(opened)
		<-ctx.Done()
		run.mu.Lock()
		defer run.mu.Unlock()
		run.hand = &hand{Hand: &rounds.Hand{}}
		return struct{}{}, nil
	}); err != nil {
		t.Fatal(err)
	}
	<-opened
	run.end()
	if run.hand != nil {
		t.Error("what was being opened when the run ended is still open")
	}
	if err := run.start("heat-1", func(context.Context, *job) (any, error) { return struct{}{}, nil }); err == nil {
		t.Error("a heat is begun after the run")
	}
	if err := run.lay(&fileAsk{Name: "rows.csv", Size: 1, Data: []byte("a")}); err == nil {
		t.Error("a file is kept after the run")
	}
	if _, err := os.Stat(dir); err == nil {
		t.Error("the run's folder is left")
	}
}
