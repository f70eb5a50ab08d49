package command

import (
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/conformance"
	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

func TestMain(m *testing.M) {
	keeper.Run()
	if how := os.Getenv(holding); how != "" {
		hold(how)
		return
	}
	os.Exit(m.Run())
}

func shell(line string, change func(*Settings)) *Settings {
	s := New().(*Settings)
	s.Shell, s.Stdout = line, "pipe"
	if change != nil {
		change(s)
	}
	return s
}

// marker makes a shot's processes countable.
const marker = "paceduel-conformance-sleeper"

func sleepers() int {
	out, _ := exec.Command("pgrep", "-f", marker).Output()
	return len(strings.Fields(string(out)))
}

func TestConformance(t *testing.T) {
	limit := 150 * time.Millisecond
	conformance.Run(t, conformance.Subject{
		Kind: Kind,
		Good: shell("echo tide is in", nil), Body: "tide is in\n",
		Hangs: shell("sleep 600 & wait # "+marker, nil),
		Slow:  shell("sleep 600 & sleep 600 # "+marker, func(s *Settings) { s.Timeout = plan.Span(limit) }), Limit: limit,
		Failures: map[shots.Class]plan.Settings{
			shots.Exit:    shell("echo no such berth >&2; exit 3", nil),
			shots.Signal:  shell("kill -SEGV $$", nil),
			shots.NoStart: shell("echo", func(s *Settings) { s.Stdin = "not-there.txt" }),
		},
		LeftBehind: sleepers,
	})
}

func shoot(t *testing.T, s *Settings) shots.Shot {
	t.Helper()
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	shot := shots.Shot{View: &shots.View{}}
	c.Shoot(t.Context(), &shot)
	return shot
}

func TestInputEnvironmentAndFolder(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "manifest.txt"), []byte("salt cod\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	s := shell(`read line; printf '%s|%s|%s' "$line" "$TIDE" "$PWD"`, func(s *Settings) {
		s.Dir, s.Stdin, s.Env = dir, filepath.Join(dir, "manifest.txt"), map[string]plan.Word{"TIDE": "low"}
	})
	shot := shoot(t, s)
	if got, want := string(shot.View.Body), "salt cod|low|"+dir; got != want {
		t.Errorf("the program saw %q; want %q", got, want)
	}
	if shot.Sent != int64(len("salt cod\n")) {
		t.Errorf("sent %d bytes of input; want %d", shot.Sent, len("salt cod\n"))
	}
}

func TestInputStartsOverForEveryRun(t *testing.T) {
	file := filepath.Join(t.TempDir(), "in")
	if err := os.WriteFile(file, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	d, err := open(contender.Setup{Clock: clock.Start()}, shell("cat", func(s *Settings) { s.Stdin = file }))
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	for i := range 3 {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if shot.Received != 1 {
			t.Errorf("run %d read %d bytes; want 1", i+1, shot.Received)
		}
	}
}

func TestOtherExitCodesCanBeExpected(t *testing.T) {
	if shot := shoot(t, shell("exit 3", func(s *Settings) { s.Expect = 3 })); shot.Class != shots.OK {
		t.Errorf("class %s, %v; want ok", shot.Class, shot.Err)
	}
	shot := shoot(t, shell("true", func(s *Settings) { s.Expect = 3 }))
	if shot.Class != shots.Exit || shot.Err.Error() != "exit code 0, expected 3" {
		t.Errorf("class %s, %v; want the unexpected exit code", shot.Class, shot.Err)
	}
}

func TestFailureCarriesLastWords(t *testing.T) {
	tests := []struct{ name, line, want string }{
		{"the last lines in one", "for i in 1 2 3 4 5; do echo line $i >&2; done; exit 9", "line 3 / line 4 / line 5"},
		{"the end of much", "seq 5000 >&2; exit 9", "4998 / 4999 / 5000"},
		{"nothing that a terminal obeys", `printf 'no\033[2Jberth\377\n\n' >&2; exit 9`, "no·[2Jberth·"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			shot := shoot(t, shell(tt.line, nil))
			if want := "exit code 9, expected 0: " + tt.want; shot.Err == nil || shot.Err.Error() != want {
				t.Errorf("failure says %v; want %q", shot.Err, want)
			}
		})
	}
}

