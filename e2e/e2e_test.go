// Package e2e drives the real program: headless as scripts do, and in a terminal (tmux) as people do.
//
// Whatever it needs besides Go is checked in TestMain, which says plainly what is missing; nothing is skipped silently.
package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"paceduel/core/result"
	"paceduel/core/shots"
)

// program is the binary under test, built once.
var program string

// withoutTerminal is set where tmux cannot be had; make test says so then.
const withoutTerminal = "PACEDUEL_TEST_WITHOUT_TERMINAL"

// beside lets a test run beside others that want no quiet machine, either. They wait for most of their time.
func beside(t *testing.T) {
	t.Helper()
	t.Parallel()
}

func TestMain(m *testing.M) {
	if _, err := exec.LookPath("tmux"); err != nil && os.Getenv(withoutTerminal) == "" {
		fmt.Fprintln(
			os.Stderr,
			"the interface tests need tmux, which is not installed; make test installs it where it may,\n"+
				"or set "+withoutTerminal+"=1 to leave these tests out knowingly",
		)
		os.Exit(1)
	}
	dir, err := os.MkdirTemp("", "paceduel-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(dir, "paceduel")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/paceduel").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build the program: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// outcome is what came of a run of the program.
type outcome struct {
	status      int
	out, errout string
}

// home is a folder with its own logbook, and the environment that leads there.
type home struct {
	dir string
	env []string
}

func newHome(t testing.TB) home {
	t.Helper()
	dir := t.TempDir()
	return home{dir, append(os.Environ(), "XDG_DATA_HOME="+filepath.Join(dir, "data"), "TERM=xterm-256color",
		"NO_COLOR=")}
}

func (h home) write(t testing.TB, name, text string) {
	t.Helper()
	path := filepath.Join(h.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func (h home) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = h.dir, h.env
	return cmd
}

func (h home) run(t testing.TB, args ...string) outcome {
	t.Helper()
	var out, errout bytes.Buffer
	cmd := h.command(args...)
	cmd.Stdout, cmd.Stderr = &out, &errout
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return outcome{cmd.ProcessState.ExitCode(), out.String(), errout.String()}
}

// says checks status and words. What the verdict is depends on the machine's mood; that there is one does not.
func (o outcome) says(t testing.TB, status int, parts ...string) {
	t.Helper()
	if o.status != status {
		t.Errorf("status %d; want %d\n%s%s", o.status, status, o.out, o.errout)
	}
	for _, p := range parts {
		if !holds(o.out+o.errout, p) {
			t.Errorf("it does not say %q:\n%s%s", p, o.out, o.errout)
		}
	}
}

// holds reports whether text has part in it, wherever its lines are broken.
func holds(text, part string) bool {
	return strings.Contains(text, part) || strings.Contains(strings.Join(strings.Fields(text), " "), part)
}

const quick = `duel: Count
baseline: short
contenders:
  short: { command: { shell: "i=0; while [ $i -lt 200 ]; do i=$((i+1)); done" } }
  long: { command: { shell: "i=0; while [ $i -lt 40000 ]; do i=$((i+1)); done" } }
pace: { repeat: 2 }
rounds: 8
`

func TestRunJudgesKeepsAndExports(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "count.duel.yaml", quick)
	o := h.run(t, "run", "count.duel.yaml", "--json", "out.json", "--seed", "7")
	o.says(t, 0, "heat 16 of 16", "long is ", "in the mean", "seed 7", "too few: needs 10 shots a heat")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil || r.Seed != 7 || len(r.Heats) != 16 || r.Ending != result.Done {
		t.Fatalf("the result file holds %+v, %v", r, err)
	}
	h.run(t, "log").says(t, 0, r.ID, "Count", "in the mean")
	h.run(t, "show", r.ID).says(t, 0, "in the mean")
	h.run(t, "show", "out.json").says(t, 0, "in the mean")
	h.run(t, "show").says(t, 0, "in the mean", "run "+r.ID)
	h.run(t, "export", r.ID, "--to", "pictures").says(
		t, 0, "count-long-"+r.ID+".svg", ".pdf", ".json", "count-distribution-"+r.ID+".svg", "count-tail-"+r.ID+".pdf",
		"count-timeline-"+r.ID+".svg", "count-"+r.ID+".md", ".csv",
	)
	report, err := os.ReadFile(filepath.Join(h.dir, "pictures", "count-"+r.ID+".md"))
	for _, part := range []string{
		"# Count", "**long is ", "## Figures", "| **mean** |", "## Cautions", "paceduel run count.duel.yaml --seed 7", "![",
		"pace: { repeat: 2 }",
	} {
		if err != nil || !strings.Contains(string(report), part) {
			t.Errorf("the report lacks %q (%v):\n%s", part, err, report)
		}
	}
	for _, ending := range []string{".svg", ".pdf"} {
		if info, err := os.Stat(filepath.Join(h.dir, "pictures", "count-long-"+r.ID+ending)); err != nil ||
			info.Size() < 5000 {
			t.Errorf("the exported %s: %v", ending, err)
		}
	}
	o = h.run(t, "run", "count.duel.yaml", "--json", "-", "--rounds", "1", "--only", "long")
	var doc map[string]any
	if err := json.Unmarshal([]byte(o.out), &doc); err != nil || o.status != 0 {
		t.Errorf("--json - does not print the result alone: %v", err)
	}
}

// The baseline against itself, and a run that ends when it is settled.
func TestMirrorAndAuto(t *testing.T) {
	h := newHome(t)
	h.write(
		t, "count.duel.yaml", quick+"decides: mean\nstakes: { runs-per-day: 1000, minute-price: 2, currency: crowns }\n",
	)
	o := h.run(t, "run", "count.duel.yaml", "--mirror", "--rounds", "auto up to 10", "--json", "out.json", "--seed", "7")
	o.says(
		t, 0, "short again", "the baseline against itself", "stakes", "minutes in a month of 30 days: short ",
		"runs-per-day x 30 x mean / 60 s", " crowns",
	)
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil || len(r.Entrants) != 3 || !r.Entrants[2].Mirror {
		t.Fatalf("%v: %+v", err, r)
	}
	if n := len(r.Order); n != 5 && n != 10 { // it is some hundred times as slow; but who knows what else goes on
		t.Errorf("it ended after %d rounds", n)
	}
	h.run(t, "run", "count.duel.yaml", "--mirror", "--only", "short", "--rounds", "6").says(t, 0, "short again is ")
	h.run(t, "run", "count.duel.yaml", "--rounds", "many").says(t, 2, "--set rounds=many", "is not a number of rounds")
}

func TestJudgingWhatWasMeasuredElsewhere(t *testing.T) {
	h := newHome(t)
	var heats []string
	for round := 1; round <= 8; round++ {
		for order, name := range []string{"a", "b"} {
			var samples []string
			for i := range 20 {
				samples = append(samples, fmt.Sprintf("%g", (0.004-0.002*float64(order))*(1+0.001*float64((i*7+round*3)%20))))
			}
			heats = append(heats, fmt.Sprintf(
				`{"round":%d,"order":%d,"contender":%q,"samples_s":[%s]}`, round, order+1, name, strings.Join(samples, ","),
			))
		}
	}
	duel := `{"id":"x","baseline":"a","heats":[` + strings.Join(heats, ",") + "]}\n"
	h.write(t, "good.jsonl", duel+duel)
	o := h.run(t, "judge", "good.jsonl")
	o.says(
		t, 0, `{"id":"x","rounds":8,"figures":[{"contender":"b","figure":"p50","ratio":2`,
		`"verdict":"faster","together":"faster"`,
	)
	if lines := strings.Count(o.out, "\n"); lines != 2 {
		t.Errorf("%d judgements of two duels", lines)
	}
	h.write(t, "bad.jsonl", duel+"nonsense\n"+duel)
	o = h.run(t, "judge", "bad.jsonl")
	o.says(t, 2, "line 2: this is not a duel")
	if lines := strings.Count(o.out, "\n"); lines != 3 {
		t.Errorf("%d answers to three lines", lines)
	}
	h.run(t, "judge", "none.jsonl").says(t, 2, "none.jsonl")
}

func TestExitStatuses(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "count.duel.yaml", quick)
	h.write(t, "broken.duel.yaml", strings.Replace(quick, "repeat", "repeet", 1))
	h.write(t, "wrong.duel.yaml", strings.Replace(
		quick, "shell: \"i=0; while [ $i -lt 40000 ]; do i=$((i+1)); done\"", "run: [no-such-tool]", 1,
	))
	h.write(t, "data.txt", "salt cod")
	h.write(t, "held.duel.yaml", quick+"claims: [ short mean under 1m, long error rate under 50% ]\n")
	h.write(t, "bold.duel.yaml", quick+"claims: [ short mean under 1m, short mean under 1ns ]\n")
	h.write(t, "vague.duel.yaml", quick+"claims: [ short mean undr 1m ]\n")
	tests := []struct {
		args   []string
		status int
		says   []string
	}{
		{[]string{"check", "count.duel.yaml"}, 0, []string{"short: exit code 0 in"}},
		{[]string{
			"run", "broken.duel.yaml",
		}, 2, []string{`broken.duel.yaml:6:9: unknown key "repeet" in pace; did you mean "repeat"?`}},
		{[]string{
			"run", "held.duel.yaml",
		}, 0, []string{"claims", "short mean under 1m: upheld", "long error rate under 50%: upheld, 0 of 16 shots failed"}},
		{[]string{"run", "bold.duel.yaml", "--ci", "reports"}, 1, []string{"short mean under 1ns: refuted"}},
		{[]string{"run", "bold.duel.yaml", "--ci", "data.txt/x"}, 2, []string{"make the folder", "not a directory"}},
		{[]string{
			"run", "vague.duel.yaml",
		}, 2, []string{`"undr" says neither which figure nor how much`, `did you mean "under"?`}},
		{[]string{"run", "none.duel.yaml"}, 2, []string{"no such file"}},
		{[]string{"run"}, 2, []string{"requires at least 1 arg", "--help"}},
		{[]string{"run", "--roundz", "3", "x"}, 2, []string{"unknown flag: --roundz"}},
		{[]string{
			"run", "count.duel.yaml", "--set", "pace.repeat=no",
		}, 2, []string{"--set pace.repeat=no: pace.repeat must be a whole number"}},
		{[]string{"nonsense"}, 2, []string{"no such file"}},
		{
			[]string{"run", "wrong.duel.yaml"}, 3, []string{"long did not pass the weigh-in", "no such program on PATH",
				"try:"},
		},
		{[]string{"check", "wrong.duel.yaml"}, 3, []string{"long did not pass the weigh-in"}},
		{[]string{"between", "--headless", "cat data.txt", "cat none.txt"}, 3, []string{"cat: none.txt: No such file"}},
		{[]string{"between", "--headless", "true"}, 2, []string{"needs 2 to 8 contenders"}},
		{[]string{"show", "zz"}, 2, []string{"no such run"}},
		{[]string{
			"show", "--logbook", "empty.sqlite",
		}, 2, []string{"no runs in", "empty.sqlite yet; paceduel run PLAN makes one"}},
		{[]string{"show", "data.txt"}, 4, []string{"this is not a result of Pace Duel"}},
		{[]string{"open", "data.txt"}, 2, []string{"this is not a result of Pace Duel"}},
		{[]string{"open"}, 2, []string{"needs a terminal"}},
		{[]string{"new", "count"}, 2, []string{"file exists"}},
		{[]string{"schema"}, 0, []string{`"$schema"`, `"contenders"`}},
		{[]string{"new"}, 0, []string{"duel: Manifest compression"}},
	}
	for _, tt := range tests {
		t.Run(strings.Join(tt.args, " "), func(t *testing.T) { h.run(t, tt.args...).says(t, tt.status, tt.says...) })
	}
	for name, want := range map[string]string{
		"paceduel.junit.xml": `tests="2" failures="1" errors="0"`, "paceduel.tap": "not ok 2 - Count: short mean under 1ns",
		"paceduel.md": "1 of 2 claims upheld, 1 duel",
	} {
		text, err := os.ReadFile(filepath.Join(h.dir, "reports", name))
		if err != nil || !strings.Contains(string(text), want) {
			t.Errorf("%s: %v, %s; want %s", name, err, text, want)
		}
	}
}

