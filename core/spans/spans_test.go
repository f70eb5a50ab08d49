package spans_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/spans"
)

const ms = time.Millisecond

// shot makes a shot of so many ms out of spans: "name from to parent", with what they need behind it.
func shot(t *testing.T, length int, known bool, lines ...string) *spans.Shot {
	t.Helper()
	s := &spans.Shot{Length: time.Duration(length) * ms, Known: known}
	names := map[string]int{"-": spans.None}
	for i, line := range lines {
		var name, parent, need string
		var from, to int
		if n, _ := fmt.Sscan(line, &name, &from, &to, &parent, &need); n < 4 {
			t.Fatalf("%q is no span", line)
		}
		sp := spans.Span{
			Name: strings.TrimRight(name, "0123456789"), Begin: time.Duration(from) * ms, End: time.Duration(to) * ms,
			Parent: names[parent],
		}
		for one := range strings.SplitSeq(need, ",") {
			if one != "" {
				sp.Needs = append(sp.Needs, names[one])
			}
		}
		names[name] = i
		s.Spans = append(s.Spans, sp)
	}
	return s
}

// inWords is what became of a shot, in ms: each step with its count, total, own time and share of the path.
func inWords(in *spans.Inside) string {
	var out []string
	for i := range in.Steps {
		st := &in.Steps[i]
		name := st.Name
		if st.Parent != spans.None {
			name = in.Steps[st.Parent].Name + "/" + name
		}
		out = append(out, fmt.Sprintf("%d x %s %d own %d path %d half %d atonce %d",
			st.Count, name, st.Total/ms, st.Own/ms, st.OnPath/ms, in.Halved[i]/ms, st.AtOnce))
	}
	return strings.Join(append(out, fmt.Sprintf("added %d idle %d together %d", in.Added/ms, in.Idle/ms,
		in.Together/ms)), "\n")
}

func TestShapesOfWaiting(t *testing.T) {
	for _, tt := range []struct {
		name string
		shot *spans.Shot
		want []string
	}{
		{"a chain that need not be one", shot(t, 150, true, "vessel 0 41 -", "berth 41 93 -", "tide 95 144 -"), []string{
			"1 x vessel 41 own 41 path 41 half 129 atonce 1", "1 x berth 52 own 52 path 52 half 124 atonce 1",
			"1 x tide 49 own 49 path 49 half 125 atonce 1", "added 142 idle 8 together 60",
		}},
		{"a chain that has to be one", shot(t, 142, true, "vessel 0 41 -", "berth 41 93 - vessel", "tide 93 142 - berth"),
			[]string{
				"1 x vessel 41 own 41 path 41 half 121 atonce 1", "1 x berth 52 own 52 path 52 half 116 atonce 1",
				"1 x tide 49 own 49 path 49 half 117 atonce 1", "added 142 idle 0 together 142",
			}},
		{"a fan", shot(t, 54, true, "vessel 1 41 -", "berth 1 52 -", "tide 1 48 -"), []string{
			"1 x vessel 40 own 40 path 0 half 0 atonce 1", "1 x berth 51 own 51 path 51 half 50 atonce 1",
			"1 x tide 47 own 47 path 0 half 0 atonce 1", "added 138 idle 3 together 54",
		}},
		{"a diamond", shot(t, 100, true, "vessel 0 20 -", "berth 20 60 - vessel", "pilot 20 80 - vessel",
			"bill 80 100 - berth,pilot"), []string{
			"1 x vessel 20 own 20 path 20 half 90 atonce 1", "1 x berth 40 own 40 path 0 half 0 atonce 1",
			"1 x pilot 60 own 60 path 60 half 80 atonce 1", "1 x bill 20 own 20 path 20 half 90 atonce 1",
			"added 140 idle 0 together 100",
		}},
		{"a late leg", shot(t, 100, true, "vessel 0 20 -", "tide 50 100 -"), []string{
			"1 x vessel 20 own 20 path 20 half 90 atonce 1", "1 x tide 50 own 50 path 50 half 75 atonce 1",
			"added 70 idle 30 together 80",
		}},
		{"many queries within one request", shot(t, 60, false, "page 0 60 -",
			"select1 10 20 page", "select2 20 30 page", "select3 31 41 page", "render 41 55 page"), []string{
			"1 x page 60 own 16 path 60 half 30 atonce 1", "3 x page/select 30 own 30 path 30 half 45 atonce 1",
			"1 x page/render 14 own 14 path 14 half 53 atonce 1", "added 60 idle 0 together 30",
		}},
		{"the same at once", shot(t, 40, false, "page 0 40 -", "select1 10 20 page", "select2 10 24 page",
			"select3 11 22 page"), []string{
			"1 x page 40 own 26 path 40 half 20 atonce 1", "3 x page/select 35 own 35 path 14 half 33 atonce 3",
			"added 61 idle 0 together 40",
		}},
		{"what goes on when its request is done", shot(t, 20, false, "page 0 20 -", "log 15 40 page"), []string{
			"1 x page 20 own 15 path 20 half 10 atonce 1", "1 x page/log 5 own 5 path 5 half 17 atonce 1",
			"added 20 idle 0 together 20",
		}},
		{"nothing", shot(t, 20, false), []string{"added 0 idle 20 together 20"}},
	} {
		in := spans.Look(tt.shot)
		if got, want := inWords(in), strings.Join(tt.want, "\n"); got != want {
			t.Errorf("%s:\n%s\nwant:\n%s", tt.name, got, want)
		}
	}
}

