package paper

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/recorder"

	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

func made(t *testing.T, names []string, shots int) (*result.Result, *judge.Verdict) {
	t.Helper()
	d := sample.Duel{Rounds: 8, Shots: shots, Clients: 4, Seed: 2}
	for i, n := range names {
		d.Entrants = append(d.Entrants, sample.Entrant{
			Name: n, Latency: sample.Times(0.012/float64(1+20*i), 0.4), Bytes: 100, FailFrac: 0.01,
		})
	}
	r := sample.Make(d)
	r.Plan.Name = "Bërth — board ≤ 40 µs"
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, v
}

// pictures are all that a run gives.
func pictures(t *testing.T, names []string, shots int, log bool) map[string]Picture {
	t.Helper()
	r, v := made(t, names, shots)
	var keys []cell.Cell
	for _, e := range r.Entrants {
		keys = append(keys, cell.Of(e.Name, ""))
	}
	shape := chart.NewShape(r, v, keys, log, chart.Stretched{})
	sample.Serve(r)
	served, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return map[string]Picture{
		"ladder":       Ladder(chart.NewLadder(r, v, len(names)-2, chart.Look{Log: log})),
		"every rung":   Ladder(chart.NewLadder(r, v, 0, chart.Look{Log: log, All: true})),
		"tracks":       Tracks(chart.NewTracks(r, v, chart.Look{Log: log})),
		"distribution": Distribution(shape),
		"pair":         Distribution(chart.NewShape(r, v, keys[:2], log, chart.Stretched{From: 0.2, To: 0.7})),
		"tail":         Tail(shape),
		"start":        Starts(chart.NewStarts(r, served, 1)),
		"near zero":    Starts(chart.NewStarts(r, served, 0.125)),
		"inside":       Inside(chart.NewInside(insideRun(t, names))),
		"moved":        Moves(movedOf(t, names)),
		"payload":      Payload(payloadOf(t, names)),
		"memory":       Memory(chart.NewMemory(r, served, r.Heats, chart.RoundWindow{}, chart.HeldMemory), r.Plan.Name),
		"timeline": Timeline(
			chart.NewTimeline(r, v, r.Heats, 0, 0, nil), "Berth board", v.Sentence, chart.Conditions(r, v),
		),
	}
}

// insideRun is a run of these contenders of which it is known what happens in their shots.
func insideRun(t *testing.T, names []string) (*result.Result, *judge.Verdict, chart.InsideLook) {
	t.Helper()
	d := sample.Duel{Rounds: 6, Shots: 25, Seed: 3}
	for i, n := range names {
		in := sample.Legs(i%2 == 1, 0.041, 0.052, 0.049)
		if i%3 == 0 {
			in = sample.Traces(40, 0.0009, 0.002)
		}
		d.Entrants = append(d.Entrants, sample.Entrant{Name: n, Latency: sample.Times(0.1, 0.1), Inside: in})
	}
	r := sample.Make(d)
	for i := range r.Heats {
		r.Heats[i].Inside.Steps[0].Name = strings.Repeat("a long name of a step ", 5)
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, v, chart.InsideLook{Depth: chart.AllSteps}
}

// payloadOf is what answers of these contenders consist of, of more members than there are rows for.
func payloadOf(t *testing.T, names []string) *chart.Payload {
	t.Helper()
	r, v, _ := insideRun(t, names)
	for i := range r.Entrants {
		r.Entrants[i].Touch.Bytes, r.Entrants[i].Touch.Decoded = int64(4_000+i), 9_000
		for j := range 20 {
			r.Entrants[i].Touch.Parts = append(r.Entrants[i].Touch.Parts, result.Part{
				Path: fmt.Sprintf("a.member.with.a.long[].path[].number%d", j), Bytes: int64(400 + 10*j),
			})
		}
	}
	return chart.NewPayload(r, v)
}

func movedOf(t *testing.T, names []string) *chart.Moves {
	t.Helper()
	r, v, _ := insideRun(t, names)
	return chart.NewMoves(r, v, len(v.Moved)-1)
}

// swept are the pictures of a sweep of these contenders.
func swept(t *testing.T, names []string, log bool) map[string]Picture {
	t.Helper()
	d := sample.Swept{
		Duel: sample.Duel{Rounds: 12, Shots: 20, Seed: 2}, Spread: 0.1, Heats: 0.02,
		Parameters: []result.Parameter{
			sample.Numbers("writers", plan.Threads, 1, 2, 3, 4, 8, 16, 32), sample.Numbers("rows", plan.Items, 20, 400, 4000),
		},
		Takes: func(way int, at ...float64) float64 {
			return 0.001 * (1 + float64(way) + at[0]/float64(1+2*way)) * (1 + at[1]/1000)
		},
	}
	for _, n := range names {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: n, Bytes: 100})
	}
	r := sample.MakeSwept(d)
	s, err := judge.JudgeSweep(r)
	if err != nil {
		t.Fatal(err)
	}
	look := chart.SweepLook{Figure: s.Decides, X: chart.Linear, Y: chart.Linear}
	if log {
		look.X, look.Y = chart.Logarithmic, chart.Logarithmic
	}
	out := map[string]Picture{"map": Swept(r, s, look, true)[0]}
	out["lines"] = Swept(r, s, look, false)[0]
	look.Hidden = 1
	out["lines, one hidden"] = Swept(r, s, look, false)[0]
	look.Hidden, look.Scale = 0, judge.AgainstBaseline
	out["lines against the baseline"] = Swept(r, s, look, false)[0]
	look.Scale, look.Part = judge.AsMeasured, chart.Stretched{From: 0.3, To: 0.6}
	out["lines in part"] = Swept(r, s, look, false)[0]
	return out
}