func TestANewPlanRuns(t *testing.T) {
	h := newHome(t)
	h.write(t, "manifest.txt", strings.Repeat("0001;Brave Petrel;salt cod\n", 2000))
	h.run(t, "new", "packing").says(t, 0, "wrote packing.duel.yaml")
	h.run(t, "run", "packing.duel.yaml", "--rounds", "1").says(t, 0, "After 1 round dense is about")
}

func TestBetweenNeedsNoPlan(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "manifest.txt", strings.Repeat("0001;Brave Petrel;salt cod\n", 20000))
	o := h.run(
		t, "between", "--headless", "--keep", "kept.duel.yaml", "gzip -1 -c manifest.txt",
		"cat manifest.txt | (gzip -9; sleep 0.1)",
	)
	o.says(t, 0, "cat manifest.…-9; sleep 0.1)", "gzip -1 -c manifest.txt", "CPU/run")
	h.run(t, "check", "kept.duel.yaml").says(t, 0, "gzip -1 -c manifest.txt: exit code 0")

	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, strings.Repeat(r.URL.Path, 10))
	}))
	defer s.Close()
	h.run(
		t, "between", "--headless", "--json", "u.json", s.URL+"/a", s.URL+"/b",
	).says(t, 0, "4 clients for 500ms", "throughput")
}