// random makes a shot of up to n spans, parts within and beside one another.
func random(r *rand.Rand, n int) *spans.Shot {
	s := &spans.Shot{Length: time.Duration(1+r.IntN(50)) * ms}
	for i := range r.IntN(n) {
		parent := r.IntN(i+1) - 1
		from, to := time.Duration(0), s.Length
		if parent >= 0 {
			from, to = s.Spans[parent].Begin, s.Spans[parent].End
		}
		begin := from + time.Duration(r.Int64N(int64(to-from)/int64(ms)+1))*ms
		end := begin + time.Duration(r.Int64N(int64(to-begin)/int64(ms)+1))*ms
		s.Spans = append(s.Spans, spans.Span{Name: string(rune('a' + r.IntN(4))), Begin: begin, End: end, Parent: parent})
	}
	return s
}

// What holds of any shot, against a plain look at each millisecond.
func TestAnyShot(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 3_000 {
		s := random(r, 30)
		at := time.Duration(0)
		for _, p := range s.CriticalPath() {
			if p.Begin != at || p.End < p.Begin {
				t.Fatalf("%+v: a piece from %s to %s after %s", s, p.Begin, p.End, at)
			}
			if p.Span != spans.None && (p.Begin < s.Spans[p.Span].Begin || p.End > s.Spans[p.Span].End) {
				t.Fatalf("%+v: a piece from %s to %s of span %d", s, p.Begin, p.End, p.Span)
			}
			at = p.End
		}
		if at != s.Length {
			t.Fatalf("%+v: a path to %s", s, at)
		}
		in := spans.Look(s)
		idle := time.Duration(0)
		for tick := time.Duration(0); tick < s.Length; tick += ms {
			if !slices.ContainsFunc(s.Spans, func(sp spans.Span) bool { return sp.Begin <= tick && tick < sp.End }) {
				idle += ms
			}
		}
		if in.Idle != idle || in.Together > in.Length || in.Together < 0 {
			t.Fatalf("%+v: idle %s, together %s; want %s", s, in.Idle, in.Together, idle)
		}
		count, top := 0, time.Duration(0)
		for i := range in.Steps {
			st := &in.Steps[i]
			count += st.Count
			if st.Parent == spans.None {
				top += st.OnPath
			}
			if st.Parent >= i || st.OnPath > st.Covered || st.Covered > st.Total || in.Halved[i] > s.Length ||
				in.Halved[i] > 0 && in.Halved[i] < s.Length/2-ms {
				t.Fatalf("%+v: step %d: %+v, halved %s", s, i, st, in.Halved[i])
			}
		}
		if count != len(s.Spans) || top > s.Length {
			t.Fatalf("%+v: %d spans in steps, %s of them on the path", s, count, top)
		}
	}
}

func TestHostileShots(t *testing.T) {
	deep := &spans.Shot{Length: ms}
	for i := range 10_000 {
		deep.Spans = append(deep.Spans, spans.Span{Name: "d", End: ms, Parent: i - 1})
	}
	if in := spans.Look(deep); len(in.Steps) > 200 || in.Steps[0].OnPath != ms {
		t.Errorf("%d steps, %+v", len(in.Steps), in.Steps[0])
	}
	wide := &spans.Shot{Length: time.Second}
	for i := range spans.MaxSpans + 100 {
		at := time.Duration(i) * 10 * time.Microsecond
		wide.Spans = append(wide.Spans, spans.Span{Name: "w", Begin: at, End: at + 5*time.Microsecond, Parent: spans.None})
	}
	if in := spans.Look(wide); in.Steps[0].Count != spans.MaxSpans {
		t.Errorf("%d spans", in.Steps[0].Count)
	}
	odd := &spans.Shot{Length: ms, Spans: []spans.Span{
		{Name: "own parent", Begin: -time.Hour, End: time.Hour, Parent: 0},
		{Name: "backwards", Begin: ms, End: 0, Parent: 7},
		{Name: "far away", Begin: time.Hour, End: 2 * time.Hour, Parent: -9},
	}}
	if in := spans.Look(odd); in.Steps[0].Total != ms || in.Added != ms || len(in.Steps) != 3 {
		t.Errorf("%+v", in)
	}
}