func TestBusyRunsReportTheirCPU(t *testing.T) {
	// Three forks of dd copy enough to need tens of milliseconds in all, counted in ticks of 4 ms.
	shot := shoot(t, shell("for i in 1 2 3; do dd if=/dev/zero of=/dev/null bs=1M count=2000 2>/dev/null; done", nil))
	if shot.Class != shots.OK || used(shot, cpu) < 10*time.Millisecond || used(shot, cpu) > 3*shot.Latency() {
		t.Errorf("%s of CPU within %s, %v", used(shot, cpu), shot.Latency(), shot.Err)
	}
	// Copying nothing to nowhere is the kernel's work; counting is the program's own.
	if used(shot, kernel) < used(shot, cpu)/2 || used(shot, kernel) > used(shot, cpu) {
		t.Errorf("%s of %s of CPU in the kernel; want most of it", used(shot, kernel), used(shot, cpu))
	}
	counting := shoot(t, shell("i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done", nil))
	if own := used(counting, cpu) - used(counting, kernel); counting.Class != shots.OK || own < used(counting, cpu)/2 ||
		used(counting, cpu) < 10*time.Millisecond {
		t.Errorf("%s of %s of CPU outside the kernel; want most of it", own, used(counting, cpu))
	}
}

// Several at once: each process is waited for by the client that started it.
func TestCommandsSideBySide(t *testing.T) {
	d, err := open(contender.Setup{
		Dir: t.TempDir(), Clock: clock.Start(),
	}, shell("sleep 0.02; exit $((RUN % 3))", func(s *Settings) { s.Env = map[string]plan.Word{"RUN": "3"} }))
	if err != nil {
		t.Fatal(err)
	}
	const clients, runs = 6, 5
	var wg sync.WaitGroup
	began := time.Now()
	var alone atomic.Int64 // what the runs took one by one
	for i := range clients {
		wg.Go(func() {
			c := d.Client(i, clients)
			defer c.Close()
			for range runs {
				var shot shots.Shot
				c.Shoot(t.Context(), &shot)
				if shot.Class != shots.OK || shot.Latency() < 20*time.Millisecond || shot.LeftBehind != 0 {
					t.Errorf("client %d: %s %v in %s, %d left behind", i, shot.Class, shot.Err, shot.Latency(), shot.LeftBehind)
				}
				alone.Add(int64(shot.Latency()))
			}
		})
	}
	wg.Wait()
	if took := time.Since(began); took > time.Duration(alone.Load())*3/4 {
		t.Errorf("%s for what takes %s one after another", took, time.Duration(alone.Load()))
	}
}

// What a run leaves behind is ended and counted, in its group or in a session of its own, however it was come by.
func TestLeftoversOfAGoodRunAreEnded(t *testing.T) {
	const quiet = " >/dev/null 2>&1 & echo $!"
	for name, tt := range map[string]struct {
		line string
		want int
	}{
		"in the group":           {"sleep 600" + quiet, 1},
		"two in the group":       {"sleep 601 >/dev/null 2>&1 & sleep 600" + quiet, 2},
		"in its own session":     {"setsid sleep 600" + quiet + "; sleep 0.05", 1}, // until it has left the group
		"one of each":            {"sleep 601 >/dev/null 2>&1 & setsid sleep 600" + quiet + "; sleep 0.05", 2},
		"a child of the ended":   {"setsid sh -c 'sleep 602 & wait'" + quiet + "; sleep 0.05", 1},
		"none that had ended":    {"true & echo $!; wait", 0},
		"none that was replaced": {"echo $$; exec true", 0},
	} {
		t.Run(name, func(t *testing.T) {
			for _, measured := range []bool{false, true} {
				d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, shell(tt.line, nil))
				if err != nil {
					t.Fatal(err)
				}
				c := d.Client(0, 1)
				shot := shots.Shot{View: &shots.View{}, Measure: measured}
				c.Shoot(t.Context(), &shot)
				c.Close()
				pid, err := strconv.Atoi(strings.TrimSpace(string(shot.View.Body)))
				if err != nil || shot.Class != shots.OK {
					t.Fatalf("class %s, output %q", shot.Class, shot.View.Body)
				}
				if alive(pid) {
					t.Errorf("process %d is left after its run", pid)
				}
				// A child of what is ended is found when it has fallen to us.
				if got := shot.LeftBehind + d.Sweep(); got < tt.want || got > tt.want+1 || tt.want == 0 && got > 0 {
					t.Errorf("measured %v: %d left behind; want %d", measured, got, tt.want)
				}
			}
		})
	}
	if left := exec.Command("pgrep", "-f", "^sleep 60[0-2]$").Run(); left == nil {
		t.Error("something sleeps on")
	}
}