func TestUnequalWorkIsRefusedUnlessAccepted(t *testing.T) {
	h := newHome(t)
	h.write(t, "u.duel.yaml", `duel: Unequal
baseline: all
contenders:
  all: { command: { run: [printf, '{"rows":[1,2,3]}'] } }
  some: { command: { run: [printf, '{"rows":[1,2]}'] } }
pace: { repeat: 1 }
rounds: 5
same: { body: json }
`)
	h.run(t, "check", "u.duel.yaml").says(t, 3, "some: not the same JSON", "/rows/2: missing, not 3")
	h.run(t, "run", "u.duel.yaml").says(
		t, 3, "some does not do the same work as the baseline: not the same JSON: /rows/2 is missing, not 3",
		"--accept-unequal",
	)
	h.run(
		t, "run", "u.duel.yaml", "--accept-unequal", "--json", "u.json",
	).says(t, 0, "unequal work was accepted: some broke the plan's rules")
	r, err := result.ReadFile(filepath.Join(h.dir, "u.json"))
	if err != nil || r.Weighing == nil || !r.Weighing.Accepted {
		t.Errorf("the result does not say so: %+v, %v", r.Weighing, err)
	}
	h.run(t, "check", "u.duel.yaml", "--set", "same.body=lines").says(t, 0, "the same work")
	h.run(
		t, "run", "u.duel.yaml", "--rounds", "1", "--set", "same.body=exact", "--set", "same.through=sed 's/,3//'",
	).says(t, 0, "shots that count", "failures")
	h.run(
		t, "check", "u.duel.yaml", "--set", "same.through=grep -c 3",
	).says(t, 3, "some: not read through grep -c 3", "the filter: exit code 1, not its answer")
}