func TestWhatShotsHaveInCommon(t *testing.T) {
	var all []*spans.Inside
	for i := range 8 {
		lines := []string{"page 0 20 -", fmt.Sprintf("select1 1 %d page", 2+i)}
		if i%2 == 0 {
			lines = append(lines, "select2 12 14 page", "render 14 18 page")
		}
		all = append(all, spans.Look(shot(t, 20+i, false, lines...)))
	}
	s, of := spans.Summarize(all)
	var got []string
	for i := range s.Steps {
		c := &s.Steps[i]
		got = append(got, fmt.Sprint(c.Name, c.Parent, c.Shots, c.Spans, c.Total, c.Begin, c.End))
	}
	want := []string{
		"page-1 8 8 [20ms 20ms 20ms] [0s 0s 0s] [20ms 20ms 20ms]",
		"select0 8 12 [3ms 5ms 7ms] [1ms 1ms 1ms] [5ms 9ms 14ms]",
		"render0 4 4 [4ms 4ms 4ms] [14ms 14ms 14ms] [18ms 18ms 18ms]",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if s.Shots != 8 || s.Length != [3]time.Duration{21 * ms, 23 * ms, 25 * ms} || !slices.Equal(of[0], []int{0, 1, 2}) {
		t.Errorf("%+v, %v", s, of)
	}
}

// Which step needs which is kept where steps change places: what begins later may come first.
func TestStepsKeepTheirNeeds(t *testing.T) {
	at := func(name string, from, to int, needs ...int) spans.Span {
		return spans.Span{
			Name: name, Begin: time.Duration(from) * ms, End: time.Duration(to) * ms, Parent: spans.None, Needs: needs,
		}
	}
	in := spans.Look(&spans.Shot{Length: 40 * ms, Known: true, Spans: []spans.Span{
		at("bill", 30, 40, 1, 2), at("list", 0, 10), at("list", 10, 20, 1), at("tide", 20, 30),
	}})
	s, _ := spans.Summarize([]*spans.Inside{in, in})
	var got []string
	for _, step := range s.Steps {
		got = append(got, fmt.Sprint(step.Name, step.Needs))
	}
	if want := []string{"list[0]", "tide[]", "bill[0]"}; !slices.Equal(got, want) {
		t.Errorf("%v; want %v", got, want)
	}
}

func TestTooManySteps(t *testing.T) {
	s := &spans.Shot{Length: time.Second}
	for i := range 1_000 {
		s.Spans = append(s.Spans, spans.Span{Name: fmt.Sprint("q", i), Begin: time.Duration(i) * ms,
			End: time.Duration(i+1) * ms, Parent: spans.None})
	}
	sum, _ := spans.Summarize([]*spans.Inside{spans.Look(s)})
	if last := sum.Steps[len(sum.Steps)-1]; len(sum.Steps) != spans.MaxSteps+1 || last.Name != spans.Rest ||
		last.Spans != 800 {
		t.Errorf("%d steps, the last %+v", len(sum.Steps), last)
	}
}

func BenchmarkLook(b *testing.B) {
	s := random(rand.New(rand.NewPCG(1, 2)), 2)
	for i := range 1_000 {
		at := time.Duration(i) * 10 * time.Microsecond
		s.Spans = append(s.Spans, spans.Span{Name: string(rune('a' + i%7)), Begin: at, End: at + ms, Parent: spans.None})
	}
	s.Length = 20 * ms
	for b.Loop() {
		spans.Look(s)
	}
}

// Of steps at once now one and now another is waited for: what each is of the path on average adds up to the length.
func TestMeansOnThePathAddUp(t *testing.T) {
	var all []*spans.Inside
	for i := range 6 {
		a, b, c := 10, 10, 10
		switch i % 3 {
		case 0:
			a = 30
		case 1:
			b = 30
		default:
			c = 30
		}
		all = append(all, spans.Look(shot(t, 30, true, fmt.Sprintf("a 0 %d -", a), fmt.Sprintf("b 0 %d -", b),
			fmt.Sprintf("c 0 %d -", c))))
	}
	s, _ := spans.Summarize(all)
	sum := time.Duration(0)
	for i := range s.Steps {
		sum += s.Steps[i].MeanOnPath
		if s.Steps[i].MeanOnPath != 10*ms || s.Steps[i].OnPath.Middle() != 0 {
			t.Errorf("%s is %s on average, %s in the middle", s.Steps[i].Name, s.Steps[i].MeanOnPath, s.Steps[i].OnPath.Middle())
		}
	}
	if sum != s.MeanLength || sum != 30*ms {
		t.Errorf("%s of %s", sum, s.MeanLength)
	}
}
