package weighin

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"context"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

func TestAnswersAreDecoded(t *testing.T) {
	const text = "salt cod, timber, barley"
	var zipped, deflated, standard bytes.Buffer
	z := gzip.NewWriter(&zipped)
	z.Write([]byte(text))
	z.Close()
	d := zlib.NewWriter(&deflated)
	d.Write([]byte(text))
	d.Close()
	s, err := zstd.NewWriter(&standard)
	if err != nil {
		t.Fatal(err)
	}
	s.Write([]byte(text))
	s.Close()
	tests := []struct{ encoding, body, want, note string }{
		{"", text, text, ""}, {
			"identity", text, text, "",
		}, {"gzip", zipped.String(), text, ""}, {" GZIP ", zipped.String(), text, ""},
		{"deflate", deflated.String(), text, ""}, {"zstd", standard.String(), text, ""}, {"gzip", "", "", ""},
		{
			"gzip", "no gzip", "no gzip", "cannot be decoded",
		}, {"gzip", zipped.String()[:20], zipped.String()[:20], "cannot be decoded"},
		{"harbour", "x", "x", `encoding "harbour"`},
	}
	for _, tt := range tests {
		got, note := decode(tt.encoding, []byte(tt.body))
		if string(got) != tt.want || !strings.Contains(note, tt.note) || (tt.note == "") != (note == "") {
			t.Errorf("decode(%q, %.20q) = %.30q, %q; want %.30q, %q", tt.encoding, tt.body, got, note, tt.want, tt.note)
		}
	}
}

func TestHeadersAreWeighed(t *testing.T) {
	parts := weighHeaders([]string{"A: 1", "Set-Cookie: x=1", "Set-Cookie: y=2"})
	if len(parts) != 2 || parts[0] != (result.Part{Path: "Set-Cookie", Bytes: 34, Count: 2}) || parts[1].Bytes != 6 {
		t.Errorf("headers weigh %+v", parts)
	}
}

// standard is what two contenders are held to that answered body at the weigh-in, twice the same when steady.
func standard(same *plan.Same, steady bool, body string) *Standard {
	s := newStandard(&plan.Plan{Baseline: "a", Same: same})
	for _, name := range []string{"a", "b"} {
		s.set(Answer{
			Name: name, Body: []byte(body), raw: []byte(body), Whole: true, Outcome: "200 OK",
		}, &result.Touch{Bytes: int64(len(body)), Steady: steady})
	}
	return s
}

// take has a checker see one answer of a row, sampled or not, and returns what is recorded of it.
func take(c *Checker, row int, body string) shots.Shot {
	shot := shots.Shot{Row: row, Length: int64(len(body))}
	c.Ask(&shot)
	if shot.View != nil {
		shot.View.Body, shot.View.Bytes, shot.View.Known, shot.View.Outcome = append(
			shot.View.Body, body...,
		), int64(len(body)), true, "200 OK"
	}
	if c.Take(&shot) {
		return shot
	}
	var recorded shots.Shot
	c.Settle(context.Background(), func(s *shots.Shot) { recorded = *s })
	return recorded
}

func TestLengthsAreHeldToEachOther(t *testing.T) {
	none := plan.Fraction(0)
	s := standard(&plan.Same{Sample: &none}, true, "tide")
	c := s.Checkers("b", 2, 1)
	if got := take(c[0], 0, "tide"); got.Class != shots.OK {
		t.Errorf("the same length: %s %v", got.Class, got.Err)
	}
	if got := take(c[1], 0, "tides"); got.Class != shots.Unequal || got.Err.Error() != "an answer of 5 bytes, 4 before" {
		t.Errorf("another length: %s %v", got.Class, got.Err)
	}
	// Another row's length is that of its first answer.
	if first, second := take(c[0], 7, "ebb"), take(c[1], 7, "ebbs"); first.Class != shots.OK ||
		second.Class != shots.Unequal {
		t.Errorf("row 7: %s, then %s", first.Class, second.Class)
	}
	// Who answers differently each time is not held to a length.
	c = standard(&plan.Same{Sample: &none}, false, "tide").Checkers("b", 1, 1)
	if got := take(c[0], 0, "tides"); got.Class != shots.OK {
		t.Errorf("an unsteady answer: %s %v", got.Class, got.Err)
	}
}

func TestSampledAnswersAreHeldToTheWeighIn(t *testing.T) {
	all := plan.Fraction(1)
	tests := []struct {
		name   string
		same   *plan.Same
		steady bool
		body   string
		want   string // of the failure; empty: none
	}{
		{"the same", &plan.Same{Body: "exact", Sample: &all}, false, `{"a":1}`, ""},
		{"other bytes", &plan.Same{Body: "exact", Sample: &all}, false, `{"a":2}`, "not the same bytes as at the weigh-in"},
		{"the same JSON", &plan.Same{Body: "json", Sample: &all}, false, ` {"a": 1}`, ""},
		{"other JSON", &plan.Same{
			Body: "json", Sample: &all,
		}, false, ` {"a": 3}`, "not the same JSON as at the weigh-in: /a is 3, not 1"},
		{"without rules, steady", &plan.Same{Sample: &all}, true, `{"a":9}`, "not the same bytes as before"},
		{"without rules, unsteady", &plan.Same{Sample: &all}, false, `{"a":9}`, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got := take(standard(tt.same, tt.steady, `{"a":1}`).Checkers("b", 1, 3)[0], 0, tt.body)
			if tt.want == "" && got.Class != shots.OK || tt.want != "" && (got.Class != shots.Unequal ||
				!strings.Contains(got.Err.Error(), tt.want)) {
				t.Errorf("%s, %v; want %q", got.Class, got.Err, tt.want)
			}
			if got.View != nil {
				t.Error("the answer is kept after it was compared")
			}
		})
	}
	// Another row is held to the baseline's answer for it, once that was seen.
	s := standard(&plan.Same{Body: "exact", Sample: &all}, false, "tide")
	take(s.Checkers("a", 1, 1)[0], 4, "high")
	if got := take(s.Checkers("b", 1, 1)[0], 4, "low"); got.Class != shots.Unequal {
		t.Errorf("another answer than the baseline's for a row: %s", got.Class)
	}
	s.apart([]string{"b"}) // accepted as unequal: only held to itself
	if got := take(s.Checkers("b", 1, 1)[0], 5, "own"); got.Class != shots.OK {
		t.Errorf("an accepted contender is held to the baseline: %s", got.Class)
	}
}