// What goes wrong on the other side is named at once, and nothing hangs.
func TestServersThatMisbehave(t *testing.T) {
	h := newHome(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0") // takes connections in its backlog and never answers
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	endless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for {
			if _, err := w.Write(make([]byte, 1<<16)); err != nil {
				return
			}
		}
	}))
	defer endless.Close()
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	tests := []struct{ name, url, says string }{
		{"refused", gone.URL, "connection refused"},
		{"silent", "http://" + silent.Addr().String(), "no full answer"},
		{"endless", endless.URL, "answer longer than max-body of 1048576 bytes"},
	}
	for _, tt := range tests {
		h.write(t, tt.name+".duel.yaml", fmt.Sprintf(
			"duel: X\nbaseline: a\ncourse: { http: { url: %q, timeout: 300ms, max-body: 1MiB } }\ncontenders: { a: , b: "+
				"}\npace: { clients: 2 }\n",
			tt.url,
		))
		for range 2 { // a file without shots, which is in nobody's way, is not left
			h.run(
				t, "run", tt.name+".duel.yaml", "--shots", "shots.csv",
			).says(t, 3, "a did not pass the weigh-in", tt.says, "try:")
		}
	}
}

// What a failing contender says is shown in short, and cannot play with our terminal; nobody is said to have done the
// same work when nobody was compared.
func TestAFailureIsShownInShort(t *testing.T) {
	h := newHome(t)
	h.write(t, "loud.duel.yaml", `duel: Loud
baseline: a
contenders:
  a: { command: { shell: "seq 3000 | tr '\\n' ' '; printf '\\n\\033[2J'; seq 20; exit 1" } }
  b: { command: { run: ["true"] } }
pace: { repeat: 1 }
`)
	o := h.run(t, "run", "loud.duel.yaml")
	o.says(t, 3, "| 1 2 3 4", "… and 13 7", "| ·[2J1", "and 16 lines more")
	if out := o.out + o.errout; strings.Contains(out, "the same work") || strings.Contains(out, "\x1b") ||
		len(out) > 2000 {
		t.Errorf("it says\n%s", out)
	}
}

