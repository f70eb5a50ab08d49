package footing_test

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/files"
	"paceduel/core/footing"
	"paceduel/core/plan"
)

// Where a fence can be had nothing reaches the originals; where it cannot, and for who stands outside, a change is
// seen.
func TestOriginalsAreHeldToWhatTheyWere(t *testing.T) {
	change := map[string]func(t *testing.T, dir string){
		"written":       func(t *testing.T, dir string) { write(t, dir, "in/manifest.txt", "salt cow\n") },
		"added":         func(t *testing.T, dir string) { write(t, dir, "in/quay/new", "2\n") },
		"removed":       func(t *testing.T, dir string) { os.Remove(filepath.Join(dir, "in/quay/list")) },
		"behind a link": func(t *testing.T, dir string) { write(t, dir, "out/far.txt", "nearer") },
	}
	for name, do := range change {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			write(t, dir, "in/manifest.txt", "salt cod\n", "in/quay/list", "1\n", "out/far.txt", "far")
			if err := os.Symlink(filepath.Join(dir, "out/far.txt"), filepath.Join(dir, "in/far.txt")); err != nil {
				t.Fatal(err)
			}
			// b has no workspace, so that it can reach what a's is copied from.
			f, g := openOwn(t, dir, "a: { footing: { workspace: in } }, b: ")
			heat := func(g *footing.Ground, meanwhile func()) {
				t.Helper()
				if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
					t.Fatal(err)
				}
				meanwhile()
				if _, err := g.EndHeat(t.Context()); err != nil {
					t.Fatal(err)
				}
			}
			heat(g, func() { write(t, dir, "in/manifest.txt", "salt cod\n") }) // the same bytes again
			if f.Harm() != nil {
				t.Fatalf("harm without any: %v", f.Harm())
			}
			heat(f.Of("b"), func() { do(t, dir) })
			var changed *footing.ChangedError
			if !errors.As(f.Harm(), &changed) || changed.Who != "b" || len(changed.Paths) != 1 {
				t.Errorf("harm is told as %v; want one file changed by b", f.Harm())
			}
		})
	}
}

// Files that this program writes while a duel is on may stand among the originals, and so may the workspaces: they are
// not copied, and nobody is blamed for them.
func TestOurOwnFilesAreNoOriginals(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "manifest.txt", "salt cod\n", "here/kept", "1\n")
	growing, err := os.OpenFile(filepath.Join(dir, "shots.csv"), os.O_WRONLY|os.O_CREATE, 0o666) // as --shots, or > does
	if err != nil {
		t.Fatal(err)
	}
	defer growing.Close()
	put := func(text string) {
		t.Helper()
		write := func(w io.Writer) error { _, err := io.WriteString(w, text); return err }
		if err := files.Write(filepath.Join(dir, "out.svg"), write); err != nil {
			t.Fatal(err)
		}
	}
	put("before")
	t.Chdir(dir)
	f, g := openOwn(t, ".", "a: { footing: { workspace: { from: ., at: here, fresh: heat } } }, b: ")
	for _, of := range []*footing.Ground{g, f.Of("b"), g} {
		if err := of.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
			t.Fatal(err)
		}
		fmt.Fprintln(growing, "1.5 ms")
		put("while it is on")
		if _, err := of.EndHeat(t.Context()); err != nil || f.Harm() != nil {
			t.Fatal(err, f.Harm())
		}
	}
	growing.Close()
	if err := f.Of("b").BeginHeat(t.Context(), plan.AsFound, 2); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Of("b").EndHeat(t.Context()); err != nil || f.Harm() != nil {
		t.Error("what was ours is taken for harm once it is closed:", err, f.Harm())
	}
	for path, want := range map[string]string{
		"manifest.txt": "salt cod\n", "here/kept": "1\n", "shots.csv": "no file", "out.svg": "no file",
	} {
		if got := reading(t, filepath.Join(g.Dir(), path)); got != want {
			t.Errorf("the copy of %s holds %q; want %q", path, got, want)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(g.Dir(), "here/paceduel-*")); len(left) > 0 {
		t.Errorf("the workspace holds %q", left)
	}
}

func TestPWDIsWhereAStepStands(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("PWD", dir)
	write(t, dir, "in/manifest.txt", "salt cod\n")
	_, g := open(
		t, dir, "  workspace: in\n  before: { heat: 'cp manifest.txt kept && echo sole > \"$PWD/manifest.txt\"' }\n",
	)
	if err := g.BeginHeat(t.Context(), plan.AsFound, 1); err != nil {
		t.Fatal(err)
	}
	if got := reading(t, filepath.Join(g.Dir(), "manifest.txt")); got != "sole\n" {
		t.Errorf("the copy holds %q; want what the step wrote where PWD says", got)
	}
	if got := reading(t, filepath.Join(dir, "in/manifest.txt")); got != "salt cod\n" {
		t.Errorf("the original holds %q now", got)
	}
}

func TestStepsOfAContenderCannotWriteOriginals(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "in/manifest.txt", "salt cod\n")
	t.Setenv("ORIGINAL", filepath.Join(dir, "in/manifest.txt"))
	f, g := open(
		t, dir, "  workspace: in\n  before: { duel: 'echo ling > \"$ORIGINAL\"', heat: 'echo sole > \"$ORIGINAL\"' }\n",
	)
	err := g.BeginHeat(t.Context(), plan.AsFound, 1)
	if err == nil { // there is no fence here
		if _, err := g.EndHeat(t.Context()); err != nil {
			t.Fatal(err)
		}
		if f.Harm() == nil {
			t.Error("a step wrote an original and nobody noticed")
		}
		return
	}
	if !strings.Contains(err.Error(), "Read-only file system") {
		t.Fatal(err)
	}
	if got := reading(t, filepath.Join(dir, "in/manifest.txt")); got != "ling\n" {
		t.Errorf("the original holds %q; want what the step before the duel made", got)
	}
}
