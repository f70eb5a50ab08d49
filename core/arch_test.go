package core_test

import (
	"os/exec"
	"strings"
	"testing"
)

// Nothing in core may import the interface: no terminal, screen or command package, directly or through others.
func TestCoreImportsNoInterface(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "./...").Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	deps := strings.Fields(string(out))
	if len(deps) < 50 {
		t.Fatalf("go list names only %d packages", len(deps))
	}
	for _, dep := range deps {
		for _, forbidden := range []string{"charm.land/", "github.com/charmbracelet/", "github.com/spf13/cobra", "github.com/schollz/", "paceduel/screen", "paceduel/cmd", "paceduel/harbour"} {
			if strings.HasPrefix(dep, forbidden) {
				t.Errorf("core depends on %s", dep)
			}
		}
	}
}

// No driver is named outside its own folder and the one list of kinds; what lies in its folder is its own.
func TestDriversArePlugs(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./...", "../screen/...", "../cmd/...").Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	for line := range strings.Lines(string(out)) {
		names := strings.Fields(line)
		for _, imported := range names[1:] {
			folder, inKind := strings.CutPrefix(names[0], "paceduel/core/contender/")
			kind, _, _ := strings.Cut(folder, "/")
			own := inKind && strings.HasPrefix(imported, "paceduel/core/contender/"+kind+"/")
			if strings.HasPrefix(imported, "paceduel/core/contender/") && !own && imported != "paceduel/core/contender/all" && names[0] != "paceduel/core/contender/all" {
				t.Errorf("%s imports %s", names[0], imported)
			}
		}
	}
}
