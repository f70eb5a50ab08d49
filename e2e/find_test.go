package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// packerRepository is a made-up repository of 32 commits of the demo's packer: from the 19th on it packs in the slow
// way, and two do not build.
func packerRepository(t *testing.T, h home) {
	t.Helper()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("LEFT OUT: git is not installed here")
	}
	var manifest strings.Builder
	for i := range 4000 {
		fmt.Fprintf(&manifest, "%07d;Harbour Fathom %d;herring;tanker;hold %d;%d kg;Fish Dock %d;%03d-low\n", i, i*7919%40,
			i%5,
			i*7919%20000, i%9, i%365)
	}
	h.write(t, "manifest.txt", manifest.String())
	cmd := exec.Command("/bin/sh", "-ec", `git init -q -b main .
for i in $(seq 1 32); do
	with=stream; [ $i -ge 19 ] && with=gather
	printf '#!/bin/sh\n# step %s\nexec "$P" harbour pack --with %s <"$1"\n' $i $with >packer.sh
	if [ $i = 14 ] || [ $i = 18 ]; then echo 'echo no such name >&2; exit 2' >build.sh
	else echo 'cp packer.sh packer; chmod +x packer' >build.sh; fi
	git add packer.sh build.sh
	git -c user.name=H -c user.email=h@skerrow.example commit -qm "packer: step $i"
done`)
	cmd.Dir = h.dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

// The commit that made the packer slow is found, by real builds and runs: an interrupted search goes on, here on
// screen, where the commits stand as a line.
func TestTheSlowCommitIsFound(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.env = append(h.env, "P="+program, "XDG_CACHE_HOME="+filepath.Join(h.dir, "cache"))
	packerRepository(t, h)
	h.shell("$P find --git gone..HEAD -- ./packer manifest.txt").says(t, 2, "no commit is called gone")
	h.shell("$P find --git HEAD..HEAD~3 -- ./packer manifest.txt").says(t, 2, "is no ancestor of")
	h.shell("$P find --git HEAD~3..HEAD --build 'exit 3' -- ./packer manifest.txt").says(t, 4,
		"the good commit cannot be",
		"exit code 3")
	h.write(t, "pack.duel.yaml",
		"duel: Packers\nbaseline: sorted\ncontenders:\n  sorted: { command: { shell: sort manifest.txt } }\n"+
			"  packer: { command: { run: [./packer, manifest.txt] } }\npace: { repeat: 1 }\n")
	h.shell("$P find --headless --git HEAD~31..HEAD --plan pack.duel.yaml --contender packer --build 'sh build.sh' "+
		"--looks 2").says(t,
		4, "look 1 at", "look 2 at", "After 2 looks")
	h.shell("$P find --headless --git HEAD~31..HEAD --plan pack.duel.yaml --contender packer --build 'sh build.sh' "+
		"--claim 'packer mean under 1us'").says(t, 4, "The claim fails at the good commit")
	h.shell("$P find --git HEAD~31..HEAD --figure p51 -- ./packer manifest.txt").says(t, 2, "p51")
	h.shell("$P find --git HEAD~31..HEAD --plan pack.duel.yaml --contender nobody").says(t, 2, "nobody")
	h.shell("$P find --git HEAD~31..HEAD --plan pack.duel.yaml --contender sorted").says(t, 2, "is the plan's baseline")
	const search = "--git HEAD~31..HEAD --build 'sh build.sh' --worse 15% --rounds 3 "
	h.shell("$P find --headless "+search+"--looks 2 -- ./packer manifest.txt").says(t, 4, "31 commits", "look 2 at",
		"not sure enough", "cannot be looked at")
	term := openTerminal(t, h, 110, 34, "find", search, "--", "./packer", "manifest.txt")
	term.wait("pace duel", "find", "./packer manifest.txt", "looks", "good ◂", "○ not looked at", "quit and keep")
	term.wait("(packer: step 19) made the mean worse", "It may as well be", "over", "▼")
	term.press("Left")
	term.wait("packer: step 18", "it cannot be looked at")
	term.press("s")
	term.wait("saved find.svg and find.pdf")
	term.press("q")
	term.wait("ended with 0", "packer: step 19")
}

// Revisions are compared straight away; what does not build is told, and the worktree stays as it is.
func TestRevisionsAreCompared(t *testing.T) {
	beside(t)
	h := newHome(t)
	h.env = append(h.env, "P="+program, "XDG_CACHE_HOME="+filepath.Join(h.dir, "cache"))
	packerRepository(t, h)
	h.shell("$P between --headless --git HEAD --git HEAD~18 --build 'sh build.sh' -- ./packer manifest.txt").says(t, 4,
		"HEAD~18", "exit code 2", "no such name")
	h.shell("$P between --headless --git HEAD~20 --git HEAD --build 'sh build.sh' -- ./packer manifest.txt").says(t,
		0, "HEAD is", "slower than HEAD~20", "commit ")
	if out, err := exec.Command("git", "-C", h.dir, "status", "--porcelain",
		"--untracked-files=no").Output(); err != nil ||
		len(out) > 0 {
		t.Errorf("the worktree has changed: %s, %v", out, err)
	}
}
