package paper

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/recorder"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/internal/sample"
)

func ladder(t *testing.T, names []string, shots int, log bool) *chart.Ladder {
	t.Helper()
	d := sample.Duel{Rounds: 8, Shots: shots, Clients: 4, Seed: 2}
	for i, n := range names {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: n, Latency: sample.Times(0.012/float64(1+20*i), 0.4), Bytes: 100})
	}
	r := sample.Make(d)
	r.Plan.Name = "Bërth — board ≤ 40 µs"
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return chart.NewLadder(r, v, len(names)-2, chart.Look{Log: log})
}

func TestNoTextOverlapsOrLeavesThePage(t *testing.T) {
	long := strings.Repeat("x", 40)
	for name, l := range map[string]*chart.Ladder{
		"linear":     ladder(t, []string{"per-vessel", "joined"}, 700, false),
		"log":        ladder(t, []string{"per-vessel", "joined"}, 700, true),
		"long names": ladder(t, []string{long, long + "y"}, 700, false),
		"too few":    ladder(t, []string{"per-vessel", "joined"}, 4, false),
		"three":      ladder(t, []string{"per-vessel", "joined", "snapshot"}, 30, true),
	} {
		w, h := size(l)
		p, err := newPen(sized{&recorder.Canvas{}, w, h})
		if err != nil {
			t.Fatal(err)
		}
		p.draw(l, w, h)
		if len(p.boxes) < 20 {
			t.Fatalf("%s: only %d texts", name, len(p.boxes))
		}
		for i, a := range p.boxes {
			if a.x0 < 0 || a.x1 > w || a.y0 < 0 || a.y1 > h {
				t.Errorf("%s: %q leaves the page: %+v of %gx%g", name, a.text, a, w, h)
			}
			for _, b := range p.boxes[i+1:] {
				if a.x0 < b.x1 && b.x0 < a.x1 && a.y0 < b.y1 && b.y0 < a.y1 {
					t.Errorf("%s: %q and %q overlap", name, a.text, b.text)
				}
			}
		}
	}
}

// sized makes a recorder a canvas of a size.
type sized struct {
	*recorder.Canvas
	w, h vg.Length
}

func (s sized) Size() (vg.Length, vg.Length) { return s.w, s.h }

func TestSaveWritesBothFormats(t *testing.T) {
	dir := t.TempDir()
	files, err := Save(ladder(t, []string{"per-vessel", "joined"}, 700, false), dir, "berth")
	if err != nil || len(files) != 2 {
		t.Fatalf("Save = %v, %v", files, err)
	}
	svg, err := os.ReadFile(filepath.Join(dir, "berth.svg"))
	if err != nil {
		t.Fatal(err)
	}
	dec := xml.NewDecoder(bytes.NewReader(svg))
	paths := 0
	for {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("the SVG is no XML: %v", err)
		}
		if e, ok := token.(xml.StartElement); ok && e.Name.Local == "path" {
			paths++
		}
	}
	if paths < 60 {
		t.Errorf("the SVG has %d shapes", paths)
	}
	pdf, err := os.ReadFile(filepath.Join(dir, "berth.pdf"))
	if err != nil || !bytes.HasPrefix(pdf, []byte("%PDF-")) || !bytes.Contains(pdf, []byte("%%EOF")) {
		t.Errorf("the PDF is none (%d bytes, %v)", len(pdf), err)
	}
	if _, err := Save(ladder(t, []string{"a", "b"}, 20, false), filepath.Join(dir, "none"), "x"); err == nil || !strings.Contains(err.Error(), "save the ladder") {
		t.Errorf("saving into no folder says %v", err)
	}
}

func TestEverySignHasItsOwnShape(t *testing.T) {
	shapes := map[string]string{}
	for i := range plan.MaxContenders {
		rec := &recorder.Canvas{}
		p, err := newPen(rec)
		if err != nil {
			t.Fatal(err)
		}
		s := chart.SignOf(i)
		p.sign(s, 10, 10, ink)
		var drawn strings.Builder
		for _, a := range rec.Actions {
			drawn.WriteString(a.Call())
		}
		if other, ok := shapes[drawn.String()]; ok {
			t.Errorf("%s is drawn as %s is", s.Glyph, other)
		}
		shapes[drawn.String()] = s.Glyph
	}
}