func TestALogbookThatCannotBeWrittenStopsNothing(t *testing.T) {
	h := newHome(t)
	h.write(t, "count.duel.yaml", quick)
	h.write(t, "no.sqlite", strings.Repeat("this is no logbook ", 300))
	o := h.run(t, "run", "count.duel.yaml", "--rounds", "1", "--logbook", "no.sqlite", "--json", "out.json")
	o.says(t, 0, "the run goes on; it is kept aside", "long is about")
	if _, err := result.ReadFile(filepath.Join(h.dir, "out.json")); err != nil {
		t.Error(err)
	}
	h.run(t, "log", "--logbook", "no.sqlite").says(t, 4, "open logbook")
	// A full disk: the device accepts nothing.
	o = h.run(t, "run", "count.duel.yaml", "--rounds", "1", "--json", "/dev/full")
	o.says(t, 4, "write result", "long is about")
}

// start runs the program until it has said something on standard error.
func start(t testing.TB, h home, until string, args ...string) (*exec.Cmd, *bytes.Buffer) {
	t.Helper()
	cmd := h.command(args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	pipe, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill() })
	var said strings.Builder
	buf := make([]byte, 4096)
	for !strings.Contains(said.String(), until) {
		n, err := pipe.Read(buf)
		if err != nil {
			t.Fatalf("it ended before saying %q: %s", until, said.String())
		}
		said.Write(buf[:n])
	}
	go func() { // the rest
		for {
			if _, err := pipe.Read(buf); err != nil {
				return
			}
		}
	}()
	return cmd, &out
}

const longRun = `duel: Long
baseline: a
contenders:
  a: { command: { run: [sleep, "0.05"] } }
  b: { command: { shell: "sleep 0.06 & wait" } }
pace: { repeat: 2 }
rounds: 100
`

func TestAnInterruptKeepsTheHeats(t *testing.T) {
	h := newHome(t)
	h.write(t, "long.duel.yaml", longRun)
	cmd, out := start(t, h, "heat 3 of 200", "run", "long.duel.yaml", "--json", "out.json")
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); code != 130 || !strings.Contains(out.String(), "of 100 rounds are complete") {
		t.Errorf("status %d, said\n%s", code, out)
	}
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil || len(r.Heats) < 3 || r.Ending != result.Interrupted {
		t.Errorf("the result file holds %v, %v", r, err)
	}
	h.run(t, "log").says(t, 0, "interrupted after", "of 200 heats")
}

