package e2e

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
	"unicode"

	"paceduel/core/result"
)

const quickDuel = `duel: Quick
baseline: a
course: { command: { run: [ 'true' ] } }
contenders: { a: , b: }
pace: { repeat: 1, warmup: 0 }
rounds: 6
`

// shell runs a shell line where h is, with the program as $P.
func (h home) shell(line string) outcome {
	cmd := exec.Command("bash", "-c", line)
	cmd.Dir, cmd.Env = h.dir, append(h.env, "P="+program)
	var out, errout strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errout
	err := cmd.Run()
	var exit *exec.ExitError
	o := outcome{0, out.String(), errout.String()}
	if errors.As(err, &exit) {
		o.status = exit.ExitCode()
	}
	return o
}

// Files come first, then words; who stops reading silences us and ends no run.
func TestAReaderThatGoesAway(t *testing.T) {
	h := newHome(t)
	h.write(t, "quick.duel.yaml", quickDuel)
	h.shell(`$P run quick.duel.yaml --json out.json | head -1; exit ${PIPESTATUS[0]}`).says(t, 0)
	if r, err := result.ReadFile(filepath.Join(h.dir, "out.json")); err != nil || r.Ending != result.Done ||
		len(r.Heats) != 12 {
		t.Errorf("out.json: %v", err)
	}
	h.shell(`$P run quick.duel.yaml --json again.json 2>&1 >/dev/null | head -1; exit ${PIPESTATUS[0]}`).says(t, 0)
	if r, err := result.ReadFile(filepath.Join(h.dir, "again.json")); err != nil || r.Ending != result.Done {
		t.Errorf("again.json: %v", err)
	}
	h.shell(`$P log | true; exit ${PIPESTATUS[0]}`).says(t, 0)
}

// What was wanted and is not there shows in the status.
func TestWhatCannotBeWrittenShowsInTheStatus(t *testing.T) {
	h := newHome(t)
	h.write(t, "quick.duel.yaml", quickDuel)
	h.shell(`$P run quick.duel.yaml >/dev/full`).says(t, 4, "write to standard output", "no space left on device")
	h.shell(`ln -s /dev/full full; $P run quick.duel.yaml --json full`).says(t, 4,
		"write result: write full: no space left")
	h.shell(`test -L full -a -c full`).says(t, 0)
	h.write(t, "taken", "")
	h.shell(`HOME= XDG_DATA_HOME= $P run quick.duel.yaml --logbook taken/l.sqlite`).says(t, 4, "no logbook keeps it",
		"kept nowhere")
	h.shell(`$P run quick.duel.yaml --logbook taken/l.sqlite`).says(t, 0, "it is kept aside", "does not have this run")
	h.shell(`rm taken; $P log --logbook taken/l.sqlite`).says(t, 0, "1 run that had been kept aside handed in", "Quick")
	h.shell(`rm -r taken; touch taken`).says(t, 0)
	h.shell(`$P run quick.duel.yaml --logbook taken/l.sqlite --json kept.json`).says(t, 0)
	h.shell(`HOME= XDG_DATA_HOME= $P run quick.duel.yaml --logbook taken/l.sqlite --json full`).says(t, 4,
		"kept nowhere")
}

// What is measured can be written: else nothing is measured.
func TestWhereResultsGoIsAskedFirst(t *testing.T) {
	h := newHome(t)
	h.write(t, "quick.duel.yaml", quickDuel)
	h.write(t, "there.csv", "tide,depth")
	h.shell(`mkdir other folder; cp quick.duel.yaml other`).says(t, 0)
	for _, tt := range []struct{ args, want string }{
		{"--json no/such.json", "make the folder no first"}, {"--json folder", "it is a folder; name a file in it"},
		{"--json there.csv/x", "not a directory"}, {"--shots there.csv", "stays as it is; name another"},
		{"other/quick.duel.yaml --json both", "would both be quick.json in both"}, {"--ci there.csv", "not a directory"},
	} {
		h.shell("$P run quick.duel.yaml "+tt.args).says(t, 2, tt.want)
	}
	h.shell(`$P log`).says(t, 0, "no runs")
	if text, err := os.ReadFile(filepath.Join(h.dir, "there.csv")); err != nil || string(text) != "tide,depth" {
		t.Errorf("%q, %v", text, err)
	}
	h.write(t, "second.duel.yaml", quickDuel)
	h.shell(`$P run quick.duel.yaml second.duel.yaml --json made/here`).says(t, 0)
	for _, name := range []string{"quick", "second"} {
		if _, err := result.ReadFile(filepath.Join(h.dir, "made/here", name+".json")); err != nil {
			t.Error(err)
		}
	}
}

