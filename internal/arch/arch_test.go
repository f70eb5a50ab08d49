package arch_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Nothing in core may import the interface: no terminal, screen or command package, directly or through others.
func TestCoreImportsNoInterface(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "paceduel/core/...").Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	deps := strings.Fields(string(out))
	if len(deps) < 50 {
		t.Fatalf("go list names only %d packages", len(deps))
	}
	for _, dep := range deps {
		for _, forbidden := range []string{
			"charm.land/", "github.com/charmbracelet/", "github.com/spf13/cobra", "github.com/schollz/", "paceduel/screen",
			"paceduel/cmd", "paceduel/harbour",
		} {
			if strings.HasPrefix(dep, forbidden) {
				t.Errorf("core depends on %s", dep)
			}
		}
	}
}

// Processes are started in one way, so that every one of them stands where it is told it stands, in a group of its own,
// in a seat, behind the fence. Package keeper starts the one that all depends on.
func TestProcessesAreStartedByLaunch(t *testing.T) {
	starts := regexp.MustCompile(`\.(Start|Run|Output|CombinedOutput)\(\)|ForkExec\(|StartProcess\(`)
	allowed := []string{
		"launch/start.go: cmd.Start()", "keeper/keeper.go: cmd.Start()", "contender/command/driver.go: ForkExec(",
		"bus/server.go: own.Start()", // which is no process
	}
	eachSource(t, func(path, line string) {
		found := starts.FindString(line)
		if found == "" || strings.Contains(line, "clock.Start()") || strings.HasPrefix(strings.TrimSpace(line), "//") {
			return
		}
		for _, a := range allowed {
			file, what, _ := strings.Cut(a, ": ")
			if strings.HasSuffix(path, file) && strings.Contains(line, what) {
				return
			}
		}
		t.Errorf("%s: %s", path, strings.TrimSpace(line))
	})
}

// eachSource calls do with every line of core that is no test.
func eachSource(t *testing.T, do func(path, line string)) {
	t.Helper()
	lines := 0
	err := filepath.WalkDir("../../core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, "conformance/") {
			return err
		}
		text, err := os.ReadFile(path)
		for line := range strings.Lines(string(text)) {
			do(path, line)
			lines++
		}
		return err
	})
	if err != nil || lines < 10_000 {
		t.Fatalf("%d lines of core read, %v", lines, err)
	}
}

// Connections are opened and names looked up by package guard alone. The lean path opens sockets itself, to addresses
// that only a guard makes.
func TestConnectionsAreOpenedByGuard(t *testing.T) {
	opens := regexp.MustCompile(
		`net\.Dial|Dialer\{|net\.Lookup|DefaultResolver|net\.Resolve|http\.(Get|Post|Head|DefaultClient|DefaultTransport)\b|http\.Client\{|http\.Transport\{|tls\.Dial|unix\.Connect\(`,
	)
	allowed := []string{
		"guard/guard.go: ", "lean/lean.go: unix.Connect(fd, sockaddr)", "http/driver.go: &http.Client{Transport: c.trip()",
		"http/transport.go: Transport: &http.Transport{",
	}
	eachSource(t, func(path, line string) {
		if !opens.MatchString(line) || strings.HasPrefix(strings.TrimSpace(line), "//") {
			return
		}
		for _, a := range allowed {
			file, what, _ := strings.Cut(a, ": ")
			if strings.HasSuffix(path, file) && strings.Contains(line, what) {
				return
			}
		}
		t.Errorf("%s: %s", path, strings.TrimSpace(line))
	})
}