func TestAKilledRunIsFoundCutOffAndLeavesNothing(t *testing.T) {
	h := newHome(t)
	// The weigh-in would wait for b, so b is quick there: it sleeps long only once its flag is set.
	h.write(t, "long.duel.yaml", strings.Replace(
		longRun, "sleep 0.06 & wait", "if [ -e slow ]; then setsid sleep 98.7654 & sleep 98.7654 & wait; fi", 1,
	))
	cmd, _ := start(t, h, "heat 3 of 200", "run", "long.duel.yaml")
	h.write(t, "slow", "")
	deadline := time.Now().Add(20 * time.Second)
	for sleepers() == 0 {
		if time.Now().After(deadline) {
			t.Fatal("the slow run never began")
		}
		time.Sleep(5 * time.Millisecond)
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	for sleepers() > 0 {
		if time.Now().After(deadline) {
			t.Fatalf("%d processes outlived the killed run", sleepers())
		}
		time.Sleep(5 * time.Millisecond)
	}
	o := h.run(t, "log")
	o.says(t, 0, "cut off after", "of 200 heats")
	id, _, _ := strings.Cut(o.out, " ")
	h.run(t, "show", id).says(t, 0, "cut off in mid-run")
}

func sleepers() int { return running("sleep 98.7654") }

// running is how many processes have this command line.
func running(line string) int {
	out, _ := exec.Command("pgrep", "-x", "-f", line).Output()
	return len(strings.Fields(string(out)))
}

const longService = `duel: Long service
baseline: a
course: { command: { run: [sleep, "0.05"] } }
contenders:
  a: { service: { shell: "sleep 97.6543 & setsid sleep 97.6543 & setsid env -i /bin/sleep 97.6543 & echo lit; wait", ready: { line: lit } } }
  b: { service: { shell: "setsid --fork env -i /bin/sleep 97.6543; echo lit; sleep 97.6543", ready: { line: lit }, fresh: duel } }
footing: { workspace: { from: long.duel.yaml, at: copies } }
pace: { repeat: 2 }
rounds: 100
`

// Killed in mid-duel, we leave no service, no child of one, whatever it did with its group and environment, and no copy
// of anything after a second. The quickest of three is held to that, since a busy machine may come between.
func TestAKilledRunLeavesNoService(t *testing.T) {
	h := newHome(t)
	h.write(t, "long.duel.yaml", longService)
	left := func(pattern string) int {
		found, _ := filepath.Glob(filepath.Join(h.dir, pattern))
		return len(found)
	}
	for attempt := 1; ; attempt++ {
		cmd, _ := start(t, h, "heat 2 of 200", "run", "long.duel.yaml")
		if running("sleep 97.6543") == 0 {
			t.Fatal("no service is there to be left")
		}
		if left("copies/*") != 1 {
			t.Fatal("there is no workspace to be left")
		}
		if err := cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		killed := time.Now()
		cmd.Wait()
		for running("(/bin/)?sleep 97.6543") > 0 || left("copies/*") > 0 {
			if time.Since(killed) > 20*time.Second {
				t.Fatalf("%d processes and %d folders outlived the killed run", running("(/bin/)?sleep 97.6543"),
					left("copies/*"))
			}
			time.Sleep(5 * time.Millisecond)
		}
		took := time.Since(killed)
		if took <= time.Second {
			t.Logf("all gone after %s", took)
			return
		}
		if attempt == 3 {
			t.Fatalf("the last was gone only after %s", took)
		}
	}
}

// What escapes from its group and its environment ends with a run that ends by itself, too.
func TestARunLeavesNoStrays(t *testing.T) {
	h := newHome(t)
	h.write(t, "stray.duel.yaml", strings.NewReplacer(
		"97.6543", "96.5432", "rounds: 100", "rounds: 2", "long.duel", "stray.duel",
	).Replace(longService))
	h.run(t, "run", "stray.duel.yaml").says(t, 0)
	if n := running("(/bin/)?sleep 96.5432"); n > 0 {
		t.Errorf("%d processes outlived their run", n)
	}
}

// A formatter that believes PWD, or that knows where the originals lie, does not get at them.
func TestOriginalsAreOutOfReach(t *testing.T) {
	h := newHome(t)
	h.write(t, "manifest.txt", "salt cod\n")
	h.write(t, "tidy.duel.yaml", `duel: Tidy
baseline: a
contenders:
  a: { command: { shell: 'echo sole > "$PWD/manifest.txt"; cat manifest.txt', stdout: pipe } }
  b: { command: { shell: 'echo sole > manifest.txt; cat manifest.txt', stdout: pipe } }
footing: { workspace: manifest.txt }
same: { body: exact }
pace: { repeat: 1 }
rounds: 2
`)
	h.run(t, "run", "tidy.duel.yaml").says(t, 0)
	h.write(t, "rude.duel.yaml", `duel: Rude
baseline: a
contenders:
  a: { command: { shell: 'echo sole > "$ORIGINAL"' } }
  b: { command: { shell: 'true' } }
footing: { workspace: manifest.txt }
pace: { repeat: 1 }
rounds: 2
`)
	h.env = append(h.env, "ORIGINAL="+filepath.Join(h.dir, "manifest.txt"))
	o := h.run(t, "run", "rude.duel.yaml")
	text, err := os.ReadFile(filepath.Join(h.dir, "manifest.txt"))
	if err != nil {
		t.Fatal(err)
	}
	switch string(text) {
	case "salt cod\n":
		o.says(t, 3, "Read-only file system")
	default: // no rights for more than to see it
		o.says(t, 4, "what the workspace is copied from was changed in a heat of a", "manifest.txt")
	}
}

// A tool that tells what it spends where, cold and warm, and what moved from one phase to the other.
func TestMarksAndStarts(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.env = append(h.env, "PACEDUEL="+program)
	h.run(t, "harbour", "lay", ".").says(t, 0)
	// one round decides nothing
	h.run(
		t, "run", "page-of-the-almanac.duel.yaml", "--rounds", "1", "--set", "pace.repeat=2", "--json", "page.json",
	).says(t, 1,
		"load (told) cold", "page (told) warm", "both (told) cold", "24 chapters", "first run warm", "undecided")
	h.run(
		t, "run", "tide-predictor.duel.yaml", "--rounds", "1", "--set", "pace.wake=50ms", "--json", "tide.json",
	).says(t, 0,
		"first answer", "settled", "prepare", "wake", "memory at rest", "memory afterwards")
	r, err := result.ReadFile(filepath.Join(h.dir, "tide.json"))
	if err != nil {
		t.Fatal(err)
	}
	h.run(t, "show", r.ID).says(t, 0, "CPU a run", "peak memory at most")
	for i := range r.Heats {
		for _, name := range []string{shots.CPU, shots.Memory} {
			if x, ok := r.Amount(&r.Heats[i], name); !ok || x <= 0 {
				t.Errorf("heat %d: the %s that the service used is %g, known %v", i+1, name, x, ok)
			}
		}
	}
	h.run(
		t, "export", r.ID, "--to", "out",
	).says(t, 0, "tide-predictor-start-"+r.ID+".svg", "tide-predictor-memory-"+r.ID+".pdf")
}

func TestTheHeadlessDemo(t *testing.T) {
	beside(t)
	h := newHome(t)
	began := time.Now()
	o := h.run(t, "demo", "--headless")
	o.says(t, 0, "snapshot ", "joined ", "p50", "x faster", "stream is ", "in the mean", "seed 4127")
	t.Logf("the demo took %s", time.Since(began).Round(time.Second))
}

// A tool that rewrites its input and remembers: cold and warm are two figures, and its input stays as it was.
func TestColdAndWarm(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.run(t, "harbour", "lay", ".").says(t, 0)
	before, err := os.ReadFile(filepath.Join(h.dir, "untidy.txt"))
	if err != nil {
		t.Fatal(err)
	}
	h.env = append(h.env, "PACEDUEL="+program)
	o := h.run(t, "run", "manifest-tidier.duel.yaml", "--rounds", "2", "--set", "pace.repeat=1", "--json", "out.json")
	o.says(t, 0, "Cold, ", "Warm, ", "mean cold", "mean warm", "warm against cold")
	after, err := os.ReadFile(filepath.Join(h.dir, "untidy.txt"))
	if err != nil || string(after) != string(before) {
		t.Errorf("the original was rewritten, %v", err)
	}
	h.run(
		t, "check", "manifest-tidier.duel.yaml",
	).says(t, 0, "changed untidy.txt", "its own caches hold", "the same work", "fresh copy of untidy.txt")
	h.run(
		t, "check", "wrong-on-purpose.duel.yaml", "--save", ".",
	).says(t, 3, "did you mean gzip?", "unrecognized option", "manifesto.txt: No such file", "half: not the same bytes")
	if info, err := os.Stat(filepath.Join(h.dir, "whole.answer")); err != nil || info.Size() < 1<<20 {
		t.Errorf("the whole answer is not saved: %v", err)
	}
}

// The demo's archive is copied six ways, cold and warm; what arrives is the same, and each way's system calls are
// counted.
func TestPathsOfAFile(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.run(t, "harbour", "lay", ".").says(t, 0)
	o := h.run(t, "run", "chart-archive.duel.yaml", "--rounds", "2", "--set", "pace.repeat=1", "--json", "out.json")
	o.says(t, 0, "mean cold", "mean warm", "data/s", "system calls a run, warm", "8 197", "warm against cold")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Failed() > 0 || h.OK != 1 || h.Received != 16<<20 || h.Peak() < 1<<20 {
			t.Errorf("%s: %+v", h.Cell, h)
		}
	}
	h.run(t, "between", "read-write charts.bin a.bin", "sendfile charts.bin a.bin").says(t, 0, "sendfile", "data/s")
	h.run(t, "between", "read-write charts.bin a.bin", "cat charts.bin").says(t, 2, "cannot be compared with")
}