// A logbook whose disk is full for a while has the whole run when there is room again.
func TestALogbookOnAFullDisk(t *testing.T) {
	h := newHome(t)
	h.write(t, "long.duel.yaml", strings.Replace(
		quickDuel, "rounds: 6",
		"rounds: 40\nfooting: { before: { round: 'case $PACEDUEL_ROUND in 5) head -c 100m /dev/zero > small/filler || "+
			"true;; 30) rm small/filler;; esac' } }",
		1,
	))
	script := `mkdir small && mount -t tmpfs -o size=%s tmpfs small || exit 77
		$P run long.duel.yaml --logbook small/l.sqlite; s=$?
		$P log --logbook small/l.sqlite; exit $s`
	o := h.shell("unshare -m bash -c '" + fmt.Sprintf(script, "2m") + "'")
	if o.status == 77 || strings.Contains(o.errout, "Operation not permitted") {
		t.Skip("a small disk may not be mounted here")
	}
	o.says(t, 0, "does not keep it for now", "keeps the run again")
	if !strings.Contains(o.out, "Quick") || strings.Contains(o.out, "cut off") {
		t.Errorf("the log says %q", o.out)
	}
}

// Programs that start together on a new logbook keep their runs, all of them.
func TestRunsThatStartTogether(t *testing.T) {
	h := newHome(t)
	h.write(t, "quick.duel.yaml", strings.Replace(quickDuel, "rounds: 6", "rounds: 1", 1))
	const many = 8
	var wg sync.WaitGroup
	for range many {
		wg.Go(func() { h.run(t, "run", "quick.duel.yaml").says(t, 0) })
	}
	wg.Wait()
	if o := h.run(t, "log"); strings.Count(o.out, "Quick") != many {
		t.Errorf("the log has %s; want %d runs", o.out, many)
	}
}

// The list says when it is not all.
func TestALogThatIsCut(t *testing.T) {
	h := newHome(t)
	h.write(t, "quick.duel.yaml", strings.Replace(quickDuel, "rounds: 6", "rounds: 1", 1))
	for range 3 {
		h.run(t, "run", "quick.duel.yaml").says(t, 0)
	}
	h.run(t, "log", "--limit", "2").says(t, 0, "1 run more")
	if o := h.run(t, "log"); strings.Contains(o.errout, "more") {
		t.Errorf("a whole list says %q", o.errout)
	}
}

// What we keep by ourselves is for its user alone; what the user names is as their mask has it.
func TestRightsOfFiles(t *testing.T) {
	h := newHome(t)
	h.write(t, "quick.duel.yaml", quickDuel)
	h.shell(
		`umask 027; $P run quick.duel.yaml --json out.json --shots shots.csv && $P export --to pictures && stat -c '%a %n' out.json shots.csv pictures pictures/*.md data/paceduel data/paceduel/logbook.sqlite`,
	).says(t, 0,
		"640 out.json", "640 shots.csv", "750 pictures", "640 pictures/quick-", "700 data/paceduel",
		"600 data/paceduel/logbook.sqlite")
}

// evil is what a terminal would obey, in seven bits and in eight, and what turns the direction of what follows.
const evil = "\x1b[2J\x1b]0;gone\x07\u009b31m\u202egnp.exe\u2066"

