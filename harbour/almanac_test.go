package harbour_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/harbour"
)

// The page is the same whichever way chapters are loaded and wherever they come from; what is loaded is not.
func TestTheAlmanacsPage(t *testing.T) {
	kept := filepath.Join(t.TempDir(), "chapters")
	var first string
	for _, tt := range []struct {
		with, kept string
		chapters   string
		files      int // kept afterwards
	}{
		{"deferred", "", "6 chapters", 0}, {
			"deferred", kept, "6 chapters", 6,
		}, {"eager", kept, "24 chapters", 24}, {"deferred", kept, "6 chapters", 24}, {"eager", "", "24 chapters", 24},
	} {
		var page, side bytes.Buffer
		if err := harbour.Almanac(tt.with, tt.kept, 40, &page, &side); err != nil {
			t.Fatal(err)
		}
		if first == "" {
			first = page.String()
		}
		if page.String() != first || strings.Count(first, "station") != 6 || strings.Count(first, "high") < 6 {
			t.Errorf("%s, kept %q: the page is\n%s", tt.with, tt.kept, page.String())
		}
		files, _ := os.ReadDir(kept)
		if len(files) != tt.files || !strings.Contains(side.String(), tt.chapters) ||
			!strings.Contains(side.String(), `{"mark":"render","ms":`) {
			t.Errorf("%s, kept %q: %d files, told %s", tt.with, tt.kept, len(files), side.String())
		}
	}
	if err := os.WriteFile(filepath.Join(kept, "chapter-07.json"), []byte("{"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, wrong := range []struct {
		with, kept string
		day        int
	}{{"eager", kept, 40}, {
		"deferred", kept, 40,
	}, {"lazily", "", 40}, {"eager", "", 366}, {"eager", filepath.Join(kept, "chapter-02.json"), 40}} {
		if err := harbour.Almanac(wrong.with, wrong.kept, wrong.day, &bytes.Buffer{}, &bytes.Buffer{}); err == nil {
			t.Errorf("%+v: no error", wrong)
		}
	}
}

// Waters are where the tide turns: high ones lie above their neighbours, and the two take turns.
func TestWatersTakeTurns(t *testing.T) {
	var page bytes.Buffer
	if err := harbour.Almanac("deferred", "", 1, &page, &bytes.Buffer{}); err != nil {
		t.Fatal(err)
	}
	last := ""
	for line := range strings.Lines(page.String()) {
		words := strings.Fields(line)
		if words[0] == "station" {
			last = ""
			continue
		}
		if words[1] == last {
			t.Errorf("two %s waters in a row:\n%s", last, page.String())
			break
		}
		last = words[1]
	}
}
