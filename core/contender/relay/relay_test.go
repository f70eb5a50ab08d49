package relay

import (
	"cmp"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/conformance"
	"paceduel/core/contender/query"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// Every way sees the effect of each deed after the time that it takes, those that we have to ask for up to a period
// later. This machine may hold us up, so that it is tried until each was seen in time once.
func TestEffectsInEveryWay(t *testing.T) {
	const delay = 40 * time.Millisecond
	y := newYard(t, delay)
	every := plan.Span(10 * time.Millisecond)
	s := y.settings(map[string]Effect{
		"call": {Call: true}, "events": {Events: y.URL + "/events"},
		"socket": {Socket: "ws" + strings.TrimPrefix(y.URL, "http") + "/socket", Has: "done {{key}}"},
		"file":   {File: "{{key}}.json", Has: "done"}, "log": {Log: "yard.log", Has: "done {{key}}"},
		"poll": {Poll: y.URL + "/state?of={{key}}", Has: `"state":"done"`, Every: every},
	})
	d := y.open(t, s)
	c := d.Client(0, 1)
	best := map[string]time.Duration{}
	late := func() (names []string) {
		for name := range s.Effects {
			limit := delay + 8*time.Millisecond
			if name == "poll" {
				limit += every.D()
			}
			if best[name] == 0 || best[name] > limit {
				names = append(names, name)
			}
		}
		return names
	}
	for try := 0; try < 4 || try < 50 && (len(late()) > 0 || best[deedName] >= delay); try++ {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if shot.Class != shots.OK || shot.Amounts[never]+shot.Amounts[twice]+shot.Amounts[disorder] != 0 ||
			shot.Amounts[asks] < 1 {
			t.Fatalf("%s %v: %v", shot.Class, shot.Err, shot.Amounts)
		}
		of := told(&shot)
		longest := time.Duration(0)
		for name := range s.Effects {
			if of[name] < delay {
				t.Errorf("%s after %s, before it was brought about", name, of[name])
			}
			longest = max(longest, of[name])
		}
		for name, took := range of {
			if best[name] == 0 || took < best[name] {
				best[name] = took
			}
		}
		if of[deedName] <= 0 || shot.Latency() < longest-time.Millisecond {
			t.Errorf("the deed %s, all %s of %s", of[deedName], longest, shot.Latency())
		}
	}
	if best[deedName] >= delay {
		t.Errorf("the deed took %s at best, with what comes of it", best[deedName])
	}
	for _, name := range late() {
		t.Errorf("%s after %s at best; brought about after %s", name, best[name], delay)
	}
	s.Until = "call" // the shot lasts until then, and all are told
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	if of := told(&shot); shot.Class != shots.OK || len(of) != 7 || (shot.Latency()-of["call"]).Abs() > time.Millisecond {
		t.Errorf("%s %v: %v of %s", shot.Class, shot.Err, of, shot.Latency())
	}
}

// A file is put in its place whole, over those of this run alone: what was there before stays, but in a workspace.
func TestFilesArePut(t *testing.T) {
	old := time.Now().Add(-time.Hour)
	for _, tt := range []struct {
		file      string
		there     bool
		workspace string
		class     shots.Class
	}{
		{"in/{{key}}", false, "", shots.OK},
		{"in/order", false, "", shots.OK},
		{"in/order", true, "", shots.Other},
		{"in/order", true, "elsewhere", shots.Other},
		{"in/order", true, ".", shots.OK},
	} {
		dir := t.TempDir()
		if err := os.Mkdir(filepath.Join(dir, "in"), 0o700); err != nil {
			t.Fatal(err)
		}
		order := filepath.Join(dir, "in", "order")
		if tt.there {
			if err := cmp.Or(os.WriteFile(order, []byte("theirs"), 0o600), os.Chtimes(order, old, old)); err != nil {
				t.Fatal(err)
			}
		}
		s := New().(*Settings)
		s.Put, s.Effects = &Put{File: tt.file}, map[string]Effect{"laid": {File: tt.file, Has: keyMark}}
		setup := contender.Setup{Dir: dir, Clock: clock.Start()}
		if tt.workspace != "" {
			setup.Workspace = filepath.Join(dir, tt.workspace)
		}
		d, err := open(setup, s)
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		for range 3 {
			var shot shots.Shot
			if c.Shoot(t.Context(), &shot); shot.Class != tt.class {
				t.Errorf("%+v: %s, %v", tt, shot.Class, shot.Err)
			}
		}
		c.Close()
		d.Close()
		left, _ := os.ReadDir(filepath.Join(dir, "in"))
		text, _ := os.ReadFile(order)
		if want := map[bool]int{true: 3, false: 1}[tt.file != "in/order"]; len(left) != want ||
			(string(text) == "theirs") != (tt.class != shots.OK) {
			t.Errorf("%+v: %d files, %q", tt, len(left), text)
		}
	}
}

// From heat to heat a workspace is laid anew: what was watched in the one before is another by then.
func TestEachHeatLooksAnew(t *testing.T) {
	y := newYard(t, time.Millisecond)
	y.dir = filepath.Join(t.TempDir(), "laid")
	s := y.settings(map[string]Effect{
		"file": {File: "{{key}}.json", Has: "done"}, "log": {Log: "yard.log", Has: "done {{key}}"},
		"query": {
			Query: &query.Question{At: "sqlite:yard.db", Statement: "select 1 from heats"},
			Every: plan.Span(time.Millisecond),
		},
	})
	s.Within = plan.Span(5 * time.Second)
	d, err := open(contender.Setup{Dir: y.dir, Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	for heat := range 3 {
		os.RemoveAll(y.dir)
		if err := os.Mkdir(y.dir, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(y.dir, "yard.db"), nil, 0o600); err != nil {
			t.Fatal(err)
		}
		make := query.Question{At: "sqlite:yard.db", Statement: "create table heats as select 1"}
		a, err := make.Open(d.setup, 0, true)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := a.Ask(t.Context()); err != nil {
			t.Fatal(err)
		}
		a.Close()
		for range 2 {
			c := d.Client(0, 1)
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			if shot.Class != shots.OK {
				t.Errorf("heat %d: %s %v", heat, shot.Class, shot.Err)
			}
			c.Close()
		}
	}
}

// What never comes, or comes twice, is counted exactly, with several under way.
func TestWhatGoesWrongIsCounted(t *testing.T) {
	y := newYard(t, 5*time.Millisecond)
	y.lose.Store(7)
	y.twice.Store(5)
	s := y.settings(map[string]Effect{"call": {Call: true}})
	s.Within = plan.Span(time.Second)
	d := y.open(t, s)
	var missed, doubled atomic.Int64
	var wg sync.WaitGroup
	for i := range 10 {
		wg.Go(func() {
			c := d.Client(i, 10)
			for range 7 {
				var shot shots.Shot
				c.Shoot(t.Context(), &shot)
				missed.Add(shot.Amounts[never])
				doubled.Add(shot.Amounts[twice])
				lost := shot.Class == shots.Timeout
				if lost != (shot.Amounts[never] == 1) || !lost && shot.Class != shots.OK {
					t.Errorf("%s %v, %v", shot.Class, shot.Err, shot.Amounts)
				}
			}
		})
	}
	wg.Wait()
	y.wg.Wait()
	doubled.Add(d.watch.twice.Load())
	if missed.Load() != 10 || doubled.Load() != 70/5-70/35 {
		t.Errorf("%d of 70 never came, want 10; %d came twice, want 12", missed.Load(), doubled.Load())
	}
}

// A file is read anew whenever it changes: that a key stands in it still is no second effect.
func TestAFileThatChangesAgain(t *testing.T) {
	y := newYard(t, 0)
	d := y.open(t, y.settings(map[string]Effect{"file": {File: "state.json"}}))
	own := d.watch.expect([]string{"file"})
	path := d.place("state.json", "")
	for _, text := range []string{own.key, own.key + " and more", "more, " + own.key} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		d.watch.changed(path)
	}
	if _, came := own.came["file"]; !came || d.watch.twice.Load() != 0 {
		t.Errorf("came %v, %d times more", came, d.watch.twice.Load())
	}
}

// An effect that overtakes that of an earlier deed is out of order.
func TestOutOfOrder(t *testing.T) {
	y := newYard(t, 0)
	d := y.open(t, y.settings(map[string]Effect{"call": {Call: true}}))
	for range 3 {
		d.watch.expect([]string{"call"})
	}
	for _, n := range []uint64{1, 3, 2} {
		d.watch.saw(n, "call")
	}
	if got := d.watch.disorder.Load(); got != 1 {
		t.Errorf("%d out of order; want 1", got)
	}
}

// A crew has as many deeds under way as are due, hands each out once, and keeps nothing of them.
func TestManyDeedsAtOnce(t *testing.T) {
	y := newYard(t, 150*time.Millisecond)
	d := y.open(t, y.settings(map[string]Effect{"call": {Call: true}}))
	crew, err := d.Crew(500)
	if err != nil || crew == nil {
		t.Fatal(err)
	}
	defer crew.Close()
	begun, ended, most := 0, 0, 0
	err = crew.Drive(t.Context(), &contender.Job{
		Open: true,
		Next: func(int) (time.Duration, time.Duration, bool) {
			if begun == 500 {
				return 0, 0, false
			}
			begun++
			return 0, 0, true
		},
		Ask: func(int, *shots.Shot) { most = max(most, begun-ended) },
		Done: func(_ int, s *shots.Shot) {
			ended++
			if s.Class != shots.OK {
				t.Errorf("%s %v", s.Class, s.Err)
			}
		},
	})
	if err != nil || ended != 500 || most < 400 {
		t.Errorf("%v: %d ended, %d at once", err, ended, most)
	}
	d.watch.mu.Lock()
	defer d.watch.mu.Unlock()
	if len(d.watch.open) != 0 {
		t.Errorf("%d deeds are still looked out for", len(d.watch.open))
	}
}

// A crew whose next deed is due in an hour ends at once when it is to.
func TestACrewThatWaitsCanBeEnded(t *testing.T) {
	y := newYard(t, 0)
	crew, err := y.open(t, y.settings(map[string]Effect{"call": {Call: true}})).Crew(manyFrom)
	if err != nil || crew == nil {
		t.Fatal(err)
	}
	defer crew.Close()
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(20*time.Millisecond, cancel)
	err = crew.Drive(ctx, &contender.Job{
		Open: true, Next: func(int) (time.Duration, time.Duration, bool) { return 0, time.Hour, true },
	})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

// A stream that breaks ends the waiting for what would have come over it, and is opened anew by the next deed.
func TestAStreamThatBreaks(t *testing.T) {
	y := newYard(t, 30*time.Millisecond)
	d := y.open(t, y.settings(map[string]Effect{"events": {Events: y.URL + "/events"}}))
	c := d.Client(0, 1)
	y.lose.Store(1)
	go func() {
		for y.asked.Load() == 0 {
			<-time.After(time.Millisecond)
		}
		y.CloseClientConnections()
	}()
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	if shot.Class != shots.Reset && shot.Class != shots.Other {
		t.Fatalf("%s %v", shot.Class, shot.Err)
	}
	y.lose.Store(0)
	for range 3 {
		shot = shots.Shot{}
		if c.Shoot(t.Context(), &shot); shot.Class == shots.OK {
			return
		}
	}
	t.Errorf("%s %v", shot.Class, shot.Err)
}

// Who is asleep has nothing happen before each deed; who is awake does not wait. Neither is part of the latency.
func TestAsleepAndAwake(t *testing.T) {
	y := newYard(t, time.Millisecond)
	s := y.settings(map[string]Effect{"call": {Call: true}})
	const idle = 400 * time.Millisecond
	s.Asleep = plan.Span(idle)
	d := y.open(t, s)
	c := d.Client(0, 1)
	for _, asleep := range []bool{true, false} {
		d.Visit(asleep)
		began := d.clock.Now()
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if waited := shot.Start - began; shot.Class != shots.OK || (waited >= idle) != asleep ||
			shot.Latency() >= idle {
			t.Errorf("asleep %v: began after %s, took %s: %v", asleep, shot.Start-began, shot.Latency(), shot.Err)
		}
	}
}

// While deeds wait it may be asked how many, and for how long.
func TestWaitingIsTold(t *testing.T) {
	y := newYard(t, 400*time.Millisecond)
	d := y.open(t, y.settings(map[string]Effect{"call": {Call: true}}))
	if n, longest := d.Waits(); n != 0 || longest != 0 {
		t.Errorf("%d wait, for %s", n, longest)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		var shot shots.Shot
		d.Client(0, 1).Shoot(t.Context(), &shot)
	}()
	most, longest := 0, time.Duration(0)
	for open := true; open; {
		select {
		case <-done:
			open = false
		case <-time.After(5 * time.Millisecond):
			n, at := d.Waits()
			most, longest = max(most, n), max(longest, at)
		}
	}
	if most != 1 || longest < 60*time.Millisecond {
		t.Errorf("%d waited, for %s", most, longest)
	}
}

// How many deeds are under way is told as it was: the most, and over time an even choice that does not grow with them.
func TestBacklogs(t *testing.T) {
	y := newYard(t, time.Hour)
	d := y.open(t, y.settings(map[string]Effect{"call": {Call: true}}))
	var open []*deed
	for i := range 10 * mostWaited {
		open = append(open, d.watch.expect([]string{"call"}))
		if i >= 4 {
			d.watch.forget(open[i-4])
		}
	}
	most, over := d.Backlog()
	if most != 5 || len(over) < mostWaited/2 || len(over) >= mostWaited {
		t.Fatalf("%d at most, %d kept", most, len(over))
	}
	for i, at := range over {
		if at.Shots != min(i+1, 5) && at.Shots != 5 || i > 0 && at.At < over[i-1].At {
			t.Errorf("%d: %+v", i, at)
		}
	}
	if most, over := d.Backlog(); most != 0 || len(over) != 0 {
		t.Errorf("asked again: %d, %v", most, over)
	}
	d.watch.expect([]string{"call"})
	if most, over := d.Backlog(); most != 5 || len(over) != 1 || over[0].Shots != 5 {
		t.Errorf("of those that are still under way: %d, %v", most, over)
	}
}

// Garbage and floods to where we listen change nothing.
func TestHostilePeers(t *testing.T) {
	y := newYard(t, 20*time.Millisecond)
	d := y.open(t, y.settings(map[string]Effect{"call": {Call: true}}))
	c := d.Client(0, 1)
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	for _, body := range []string{
		d.watch.prefix, d.watch.prefix + "99999999999999999999999q", d.watch.prefix + "0q", d.watch.prefix + "12345678q",
		strings.Repeat(d.watch.prefix, 10_000), strings.Repeat("x", 1<<20),
	} {
		if answer, err := http.Post(d.watch.url(), "", strings.NewReader(body)); err == nil {
			answer.Body.Close()
		}
	}
	shot = shots.Shot{}
	c.Shoot(t.Context(), &shot)
	if shot.Class != shots.OK || shot.Amounts[twice] != 0 || len(d.watch.seen["call"]) > 3 {
		t.Errorf("%s %v: %v, %d seen", shot.Class, shot.Err, shot.Amounts, len(d.watch.seen["call"]))
	}
}

// Whoever opens a connection and says half of something is cut off after a while, holds nobody up, and does not keep
// the watching from its end.
func TestHalfOpenPeers(t *testing.T) {
	y := newYard(t, time.Millisecond)
	d := y.open(t, y.settings(map[string]Effect{"call": {Call: true}}))
	d.watch.callLimit = 200 * time.Millisecond
	c := d.Client(0, 1)
	shoot := func() {
		t.Helper()
		var shot shots.Shot
		if c.Shoot(t.Context(), &shot); shot.Class != shots.OK {
			t.Errorf("%s %v", shot.Class, shot.Err)
		}
	}
	shoot()
	var peers []net.Conn
	open := func() {
		const head = "POST / HTTP/1.1\r\nHost: x\r\n"
		for _, said := range []string{"", head, head + "Content-Length: 9\r\n\r\nab"} {
			for range 20 {
				conn, err := net.Dial("tcp", strings.TrimPrefix(d.watch.url(), "http://"))
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { conn.Close() })
				conn.Write([]byte(said))
				peers = append(peers, conn)
			}
		}
	}
	open()
	shoot()
	for _, conn := range peers {
		conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		if _, err := io.Copy(io.Discard, conn); errors.Is(err, os.ErrDeadlineExceeded) {
			t.Fatal("a peer that says nothing more was not cut off")
		}
	}
	open()
	closed := make(chan struct{})
	go func() { d.Close(); close(closed) }()
	select {
	case <-closed:
	case <-time.After(20 * time.Second):
		t.Error("peers that are half open keep it from its end")
	}
}

// A row is a deed, and a statement that is asked again and again sees what comes of it.
func TestRowsAndQueries(t *testing.T) {
	y := newYard(t, time.Millisecond)
	ask := func(statement string) *query.Question {
		return &query.Question{At: "sqlite:orders.db", Statement: statement}
	}
	setup := contender.Setup{Dir: y.dir, Clock: clock.Start()}
	perform := func(statement string, values ...string) {
		t.Helper()
		names := []string{"key"}[:len(values)]
		a, err := ask(statement).Open(setup, 0, true, names...)
		if err != nil {
			t.Fatal(err)
		}
		defer a.Close()
		if _, _, err := a.Ask(t.Context(), values...); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	if err := os.WriteFile(filepath.Join(y.dir, "orders.db"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	perform("create table orders (key text primary key, state text)")
	perform("create trigger odd after insert on orders when new.key like '%1q' " +
		"begin delete from orders where key = new.key; end")
	s := New().(*Settings)
	s.Query = ask("insert into orders values ({{key}}, 'open')")
	every := plan.Span(time.Millisecond)
	s.Effects = map[string]Effect{
		"stored": {Query: ask("select state from orders where key = {{key}}"), Every: every},
		"done":   {Query: ask("select state from orders where key = {{key}}"), Has: `"state":"done"`, Every: every},
	}
	s.Within = plan.Span(5 * time.Second)
	d := y.open(t, s)
	c := d.Client(0, 1)
	stop := make(chan struct{})
	var clerk sync.WaitGroup
	clerk.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
				perform("update orders set state = 'done'")
			}
		}
	})
	defer func() { close(stop); clerk.Wait() }()
	s.Within = plan.Span(300 * time.Millisecond) // the first one is deleted again
	shot := shots.Shot{}
	c.Shoot(t.Context(), &shot)
	if shot.Class != shots.Timeout || shot.Amounts[never] != 2 || shot.Amounts[asks] < 4 {
		t.Errorf("%s %v: %v; want what never comes", shot.Class, shot.Err, shot.Amounts)
	}
	s.Within = plan.Span(20 * time.Second)
	shot = shots.Shot{}
	c.Shoot(t.Context(), &shot)
	of := told(&shot)
	if shot.Class != shots.OK || of["stored"] <= 0 || of["done"] < of["stored"] {
		t.Errorf("%s %v: %v", shot.Class, shot.Err, of)
	}
	s.Query = ask("insert into orders select key, state from orders")
	shot = shots.Shot{}
	y.open(t, s).Client(0, 1).Shoot(t.Context(), &shot)
	if shot.Class != shots.Statement || !strings.Contains(shot.Err.Error(), "UNIQUE") {
		t.Errorf("%s %v; want a statement that failed", shot.Class, shot.Err)
	}
}

// What never came is told with why it could not be asked for, where that is so; a check that fails is an answer.
func TestWhyItCouldNotBeAskedFor(t *testing.T) {
	y := newYard(t, time.Millisecond)
	if err := os.WriteFile(filepath.Join(y.dir, "orders.db"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	every := plan.Span(time.Millisecond)
	s := y.settings(map[string]Effect{
		"done":    {Query: &query.Question{At: "sqlite:orders.db", Statement: "select 1 from orders"}, Every: every},
		"checked": {Check: "false", Every: every},
	})
	s.Within = plan.Span(200 * time.Millisecond)
	var shot shots.Shot
	y.open(t, s).Client(0, 1).Shoot(t.Context(), &shot)
	const want = "checked and done did not come within 200ms; done could not be asked for: no such table: orders"
	if shot.Class != shots.Timeout || !strings.HasPrefix(shot.Err.Error(), want) {
		t.Errorf("%s %v; want %s", shot.Class, shot.Err, want)
	}
}

func TestConformance(t *testing.T) {
	const limit = 150 * time.Millisecond
	y := newYard(t, time.Millisecond)
	quick := map[string]Effect{"call": {Call: true}}
	lost := map[string]Effect{"file": {File: "never-{{key}}"}}
	slow, hangs := y.settings(lost), y.settings(lost)
	slow.Within, hangs.Within = plan.Span(limit), plan.Span(time.Hour)
	gone, closed, failing := y.settings(quick), y.settings(quick), New().(*Settings)
	gone.Request, closed.Request = &Request{URL: y.URL + "/gone"}, &Request{URL: "http://127.0.0.1:1/"}
	failing.Shell, failing.Effects = "exit 3", quick
	far := &query.Question{At: "postgres://harbour@10.1.2.3:5432/board", Statement: "select 1"}
	away := func(change func(*Settings)) plan.Settings {
		s := y.settings(map[string]Effect{"call": {Call: true}})
		change(s)
		return s
	}
	conformance.Run(t, conformance.Subject{
		Kind: Kind, Good: y.settings(quick), Body: "taken", Hangs: hangs, Slow: slow, Limit: limit,
		Failures: map[shots.Class]plan.Settings{shots.Status: gone, shots.Refused: closed, shots.Exit: failing},
		Elsewhere: []plan.Settings{
			away(func(s *Settings) { s.Request.URL = "http://10.1.2.3/" }),
			away(func(s *Settings) { s.Effects["call"] = Effect{Events: "http://10.1.2.3/"} }),
			away(func(s *Settings) { s.Effects["call"] = Effect{Socket: "ws://10.1.2.3/"} }),
			away(func(s *Settings) { s.Effects["call"] = Effect{Poll: "http://10.1.2.3/"} }),
			away(func(s *Settings) { s.Effects["call"] = Effect{Query: far} }),
			away(func(s *Settings) { s.Request, s.Query = nil, far }),
		},
	})
}

func TestSettings(t *testing.T) {
	for want, change := range map[string]func(*Settings){
		"nothing says what is done":         func(s *Settings) { s.Request = nil },
		"a deed is one thing":               func(s *Settings) { s.Shell = "ls" },
		"nothing says what the deed brings": func(s *Settings) { s.Effects = nil },
		"nothing says how it is seen":       func(s *Settings) { s.Effects["a"] = Effect{} },
		"in several ways: call, poll": func(s *Settings) {
			s.Effects["a"] = Effect{Call: true, Poll: "http://127.0.0.1/"}
		},
		"10.1.2.3 is not this machine":        func(s *Settings) { s.Effects["a"] = Effect{Poll: "http://10.1.2.3/"} },
		`"ftp://127.0.0.1" is not an address`: func(s *Settings) { s.Request.URL = "ftp://127.0.0.1" },
		"it is seen when it comes":            func(s *Settings) { s.Effects["a"] = Effect{Call: true, Every: 1e6} },
		"would be a load of its own":          func(s *Settings) { s.Effects["a"] = Effect{Check: "ls", Every: 1000} },
		`no effect is called "b"`:             func(s *Settings) { s.Until = "b" },
		`"deed" is no name for an effect`:     func(s *Settings) { s.Effects = map[string]Effect{"deed": {Call: true}} },
		"a limit of 3h0m0s":                   func(s *Settings) { s.Within = plan.Span(3 * time.Hour) },
		"{{key}} stands in quotes": func(s *Settings) {
			s.Request, s.Query = nil, &query.Question{At: "sqlite:a.db", Statement: "insert into a values ('{{key}}')"}
		},
		"no column is called name": func(s *Settings) {
			s.Effects["a"] = Effect{Query: &query.Question{At: "sqlite:a.db", Statement: "select {{name}}"}}
		},
		"nothing ties it to its deed": func(s *Settings) { s.Effects["a"] = Effect{File: "out", Has: "done"} },
	} {
		s := New().(*Settings)
		s.Request, s.Effects = &Request{URL: "http://127.0.0.1:80/"}, map[string]Effect{"a": {Call: true}}
		change(s)
		faults := s.Check(plan.Surroundings{})
		if len(faults) != 1 || !strings.Contains(faults[0].What, want) {
			t.Errorf("%v; want %s", faults, want)
		}
	}
	s := New().(*Settings)
	s.Put, s.Until = &Put{File: "in/{{key}}"}, "b"
	s.Effects = map[string]Effect{"b": {File: "out/{{key}}"}, "a": {Check: "test -f x", Every: plan.Span(time.Second)}}
	if got, want := s.Summary(), "put in/{{key}}, then a (check every 1s), b (file), until b"; got != want {
		t.Errorf("%q; want %q", got, want)
	}
	if f := s.Floors(); len(f) != 1 || f["a"] != time.Second {
		t.Errorf("%v", f)
	}
}