// Nothing that a terminal would obey comes from a stranger to it, by whatever way. It is long since its cases are
// listed in it.
func TestNothingObeysStrangers(t *testing.T) {
	h := newHome(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				buf := make([]byte, 4096)
				n, _ := conn.Read(buf)
				status := "200"
				if strings.Contains(string(buf[:n]), "/bad") {
					status = "500"
				}
				body := `{"` + evil + `": "` + evil + `"}`
				fmt.Fprintf(
					conn,
					"HTTP/1.1 %s %s\r\nContent-Type: text/%s\r\nX-A: %s\r\nServer-Timing: "+
						"tide;dur=1;desc=\"%s\"\r\nContent-Length: "+
						"%d\r\nConnection: close\r\n\r\n%s",
					status, evil, evil, evil, evil, len(body), body,
				)
			}()
		}
	}()
	url := "http://" + l.Addr().String()
	say := "printf '" + strings.ReplaceAll(evil, "\x1b", `\033`) + "'"
	h.write(t, "say.sh", say+"\n"+say+" >&2\nexit ${1:-0}\n")
	plans := []string{
		"contenders: { a: { http: { url: '" + url + "/' } }, b: { http: { url: '" + url + "/bad', expect: 500 } } }",
		"contenders: { a: { http: { url: '" + url + "/bad' } }, b: { http: { url: '" + url + "/bad' } } }",
		"contenders: { a: { command: { shell: 'sh say.sh', stdout: pipe } }, b: { command: { shell: 'sh say.sh 3' } } }",
		"contenders: { a: { command: { run: [ 'true' ] } }, b: { command: { run: [ 'true' ] } } }\nfooting: { before: { " +
			"heat: 'sh say.sh' }, after: { round: 'sh say.sh 4' } }",
		"contenders: { a: { command: { run: [ 'true' ] }, service: { shell: 'sh say.sh; exit 1', ready: { line: x } } }, " +
			"b: { command: { run: [ 'true' ] } } }",
		"contenders: { \"a\\e[2J\": { command: { run: [ 'true' ] } }, b: { command: { run: [ 'true' ] } } }",
		"contenders: { a: { command: { run: [ \"\\e[2J\\u202e\" ] } }, b: { command: { run: [ 'true' ] } } }",
		"contenders: { a: { command: { run: [ 'true' ] } }, b: { command: { run: [ 'true' ] } } }\nquestion: " +
			"\"\\e[2J?\"\nnope\\e: 1",
	}
	var all strings.Builder
	keep := func(o outcome) outcome {
		all.WriteString(o.out + o.errout)
		return o
	}
	for i, p := range plans {
		h.write(t, "evil.duel.yaml", "duel: Evil\nbaseline: a\npace: { repeat: 1 }\nrounds: 2\n"+p+"\n")
		keep(h.run(t, "check", "evil.duel.yaml"))
		keep(h.run(t, "run", "evil.duel.yaml", "--json", fmt.Sprintf("%d.json", i)))
		keep(h.run(t, "run", "evil.duel.yaml", "--json", "-"))
		keep(h.run(t, "show"))
		keep(h.run(t, "log"))
	}
	keep(h.run(t, "run", "evil.duel.yaml", "--set", evil+"=1", "--only", evil))
	keep(h.run(t, "run", evil+".duel.yaml"))
	keep(h.run(t, evil))
	keep(h.run(t, "show", evil))
	keep(h.run(t, "between", "--headless", evil, "true "+evil))
	keep(h.run(t, "export", "0.json", "--to", "pictures"))
	// A stranger's result, every text of it.
	text, err := os.ReadFile(filepath.Join(h.dir, "0.json"))
	if err != nil {
		t.Fatal(err)
	}
	hostile := strings.NewReplacer(
		`"Evil"`, `"`+strings.ReplaceAll(evil, "\x1b", `\u001b`)+`"`, `"command"`, `"\u001b[2J"`, `"http"`, `"\u001b[2J"`,
	).Replace(string(text))
	h.write(t, "stranger.json", strings.ReplaceAll(strings.ReplaceAll(hostile, "\x07", `\u0007`), `"200 `, `"\u001b[2J`))
	keep(h.run(t, "show", "stranger.json"))
	keep(h.run(t, "show", "stranger.json", "--json"))
	keep(h.run(t, "export", "stranger.json", "--to", "pictures"))
	for _, pattern := range []string{"pictures/*.md", "pictures/*.csv", "pictures/*.json", "*.json"} {
		found, _ := filepath.Glob(filepath.Join(h.dir, pattern))
		for _, path := range found {
			if strings.HasSuffix(path, "stranger.json") {
				continue
			}
			text, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			all.Write(text)
		}
	}
	if !strings.Contains(all.String(), "gnp.exe") {
		t.Error("nothing of the strangers' words is there at all")
	}
	for _, r := range all.String() {
		if unicode.In(r, unicode.Cc, unicode.Cf) && r != '\n' && r != '\t' {
			at := strings.IndexRune(all.String(), r)
			t.Fatalf("%U gets through: %q", r, all.String()[max(at-100, 0):min(at+60, all.Len())])
		}
	}
}