// About the share asked for is sampled, the first shot of a heat always.
func TestSharesOfSamples(t *testing.T) {
	for _, frac := range []float64{0.01, 0.25} {
		f := plan.Fraction(frac)
		c := standard(&plan.Same{Sample: &f}, false, "tide").Checkers("b", 1, 9)[0]
		sampled := 0
		for i := range 20_000 {
			shot := shots.Shot{}
			c.Ask(&shot)
			if shot.View != nil {
				sampled++
			}
			if i == 0 && sampled != 1 {
				t.Error("the first shot is not sampled")
			}
		}
		if got := float64(sampled) / 20_000; got < frac*0.85 || got > frac*1.15 {
			t.Errorf("%g of the shots are sampled; want %g", got, frac)
		}
	}
}

// A sampled shot is held until the heat is over: what the client reuses for its next shots is kept apart.
func TestHeldShotsAreTheirOwn(t *testing.T) {
	all := plan.Fraction(1)
	c := standard(&plan.Same{Sample: &all}, true, "tide").Checkers("b", 1, 1)[0]
	told := []shots.Mark{{Name: "db", Value: 1}}
	within, course := []shots.Stretch{{}}, []shots.Moment{{}}
	inside := []spans.Span{{Name: "first", Parent: spans.None}, {Name: "second", Parent: spans.None, Needs: []int{0}}}
	body := []byte("tide")
	for i := range 3 {
		shot := shots.Shot{}
		c.Ask(&shot)
		told[0].Value = float64(int(1) << i)
		within[0].Latency, course[0].Resident, inside[1].Needs[0] = time.Duration(i), int64(i), i
		shot.Told, shot.Within, shot.Course, shot.Inside, shot.Length = told, within, course, inside, 4
		shot.View.Body, shot.View.Bytes, shot.View.Known = append(shot.View.Body, body...), 4, true
		c.Take(&shot)
	}
	i := 0
	compared := c.Settle(context.Background(), func(s *shots.Shot) {
		if s.Class != shots.OK || len(s.Told) != 1 || s.Told[0].Value != float64(int(1)<<i) {
			t.Errorf("shot %d: %s %v, told %v", i, s.Class, s.Err, s.Told)
		}
		if s.Within[0].Latency != time.Duration(i) || s.Course[0].Resident != int64(i) || s.Inside[1].Needs[0] != i {
			t.Errorf("shot %d: %v, %v, %v", i, s.Within, s.Course, s.Inside)
		}
		i++
	})
	if compared != 3 || i != 3 {
		t.Errorf("%d compared of %d", compared, i)
	}
}

// Sampled answers go through the plan's filter, too, unless they are byte by byte those of before.
func TestSamplesGoThroughTheFilter(t *testing.T) {
	all := plan.Fraction(1)
	rules := func(through string) *plan.Same { return &plan.Same{Body: "exact", Through: through, Sample: &all} }
	tests := []struct {
		name, through, body string
		want                shots.Class
	}{
		{"the same behind it", "tr A-Z a-z", "EBB", shots.OK},
		{"other behind it", "tr A-Z a-z", "FLOOD", shots.Unequal},
		{"a filter that fails", "exit 1", "EBB", shots.Unequal},
		{"nothing to filter", "exit 1", "ebb", shots.OK},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if got := take(standard(rules(tt.through), false, "ebb").Checkers("b", 1, 1)[0], 0, tt.body); got.Class != tt.want {
				t.Errorf("it counts as %s, %v; want %s", got.Class, got.Err, tt.want)
			}
		})
	}
	// What a filter makes of an empty answer is not taken for the answer.
	empty := newStandard(&plan.Plan{Baseline: "a", Same: rules("wc -c")})
	for _, name := range []string{"a", "b"} {
		empty.set(Answer{Name: name, Outcome: "200 OK", Body: []byte("0\n"), Whole: true}, &result.Touch{Steady: true})
	}
	empty.of["b"].lengths = nil // it is the answer that is looked at here
	if got := take(empty.Checkers("b", 1, 1)[0], 0, "0\n"); got.Class != shots.Unequal {
		t.Errorf("an answer of two bytes counts as %s where there were none", got.Class)
	}
	// Nobody waits for filters after an interrupt.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	c := standard(rules("sleep 600"), false, "ebb").Checkers("b", 1, 1)[0]
	for _, body := range []string{"ebb", "FLOOD"} {
		shot := shots.Shot{}
		c.Ask(&shot)
		shot.View.Body, shot.View.Bytes, shot.View.Known, shot.View.Outcome = append(
			shot.View.Body, body...,
		), int64(len(body)), true, "200 OK"
		c.Take(&shot)
	}
	recorded := 0
	if compared := c.Settle(ctx, func(s *shots.Shot) { recorded++ }); compared != 1 || recorded != 2 {
		t.Errorf("%d of %d samples were compared; want the one that needs no filter of both", compared, recorded)
	}
}