func TestOutputIsCounted(t *testing.T) {
	for _, where := range []string{"pipe", "file", "terminal"} {
		for _, measured := range []bool{false, true} {
			d, err := open(contender.Setup{
				Dir: t.TempDir(), Clock: clock.Start(),
			}, shell("seq 1000; printf end", func(s *Settings) { s.Stdout = where }))
			if err != nil {
				t.Fatal(err)
			}
			c := d.Client(0, 1)
			shot := shots.Shot{Measure: measured}
			c.Shoot(t.Context(), &shot)
			c.Close()
			want := int64(3893 + 3)
			if where == "terminal" {
				want += 1000 // which ends lines with two characters
			}
			if shot.Class != shots.OK || shot.Amounts[lines] != 1000 || shot.Received != want {
				t.Errorf(
					"%s: %d lines, %d bytes, %s %v; want 1000 of %d", where, shot.Amounts[lines], shot.Received, shot.Class, shot.Err,
					want,
				)
			}
		}
	}
}

func alive(pid int) bool {
	stat, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err == nil && !strings.Contains(string(stat), ") Z ")
}

func TestProgramIsLookedUpOnce(t *testing.T) {
	dir := t.TempDir()
	tool := filepath.Join(dir, "tool")
	if err := os.WriteFile(tool, []byte("#!/bin/sh\necho hi\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	beside := t.TempDir()
	if err := os.WriteFile(filepath.Join(beside, "beside"), []byte("#!/bin/sh\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	tests := []struct{ name, program, want string }{
		{"relative to the working directory", "./tool", ""},
		{"absolute", tool, ""},
		{"not on PATH", "no-such-tool", "run no-such-tool: no such program on PATH"},
		{"mistyped", "gzzip", "did you mean gzip?"},
		{"beside the plan", "./beside", ""},
		{"not there", "./other", "no such file or directory"},
		{"a folder", ".", "no such program on PATH"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := open(contender.Setup{
				Dir: dir, PlanDir: beside, Clock: clock.Start(),
			}, &Settings{Run: []plan.Word{plan.Word(tt.program)}, Timeout: 1})
			said := fmt.Sprint(err, "; ", contender.HintOf(err))
			if tt.want == "" && err != nil || tt.want != "" && (err == nil || !strings.Contains(said, tt.want)) {
				t.Errorf("open says %s; want %q", said, tt.want)
			}
		})
	}
}

func TestCheckRefusesContradictions(t *testing.T) {
	file := filepath.Join(t.TempDir(), "f")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	tests := []struct {
		name string
		s    Settings
		want string
	}{
		{"nothing to run", Settings{Timeout: 1}, "nothing says what to run"},
		{"run and shell", Settings{Run: []plan.Word{"a"}, Shell: "b", Timeout: 1}, "both run and shell are set"},
		{"no program", Settings{Run: []plan.Word{""}, Timeout: 1}, "the program's name is empty"},
		{"no time", Settings{Shell: "a"}, "a limit of no time at all"},
		{"folder is a file", Settings{Shell: "a", Timeout: 1, Dir: file}, "is not a folder"},
		{"input is not there", Settings{Shell: "a", Timeout: 1, Stdin: file + "x"}, "is not a file that can be read"},
		{"good", Settings{Shell: "a", Timeout: 1, Stdin: file}, ""},
	}
	for _, tt := range tests {
		faults := tt.s.Check(plan.Surroundings{})
		switch {
		case tt.want == "" && len(faults) > 0, tt.want != "" && (len(faults) != 1 ||
			!strings.Contains(faults[0].What, tt.want)):
			t.Errorf("%s: Check = %v; want %q", tt.name, faults, tt.want)
		}
	}
}

func TestSummaryCanBeTyped(t *testing.T) {
	tests := []struct {
		s    Settings
		want string
	}{
		{Settings{Run: []plan.Word{"gzip", "-1", "a b", "it's", ""}}, `gzip -1 'a b' 'it'\''s' ''`},
		{Settings{Run: []plan.Word{"wc"}, Stdin: "manifest.txt"}, "wc < manifest.txt"},
		{Settings{Shell: "a | b"}, "a | b"},
	}
	for _, tt := range tests {
		if got := tt.s.Summary(); got != tt.want {
			t.Errorf("Summary() = %s; want %s", got, tt.want)
		}
	}
}

func TestVersionIsTheToolsFirstLine(t *testing.T) {
	tests := map[string]string{
		"echo packer 2.1; echo licence": "packer 2.1", "echo; echo '  v3  ' >&2": "v3", "exit 1": "",
		"sleep 60 & echo v4": "v4",
	}
	for line, want := range tests {
		shot := shoot(t, shell("true", func(s *Settings) { s.Version = []plan.Word{"sh", "-c", plan.Word(line)} }))
		if shot.View.Version != want || shot.Class != shots.OK {
			t.Errorf("%s: version %q, class %s; want %q", line, shot.View.Version, shot.Class, want)
		}
	}
	if shot := shoot(
		t, shell("true", func(s *Settings) { s.Version = []plan.Word{"no-such-tool"} }),
	); shot.View.Version != "" || shot.Class != shots.OK {
		t.Errorf("a version that cannot be asked for spoils the shot: %q, %s", shot.View.Version, shot.Class)
	}
}

// Where output goes changes what a tool sees, and is counted wherever we can see it.
func TestWhereOutputGoes(t *testing.T) {
	tests := []struct {
		stdout, body string
		received     int64
	}{
		{"discard", "file", 4}, {"pipe", "pipe", 4}, {"file", "file", 4}, {"terminal", "terminal 100x30", 15},
	}
	const line = `exec 3>&1; if [ -t 1 ]; then set -- $(stty size <&3); printf 'terminal %sx%s' $2 $1; elif [ -p /dev/stdout ]; then printf pipe; else printf file; fi`
	for _, tt := range tests {
		shot := shoot(t, shell(line, func(s *Settings) { s.Stdout, s.Size = tt.stdout, plan.Size{Columns: 100, Rows: 30} }))
		if shot.View.Terminal != (tt.stdout == "terminal") {
			t.Errorf("output to %s: a terminal %v", tt.stdout, shot.View.Terminal)
		}
		if string(shot.View.Body) != tt.body || shot.Received != tt.received || shot.Class != shots.OK {
			t.Errorf(
				"%s: printed %q, %d bytes, %s %v; want %q, %d bytes", tt.stdout, shot.View.Body, shot.Received, shot.Class,
				shot.Err, tt.body, tt.received,
			)
		}
	}
}

func TestLastWordsOnATerminal(t *testing.T) {
	d, err := open(contender.Setup{
		Clock: clock.Start(),
	}, shell("echo the quay is closed >&2; exit 3", func(s *Settings) { s.Stdout = "terminal" }))
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	if shot.Class != shots.Exit || !strings.Contains(shot.Err.Error(), "the quay is closed") {
		t.Errorf("class %s, %v; want its last words", shot.Class, shot.Err)
	}
}

// A sample is kept without sending the output anywhere else than other runs' goes.
func TestSamplesDoNotChangeWhatIsMeasured(t *testing.T) {
	for stdout, known := range map[string]bool{"discard": false, "pipe": true, "file": true} {
		d, err := open(contender.Setup{
			Clock: clock.Start(),
		}, shell(`exec 3>&1; readlink /proc/$$/fd/3 >&2; printf tide`, func(s *Settings) { s.Stdout = stdout }))
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		shot := shots.Shot{View: &shots.View{Sample: true}}
		c.Shoot(t.Context(), &shot)
		c.Close()
		if shot.View.Known != known || known && string(shot.View.Body) != "tide" || stdout == "discard" &&
			strings.TrimSpace(string(shot.View.Stderr)) != os.DevNull {
			t.Errorf("%s: sample %+v, printed to %s", stdout, shot.View, shot.View.Stderr)
		}
	}
}

func TestProcessorsAndNiceness(t *testing.T) {
	d, err := open(contender.Setup{
		Clock: clock.Start(), CPUs: plan.CPUs{0}, Nice: 7,
	}, shell(`sleep 0.05; nice; grep Cpus_allowed_list /proc/self/status`, nil))
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	shot := shots.Shot{View: &shots.View{}}
	c.Shoot(t.Context(), &shot)
	got := strings.Fields(string(shot.View.Body))
	if launch.Usable(plan.CPUs{0}) == nil {
		t.Skip("processor 0 is not for us here")
	}
	if len(got) != 3 || got[0] != "7" || got[2] != "0" {
		t.Errorf("niceness and processors %q; want 7 and 0", got)
	}
}

// The workspace may hold another copy at each run.
func TestInputIsOpenedAnew(t *testing.T) {
	file := filepath.Join(t.TempDir(), "in")
	d, err := open(contender.Setup{Clock: clock.Start()}, shell("cat", func(s *Settings) { s.Stdin = file }))
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	for i, text := range []string{"ebb", "flood"} {
		os.Remove(file)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		shot := shots.Shot{View: &shots.View{}}
		c.Shoot(t.Context(), &shot)
		if string(shot.View.Body) != text {
			t.Errorf("run %d read %q; want %q", i+1, shot.View.Body, text)
		}
	}
}

func TestMarksOfACommand(t *testing.T) {
	tests := []struct{ stdout, line, want string }{
		{"pipe", `echo "startup 412 ms"; echo '{"mark":"render","ms":31}' >&2`, "startup=412ms render=31ms all=443ms"},
		{"file", `echo "startup 2 s"`, "startup=2s"},
		{"pipe", `echo "startup 1 ms"; exit 1`, ""}, // a failure tells nothing
		{"pipe", `echo "tide is in"`, ""},
	}
	for _, tt := range tests {
		s := shell(tt.line, func(s *Settings) {
			s.Stdout = tt.stdout
			s.Marks = plan.Marks{"startup": {
				Pattern: `startup ([0-9]+ \w+)`,
			}, "render": {Pointer: "/ms", From: "stderr"}, "all": {Sum: plan.Lines{"startup", "render"}}}
		})
		if faults := s.Check(plan.Surroundings{Dir: t.TempDir()}); len(faults) > 0 {
			t.Fatal(faults)
		}
		d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s)
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		for range 2 { // a second run tells no more than the first
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			told := map[string]time.Duration{}
			for _, m := range shot.Told {
				told[m.Name] = time.Duration(math.Round(m.Value * 1e9))
			}
			got := ""
			for _, name := range []string{"startup", "render", "all"} {
				if took, ok := told[name]; ok {
					got = strings.TrimSpace(got + " " + name + "=" + took.String())
				}
			}
			if got != tt.want {
				t.Errorf("%s, %s: told %q; want %q", tt.stdout, tt.line, got, tt.want)
			}
		}
		c.Close()
	}
	for stdout, from := range map[string]string{"discard": "", "terminal": "stderr"} {
		s := shell("true", func(s *Settings) {
			s.Stdout, s.Marks = stdout, plan.Marks{"startup": {Pattern: "(x)", From: from}}
		})
		if faults := s.Check(plan.Surroundings{Dir: t.TempDir()}); len(faults) != 1 || faults[0].Key != "marks.startup" {
			t.Errorf("%s: faults %v", stdout, faults)
		}
	}
}

// What is run, and what tells a version, find where they stand in PWD, and cannot reach what their workspace was copied
// from.
func TestWhereACommandStands(t *testing.T) {
	caller, plans, workspace := t.TempDir(), t.TempDir(), t.TempDir()
	t.Chdir(caller)
	t.Setenv("PWD", caller)
	original := filepath.Join(plans, "manifest.txt")
	if err := os.WriteFile(original, []byte("salt cod\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(workspace, "quay"), 0o755); err != nil {
		t.Fatal(err)
	}
	fence, err := launch.NewFence([]string{plans}, nil)
	if err != nil && !errors.Is(err, os.ErrPermission) {
		t.Fatal(err)
	}
	defer fence.Close()
	s := shell(`echo "$PWD $(pwd)"; echo sole > "$ORIGINAL"; true`, func(s *Settings) {
		s.Dir = "quay"
		s.Env = map[string]plan.Word{"ORIGINAL": plan.Word(original)}
		s.Version = []plan.Word{"sh", "-c", `echo "$PWD"; echo ling > "$ORIGINAL"`}
	})
	d, err := open(contender.Setup{Dir: workspace, PlanDir: plans, Clock: clock.Start(), Fence: fence}, s)
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	want := filepath.Join(workspace, "quay")
	for _, measure := range []bool{false, true} { // plainly, and traced
		shot := shots.Shot{View: &shots.View{}, Measure: measure}
		c.Shoot(t.Context(), &shot)
		if got := string(shot.View.Body); got != want+" "+want+"\n" || shot.Class != shots.OK {
			t.Errorf("it stands in %q, %v; want %q", got, shot.Err, want)
		}
		if shot.View.Version != want && fence == nil {
			t.Errorf("its version is told from %q; want %q", shot.View.Version, want)
		}
		if measure && shot.Amounts[memory] == 0 {
			t.Error("behind a fence memory is not known")
		}
	}
	if text, err := os.ReadFile(original); fence != nil && string(text) != "salt cod\n" {
		t.Errorf("the original holds %q now, %v", text, err)
	}
}

// Runs that fail in the midst of others are classed by what the program did itself, by its own count: every so many end
// with another exit code, by a signal, or after their limit, and none of them becomes a success or one of another
// class.
func TestFailuresInMidRunAreTheProgramsOwn(t *testing.T) {
	dir := t.TempDir()
	// Each run appends a byte to a file for all of them, which gives it a number of its own, and to one for the way it
	// ended: O_APPEND keeps every one.
	const line = `n=$(flock 9; printf x >&9; wc -c < all) 9>> all
case $((n % 10)) in
3) printf x >> exit; exit 3 ;;
5) printf x >> signal; kill -KILL $$ ;;
7) printf x >> timeout; sleep 600 ;;
*) printf x >> ok ;;
esac`
	d, err := open(contender.Setup{
		Dir: dir, Clock: clock.Start(),
	}, shell(line, func(s *Settings) { s.Timeout = plan.Span(2 * time.Second) }))
	if err != nil {
		t.Fatal(err)
	}
	const clients, each = 4, 15
	var ours [shots.Classes]atomic.Int64
	var wg sync.WaitGroup
	for i := range clients {
		wg.Go(func() {
			c := d.Client(i, clients)
			defer c.Close()
			for range each {
				var shot shots.Shot
				c.Shoot(t.Context(), &shot)
				ours[shot.Class].Add(1)
			}
		})
	}
	wg.Wait()
	count := func(name string) int64 {
		text, _ := os.ReadFile(filepath.Join(dir, name))
		return int64(len(text))
	}
	if got := count("all"); got != clients*each {
		t.Errorf("the program ran %d times for %d runs", got, clients*each)
	}
	for class, name := range map[shots.Class]string{
		shots.OK: "ok", shots.Exit: "exit", shots.Signal: "signal", shots.Timeout: "timeout",
	} {
		if got, want := ours[class].Load(), count(name); got != want || want == 0 {
			t.Errorf("%s: %d by our count, %d by the program's", class, got, want)
		}
	}
}

// used is so much of an amount that is a time.
func used(shot shots.Shot, amount int) time.Duration { return time.Duration(shot.Amounts[amount]) }

// A run that lasts is looked at from outside: what it holds, and the processors and bytes that it uses.
func TestLongRunsAreLookedAt(t *testing.T) {
	s := shell("i=0; end=$(($(date +%s%N) / 1000000 + 1400)); while [ $(($(date +%s%N) / 1000000)) -lt $end ]; do "+
		"head -c 100000 /dev/zero; done > /dev/null", func(*Settings) {})
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	c := d.Client(0, 1)
	defer c.Close()
	var long, short shots.Shot
	c.Shoot(t.Context(), &long)
	n := len(long.Course)
	if n < 4 || long.Course[0].At != long.Start || long.Course[n-1].At > long.End {
		t.Fatalf("%s from %s to %s: %d moments: %+v", long.Class, long.Start, long.End, n, long.Course)
	}
	for i, m := range long.Course[1:] {
		if before := long.Course[i]; m.Resident <= 0 || m.Processes < 1 || m.At <= before.At || m.CPU < before.CPU {
			t.Errorf("moment %d is %+v, after %+v", i+1, m, before)
		}
	}
	if last := long.Course[n-1]; last.CPU <= 0 || last.Read <= 0 {
		t.Errorf("by its end it had used %s and read %d bytes", last.CPU, last.Read)
	}
	d2, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, shell("true", func(*Settings) {}))
	if err != nil {
		t.Fatal(err)
	}
	defer d2.Close()
	quick := d2.Client(0, 1)
	defer quick.Close()
	if quick.Shoot(t.Context(), &short); len(short.Course) != 0 {
		t.Errorf("a short run has %d moments", len(short.Course))
	}
}

// Lines with a time become what happens inside a run, by the run's own time.
func TestStepsOutOfLines(t *testing.T) {
	lines := plan.StepLines{
		Begin: `^(?P<time>\S+) begin (?P<step>.+)$`, End: `^(?P<time>\S+) end (?P<step>.+)$`,
	}
	for from, to := range map[string]string{"": "1", "stderr": "2"} {
		said := lines
		said.From = from
		s := shell("{ echo 0.000001 begin load; echo 3us end load; date '+%s.%N begin sort'; date '+%s.%N end sort'; } >&"+to,
			nil)
		s.Lines, s.Stdout = &said, ""
		s.Complete()
		d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s)
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		c.Close()
		if shot.Class != shots.OK || len(shot.Inside) != 2 {
			t.Fatalf("%v: %+v", shot.Err, shot.Inside)
		}
		load, sort := shot.Inside[0], shot.Inside[1]
		took := shot.End - shot.Start
		if load.Name != "load" || load.Begin != time.Microsecond || load.End != 3*time.Microsecond || sort.Name != "sort" {
			t.Errorf("%+v, %+v", load, sort)
		}
		if sort.Begin < 0 || sort.End < sort.Begin || sort.End > took+time.Millisecond {
			t.Errorf("sort from %s to %s of %s", sort.Begin, sort.End, took)
		}
	}
	bad := shell("true", nil)
	bad.Lines, bad.Stdout = &lines, "discard"
	if faults := bad.Check(plan.Surroundings{Dir: t.TempDir()}); len(faults) != 1 || faults[0].Key != "lines" {
		t.Errorf("%+v", faults)
	}
}
