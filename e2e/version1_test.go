package e2e

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"paceduel/internal/golden"
)

// A logbook that version 1 of the format was written into still opens, and every verdict in it reads as it did then, to
// the letter. It holds a run of each of the demo's plans; the golden texts were printed by the program that wrote it.
func TestRunsOfVersionOneKeepTheirVerdicts(t *testing.T) {
	packed, err := os.Open("testdata/version1.sqlite.gz")
	if err != nil {
		t.Fatal(err)
	}
	defer packed.Close()
	unpacked, err := gzip.NewReader(packed)
	if err != nil {
		t.Fatal(err)
	}
	h := newHome(t)
	book := filepath.Join(h.dir, "old.sqlite")
	out, err := os.Create(book)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(out, unpacked); err != nil {
		t.Fatal(err)
	}
	out.Close()
	var ids []string
	for _, attempts := range [][]string{nil, {"--failed"}} {
		listed := h.run(t, append([]string{"log", "--logbook", book, "--limit", "50"}, attempts...)...).out
		for line := range strings.Lines(listed) {
			if id, _, ok := strings.Cut(line, " "); ok && strings.Contains(id, "-") {
				ids = append(ids, id)
			}
		}
	}
	slices.Sort(ids)
	if len(ids) != 12 {
		t.Fatalf("the log lists %q", ids)
	}
	var all strings.Builder
	for _, id := range ids {
		shown := h.run(t, "show", id, "--logbook", book)
		all.WriteString("== " + id + "\n" + shown.out + shown.errout)
	}
	golden.Check(t, "version1-verdicts", all.String())
}
