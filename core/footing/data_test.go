package footing_test

import (
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/clock"
	"paceduel/core/footing"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/internal/sample"
)

// keeping opens a footing for a contender whose service keeps its data in a folder of ours.
func keeping(t *testing.T, service string) (*footing.Footing, []string, error) {
	t.Helper()
	src := "duel: Board\nbaseline: a\ncourse: { stub: { takes: 1us } }\npace: { repeat: 3 }\ncontenders:\n  b:\n  a:\n" +
		"    service: " + service + "\n"
	dir, err := os.MkdirTemp("", "paceduel-test-") // where others may stand, too
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	p, err := read.Plan(filepath.Join(dir, "p.duel.yaml"), []byte(src), read.Options{
		Kinds: []plan.Kind{sample.Stub().Kind}, Lookup: func(string) (string, bool) { return "", false },
	})
	if err != nil {
		t.Fatal(err)
	}
	f, err := footing.Open(p, clock.Start())
	if err != nil {
		return nil, nil, err
	}
	t.Cleanup(f.Close)
	cannot, err := f.Begin(t.Context())
	return f, cannot, err
}

// Data is filled once, before the first start; the service finds it again at every start, and it goes with the run.
func TestDataOfAService(t *testing.T) {
	f, _, err := keeping(t, `{ data: ["echo filled >> ${DATA}/log", "echo $DATA >> ${DATA}/log"], ready: { file: "${DATA}/up" },
      shell: 'echo start >> ${DATA}/log; touch "$DATA/up"; sleep 60' }`)
	if err != nil {
		t.Fatal(err)
	}
	g := f.Of("a")
	data := g.Setup().Data
	if info, err := os.Stat(data); err != nil || info.Mode().Perm() != 0o700 {
		t.Fatalf("the folder: %v, %v", info, err)
	}
	if at := g.Setup().Fill("x${DATA}y${PORT}"); at != "x"+data+"y"+g.Port() {
		t.Errorf("filled in: %s", at)
	}
	for range 2 {
		if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
			t.Fatal(err)
		}
		if _, err := g.EndHeat(t.Context()); err != nil {
			t.Fatal(err)
		}
		os.Remove(filepath.Join(data, "up"))
	}
	log, _ := os.ReadFile(filepath.Join(data, "log"))
	if want := "filled\n" + data + "\nstart\nstart\n"; string(log) != want {
		t.Errorf("%s\nwant %s", log, want)
	}
	f.Close()
	if _, err := os.Stat(data); !os.IsNotExist(err) {
		t.Errorf("the folder is still there: %v", err)
	}
}

func TestDataThatCannotBeFilled(t *testing.T) {
	_, _, err := keeping(t, `{ data: "echo no room >&2; exit 7", run: [true, "${DATA}", "${PORT}"] }`)
	if err == nil || !strings.Contains(err.Error(), "exit code 7") || !strings.Contains(err.Error(), "no room") {
		t.Errorf("%v", err)
	}
}

// Where we are root a service runs as whom its plan names, and its data belongs to it; where we are not, that is told.
func TestUserOfAService(t *testing.T) {
	const service = `{ user: nobody, data: "id -un > ${DATA}/who", ready: { file: "${DATA}/up" }, ` +
		`shell: 'cd /; id -un >> "$DATA/who"; touch "$DATA/up"; sleep 60' }`
	f, cannot, err := keeping(t, service)
	if err != nil {
		t.Fatal(err)
	}
	want := "nobody"
	if os.Geteuid() != 0 {
		me, err := user.Current()
		if err != nil {
			t.Fatal(err)
		}
		if want = me.Username; !strings.Contains(strings.Join(cannot, "; "), "to run it as nobody we would have to be root") {
			t.Errorf("told: %q", cannot)
		}
	}
	g := f.Of("a")
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	who, err := os.ReadFile(filepath.Join(g.Setup().Data, "who"))
	if string(who) != want+"\n"+want+"\n" {
		t.Errorf("it ran as %q, %v", who, err)
	}
	if _, err := g.EndHeat(t.Context()); err != nil {
		t.Error(err)
	}
	if os.Geteuid() == 0 {
		if _, _, err := keeping(t, strings.Replace(service, "nobody", "no-such-user", 1)); err == nil ||
			!strings.Contains(err.Error(), "no such user") {
			t.Errorf("%v", err)
		}
	}
}