// An interrupt ends every phase in under a second, and what was measured is kept; a second one ends all at once. It is
// long since its cases are listed in it.
func TestAnInterruptEndsEveryPhase(t *testing.T) {
	big := `{"a":[` + strings.Repeat(`{"name":"oyster","at":[1,2,3]},`, 400_000) + `1]}`
	duel := func(contender, more string) string {
		return "duel: Phase\nbaseline: a\npace: { repeat: 1, warmup: 0 }\nrounds: 1000\ncontenders: { a: " + contender +
			", b: " + contender + " }\n" + more
	}
	run := func(words string) string { return "{ command: { " + words + " } }" }
	phases := []struct{ name, plan, sign string }{ // the sign shows that the phase has begun
		{"a step", duel(run("run: [ 'true' ]"), "footing: { before: { duel: 'touch sign; sleep 60' } }\n"), "sign"},
		{"a copy", duel(run("run: [ 'true' ]"), "footing: { before: { duel: 'touch sign' }, workspace: big }\n"), "sign"},
		{"the weigh-in", duel(run("shell: 'touch sign; sleep 60'"), ""), "sign"},
		{
			"comparing", duel(run("shell: 'cat big.json; touch sign', stdout: pipe"),
				"same: { body: json, unordered: true }\n"),
			"sign",
		},
		{
			"a filter", duel(run("shell: 'echo x', stdout: pipe"),
				"same: { body: exact, through: 'touch sign; sleep 60' }\n"),
			"sign",
		},
		{"a heat", duel(run("shell: '[ -e later ] && touch sign && sleep 60; touch later'"), ""), "sign"},
		{
			"a service that starts",
			duel("{ command: { run: [ 'true' ] }, service: { shell: 'touch sign; sleep 60', ready: { line: never } } }", ""),
			"sign",
		},
		{"idle time", duel(run("run: [ 'true' ]"), "footing: { idle: 60s, before: { run: 'touch sign' } }\n"), "sign"},
	}
	for _, p := range phases {
		for _, twice := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, twice %t", p.name, twice), func(t *testing.T) {
				h := newHome(t)
				h.write(t, "phase.duel.yaml", p.plan)
				h.write(t, "big.json", big)
				if strings.Contains(p.plan, "workspace: big") {
					for i := range 2000 {
						h.write(t, fmt.Sprintf("big/%d", i), strings.Repeat("x", 5000))
					}
				}
				cmd := h.command("run", "phase.duel.yaml")
				var errout strings.Builder
				cmd.Stderr = &errout
				if err := cmd.Start(); err != nil {
					t.Fatal(err)
				}
				for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
					if _, err := os.Stat(filepath.Join(h.dir, p.sign)); err == nil {
						break
					}
					if time.Now().After(deadline) {
						cmd.Process.Kill()
						cmd.Wait()
						t.Fatalf("it never came so far: %s", errout.String())
					}
				}
				began := time.Now()
				cmd.Process.Signal(os.Interrupt)
				if twice {
					cmd.Process.Signal(syscall.SIGTERM)
				}
				ended := make(chan struct{})
				go func() {
					defer close(ended)
					cmd.Wait()
				}()
				select {
				case <-ended:
				case <-time.After(10 * time.Second):
					cmd.Process.Kill()
					t.Fatal("it went on for ten seconds")
				}
				took := time.Since(began)
				if limit := 2 * time.Second; took > limit { // one second, and another for a busy machine
					t.Errorf("it took %s to end", took)
				}
				t.Logf("%s", took.Round(time.Millisecond))
				if got := cmd.ProcessState.ExitCode(); got != 130 {
					t.Errorf("status %d; want 130: %s", got, errout.String())
				}
			})
		}
	}
}

