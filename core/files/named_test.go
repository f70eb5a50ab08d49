package files_test

import (
	"os"
	"path/filepath"
	"testing"

	"paceduel/core/files"
)

func TestFilesThatATextNames(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("tally.sh", "one")
	write("manifest.txt", "abc")
	write("unnamed.txt", "x")
	text := `contenders: { a: { command: { run: ["./tally.sh", -n, manifest.txt] } },
  b: { command: { shell: "sort <manifest.txt | ./tally.sh; ls gone.txt ." } } }`
	sums := files.Named(text, dir)
	if len(sums) != 2 || sums[0].Path != "./tally.sh" || sums[1].Path != "manifest.txt" || sums[1].Bytes != 3 ||
		sums[1].SHA256 != "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad" {
		t.Fatalf("%+v", sums)
	}
	write("manifest.txt", "abd")
	if again := files.Named(text, dir); !again[0].Same(sums[0]) || again[1].Same(sums[1]) {
		t.Errorf("%+v", again)
	}
}