// A plan that asks for what no machine has is run all the same, and says so before and after.
func TestWhatTheMachineCannotDo(t *testing.T) {
	h := newHome(t)
	h.write(t, "far.duel.yaml", strings.Replace(
		quick, "pace:", "footing: { cpus: 1000, before: { round: 'echo round $PACEDUEL_ROUND >> rounds' } }\npace:", 1,
	))
	o := h.run(t, "run", "far.duel.yaml", "--rounds", "2")
	o.says(
		t, 0, "this machine: short cannot be kept to processors 1000", "cautions",
		"- short cannot be kept to processors 1000",
	)
	if text, err := os.ReadFile(filepath.Join(h.dir, "rounds")); err != nil || string(text) != "round 1\nround 2\n" {
		t.Errorf("steps before rounds wrote %q, %v", text, err)
	}
}

// What pipelines do: a time for all, held to what is kept in a folder, and figures for others.
func TestInAPipeline(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.write(t, "count.duel.yaml", strings.Replace(quick, "40000", "4000", 1)+"claims: [ long mean under 1us ]\n")
	h.write(t, "base/note", "")
	h.shell("$P run count.duel.yaml --held-to base --ci ci --json base/count.json").says(t, 1,
		"there is no base/count.json yet",
		"refuted")
	o := h.shell("$P run count.duel.yaml count.duel.yaml --held-to base --good-for 30d --ci ci --within 1s --rounds " +
		"60; cat ci/*")
	o.says(t, 0, "held to run", "long is not surely worse than it was", "were over after", "TAP version 14",
		"<testsuites",
		`"version": "2.1.0"`, `"startLine": 8`, "Held to run")
	h.shell("$P run count.duel.yaml --held-to nobody").says(t, 2, "no such run")
	h.shell("$P run count.duel.yaml --held-to base --good-for soon").says(t, 2, "write it as 30d")
	h.shell("$P run count.duel.yaml --good-for 3d").says(t, 2, "--held-to")
	h.shell("$P log tag $($P log --limit 1 | cut -d' ' -f1) main; $P run count.duel.yaml --held-to tag:main --rounds "+
		"6").says(t, 1,
		"held to run", "long is not surely worse")
	h.shell("$P show --metrics | tail -1").says(t, 0, "# EOF")
	h.shell("$P show --metrics").says(t, 0, "# TYPE paceduel_latency_seconds histogram", `paceduel_ratio{duel="Count"`)
	h.shell("$P again --new-seed").says(t, 1, "as against the run", "As against short")
	h.shell("$P pair; $P log duels; $P log duels Count --to pictures").says(t, 0, "then, and", "over-time.svg", "5 runs")
}