// server answers every request on loopback for as long as the test lasts.
func server(t *testing.T) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w,
			"tide is in")
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// Too few descriptors are told before the run, have a class of their own in it, and are not asked for by the ten
// thousand.
func TestTooFewDescriptors(t *testing.T) {
	h := newHome(t)
	h.write(
		t, "many.duel.yaml",
		"duel: Many\nbaseline: a\ncontenders: { a: { http: { url: '"+server(t)+"' } }, "+
			"b: { http: { url: '"+server(t)+"', path: full } } }\npace: { clients: 64, for: 500ms, warmup: 0 }\nrounds: 1\n",
	)
	o := h.shell(`ulimit -n 64; $P run many.duel.yaml --json out.json`)
	o.says(t, 0, "64 clients may take", "ulimit -n says 64")
	r, err := result.ReadFile(filepath.Join(h.dir, "out.json"))
	if err != nil {
		t.Fatal(err)
	}
	for _, heat := range r.Heats {
		n := heat.Failures["own limits"]
		if n == 0 || n > 1000 || n != heat.Failed() || heat.OK < 100 {
			t.Errorf("%s: %d shots, failures %v", heat.Contender, heat.OK, heat.Failures)
		}
	}
}

// users counts the users that were played.
var users atomic.Int64

// Too few processes are told, in words and not by the end of the runtime, which takes about six before anything of ours
// runs.
func TestTooFewProcesses(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("another user can be played by root alone")
	}
	h := newHome(t)
	if err := errors.Join(os.Chmod(filepath.Dir(h.dir), 0o755), os.Chmod(h.dir, 0o777)); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(h.dir, "paceduel"), text, 0o755); err != nil {
		t.Fatal(err)
	}
	h.write(
		t, "many.duel.yaml",
		"duel: Many\nbaseline: a\ncontenders: { a: { command: { run: [ 'true' ] } }, b: { command: { run: [ 'true' ] } } "+
			"}\npace: { clients: 64, for: 200ms, warmup: 0 }\nrounds: 1\n",
	)
	for limit, want := range map[string]string{"8": "this user has", "60": "this run takes about"} {
		// Each time another user: the kernel counts the threads of a process for a while after it has ended.
		user := uint32(60_000 + os.Getpid()%1_000*5 + int(users.Add(1)))
		cmd := exec.Command("bash", "-c", "ulimit -u "+limit+"; exec ./paceduel run many.duel.yaml")
		cmd.Dir, cmd.Env = h.dir, append(h.env, "HOME="+h.dir)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}}
		out, err := cmd.CombinedOutput()
		if errors.Is(err, syscall.EPERM) {
			t.Skipf("another user may not be played here: %v", err)
		}
		if cmd.ProcessState == nil {
			t.Fatal(err)
		}
		if got := cmd.ProcessState.ExitCode(); got != 4 || !strings.Contains(string(out), want) ||
			!strings.Contains(string(out), "ulimit -u") {
			t.Errorf("with %s processes: status %d, %s; want 4 and %q", limit, got, out, want)
		}
	}
}