func TestNoTextOverlapsOrLeavesThePage(t *testing.T) {
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
	long := strings.Repeat("x", 40)
	eight := []string{"per-vessel", "joined", "snapshot", "paged", long, long + "y", "w", "every berth of the quay"}
	for name, all := range map[string]map[string]Picture{
		"linear":     pictures(t, eight[:2], 700, false),
		"log":        pictures(t, eight[:2], 700, true),
		"long names": pictures(t, []string{long, long + "y"}, 700, false),
		"too few":    pictures(t, eight[:2], 4, false),
		"three":      pictures(t, eight[:3], 30, true),
		"eight":      pictures(t, eight, 120, true),
		"sweep":      swept(t, eight[:3], true), "sweep, linear": swept(t, eight[:2], false),
		"sweep of eight": swept(t, eight, true),
	} {
		for kind, pic := range all {
			w, h := pic.size()
			p, err := newPen(sized{&recorder.Canvas{}, w, h})
			if err != nil {
				t.Fatal(err)
			}
			pic.draw(p, w, h)
			if len(p.boxes) < 8 {
				t.Errorf("%s, %s: only %d texts", kind, name, len(p.boxes))
			}
			for i, a := range p.boxes {
				if a.x0 < 0 || a.x1 > w || a.y0 < 0 || a.y1 > h {
					t.Errorf("%s, %s: %q leaves the page: %+v of %gx%g", kind, name, a.text, a, w, h)
				}
				for _, b := range p.boxes[i+1:] {
					if a.x0 < b.x1 && b.x0 < a.x1 && a.y0 < b.y1 && b.y0 < a.y1 {
						t.Errorf("%s, %s: %q and %q overlap", kind, name, a.text, b.text)
					}
				}
			}
		}
	}
}

// A figure that nobody has takes one line that says what it would need, and a word that is no verdict keeps its
// interval.
func TestLanesSayWhatIsTooFew(t *testing.T) {
	pic := pictures(t, []string{"per-vessel", "joined", "snapshot"}, 60, false)["tracks"]
	w, h := pic.size()
	p, err := newPen(sized{&recorder.Canvas{}, w, h})
	if err != nil {
		t.Fatal(err)
	}
	pic.draw(p, w, h)
	few, intervals := 0, 0
	for _, b := range p.boxes {
		switch {
		case strings.HasPrefix(b.text, "too few: needs 500 shots"):
			few++
		case b.text == "–":
			t.Error("an empty place is drawn for a figure that nobody has")
		case strings.Contains(b.text, "still open") && strings.Contains(b.text, " to "):
			intervals++
		}
	}
	if few != 1 || intervals == 0 {
		t.Errorf("too few is said %d times, want once for p99; %d open words have intervals", few, intervals)
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
	pic := pictures(t, []string{"per-vessel", "joined"}, 700, false)["ladder"]
	files, err := Save(pic, dir, "berth")
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
	if _, err := Save(pic, filepath.Join(dir, "none"), "x"); err == nil ||
		!strings.Contains(err.Error(), "save the picture") {
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

// A letter is defined once, however often it stands there; and pictures are small.
func TestSVGDefinesEachLetterOnce(t *testing.T) {
	text := "latencies of all contenders, again and again"
	p := newSVGPage(400, 50)
	pen, err := newPen(p)
	if err != nil {
		t.Fatal(err)
	}
	for y := range 4 {
		pen.text(text, 10, vg.Length(10*y), 9, regular, ink)
	}
	var out bytes.Buffer
	if _, err := p.WriteTo(&out); err != nil {
		t.Fatal(err)
	}
	letters := map[rune]bool{}
	for _, r := range strings.ReplaceAll(text, " ", "") {
		letters[r] = true
	}
	if n := strings.Count(out.String(), "<path id="); n != len(letters) {
		t.Errorf("%d letters are defined, want %d", n, len(letters))
	}
	want := 4 * len([]rune(strings.ReplaceAll(text, " ", "")))
	if n := strings.Count(out.String(), "<use "); n != want {
		t.Errorf("%d letters are used, want %d", n, want)
	}
}

func TestSVGIsSmall(t *testing.T) {
	for name, picture := range pictures(t, []string{"per-vessel", "joined", "snapshot"}, 700, false) {
		most := 60 << 10
		if name == "timeline" {
			most = 300 << 10
		}
		var out bytes.Buffer
		if err := SVG(picture, &out); err != nil {
			t.Fatal(err)
		}
		if out.Len() > most {
			t.Errorf("%s takes %d bytes of SVG; want %d at most", name, out.Len(), most)
		}
	}
}

// Every sign has an outline of some size, whatever curves it is made of.
func TestSVGDrawsEverySign(t *testing.T) {
	for i := range plan.MaxContenders {
		page := newSVGPage(40, 40)
		p, err := newPen(page)
		if err != nil {
			t.Fatal(err)
		}
		p.sign(chart.SignOf(i), 20, 20, ink)
		var out bytes.Buffer
		page.WriteTo(&out)
		_, path, _ := strings.Cut(out.String(), ` d="`)
		path, _, _ = strings.Cut(path, `"`)
		if bad := strings.Contains(path, "NaN") || strings.Contains(path, "Inf"); bad || !strings.HasSuffix(path, "z") ||
			len(path) < len("M15 24h10l-5-9z") {
			t.Errorf("%s is drawn as %q", chart.SignOf(i).Glyph, path)
		}
	}
}
