package fleet

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/clock"
	"paceduel/core/contender/all"
	"paceduel/core/plan"
	"paceduel/core/rounds"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

// Whatever somebody on the bus sends, an agent answers in words and stays as it is.
func FuzzQuestions(f *testing.F) {
	for _, seed := range []any{
		asked{Run: "r"}, takeAsk{Program: "test", Protocol: protocol}, fileAsk{Name: "../x", Size: 3, Data: []byte("abc")},
		openAsk{Source: "duel: x", Weights: []int{1}}, heatAsk{Weights: []int{1, 2}, Who: 1}, beginAsk{Stage: 7},
		touchAsk{At: -1},
		waitAsk{}, fetchAsk{At: -1}, conductAsk{File: "a"}, nextAsk{No: -1}, steerAsk{More: -4},
	} {
		f.Add(encode(seed))
	}
	f.Add([]byte(`{"run":"r"} {"run":"s"}`))
	f.Add([]byte(`[`))
	f.Fuzz(func(t *testing.T, text []byte) {
		a := NewAgent(AgentConfig{Name: "quay", Program: "test", Rules: DefaultRules()}, nil)
		a.run = &hosted{
			a: a, run: "r", heard: time.Now(), clock: clock.Start(), dir: t.TempDir(), laid: map[string]string{},
			forget: func() {},
		}
		defer func() { a.run.end() }()
		for name, answer := range map[string]func([]byte) []byte{
			file: answering(a.file), open: answering(a.open), heat: answering(a.heat), begin: answering(a.begin),
			touch: answering(a.touch),
			fetch: answering(a.fetch), cut: answering(a.cut), tick: answering(a.tick), rest: answering(a.rest),
			conduct: answering(a.conduct), steer: answering(a.steer), halt: answering(a.halt),
		} {
			if len(answer(text)) == 0 {
				t.Errorf("%s has no answer", name)
			}
		}
	})
}

// Whatever an agent answers, whoever runs a duel takes it for what it can be or says what is wrong.
func FuzzAnswers(f *testing.F) {
	shape := &shots.Shape{Parts: []string{"wait"}}
	r := tally.NewRecorder(shape, 3, 1)
	r.Record(&shots.Shot{Start: time.Second, End: 2 * time.Second}, time.Second)
	good := &driven{Warm: r.Pack(), Judged: r.Pack(), Woken: r.Pack()}
	packed, err := (&press{}).squeeze(good)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(packed, encode(good))
	f.Add(packed[:len(packed)/2], encode(Card{Protocol: protocol, Name: "quay", Instance: "0123456789abcdef"}))
	f.Fuzz(func(t *testing.T, packed, plain []byte) {
		var d driven
		if unsqueeze(packed, &d) == nil && d.check() == nil {
			for _, p := range []*tally.Parcel{d.Warm, d.Judged, d.Woken} {
				if got, err := p.Unpack(shape); err == nil {
					tally.Merge([]*tally.Recorder{got})
				}
			}
		}
		var c Card
		if decode(plain, &c) == nil && c.check() == nil && !plan.IsName(c.Name) {
			t.Errorf("%q is taken for an agent's name", c.Name)
		}
		rounds.UnpackEvent(plain)
		var a waitAnswer
		decode(plain, &a)
	})
}

func TestCardsThatAreRefused(t *testing.T) {
	good := Card{Protocol: protocol, Name: "quay-1", Place: "near", Instance: "0123456789abcdef"}
	if err := good.check(); err != nil {
		t.Fatal(err)
	}
	for name, spoil := range map[string]func(*Card){
		"another protocol": func(c *Card) { c.Protocol++ },
		"no name":          func(c *Card) { c.Name = "" },
		"a subject":        func(c *Card) { c.Name = "quay.>" },
		"a wild place":     func(c *Card) { c.Place = "*" },
		"no instance":      func(c *Card) { c.Instance = "quay" },
		"endless rules":    func(c *Card) { c.Rules.Allow = make([]string, maxFiles+1) },
	} {
		c := good
		if spoil(&c); c.check() == nil {
			t.Errorf("%s is taken for a card", name)
		}
	}
}

// However the way there and back is shared, the offset is within what is said of it.
func TestClocksAreKnownAsWellAsIsSaid(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		ahead := time.Duration(rng.Int64N(int64(2*time.Hour))) - time.Hour
		at := time.Duration(rng.Int64N(int64(time.Hour)))
		var list []reading
		least := time.Hour
		for range 1 + rng.IntN(10) {
			there := time.Duration(1e4 + 1e6*rng.ExpFloat64())
			back := time.Duration(1e4 + 1e6*rng.ExpFloat64())
			list = append(list, reading{at, at + there + ahead, at + there + back})
			at += there + back + time.Millisecond
			least = min(least, there+back)
		}
		o := compare(list)
		if off := o.ahead - ahead; off > o.within || -off > o.within || !o.known || o.within > (least+1)/2 ||
			o.trip != least {
			t.Fatalf("ahead by %v, told as %v within %v (shortest trip %v)", ahead, o.ahead, o.within, least)
		}
	}
	if o := compare(nil); o.known {
		t.Errorf("of no readings: %+v", o)
	}
	if o := compare([]reading{{2, 1, 1}}); o.known {
		t.Errorf("of an answer before its question: %+v", o)
	}
}

func TestClocksBeforeAndAfter(t *testing.T) {
	ms := time.Millisecond
	at := func(ahead, within time.Duration) offset { return offset{ahead: ahead, within: within, known: true} }
	tests := []struct {
		before, after        offset
		ahead, within, drift time.Duration
	}{
		{at(10*ms, ms), at(11*ms, ms), 10*ms + ms/2, ms, 0},         // no more than both allow
		{at(10*ms, ms), at(90*ms, ms), 50 * ms, 41 * ms, 78 * ms},   // it went off
		{at(90*ms, ms), at(10*ms, 2*ms), 50 * ms, 42 * ms, 77 * ms}, // and so backwards
		{offset{}, at(5*ms, ms), 5 * ms, ms, 0},
		{at(5*ms, ms), offset{}, 5 * ms, ms, 0},
	}
	for _, tt := range tests {
		o, drift := between(tt.before, tt.after)
		if o.ahead != tt.ahead || o.within != tt.within || drift != tt.drift {
			t.Errorf("%+v, %+v: ahead %v within %v, drift %v", tt.before, tt.after, o.ahead, o.within, drift)
		}
	}
	// Where readings contradict each other, the clock jumped between them: the shortest trip counts.
	o := compare([]reading{{0, 100 * ms, 4 * ms}, {10 * ms, 191 * ms, 11 * ms}})
	if o.ahead < 180*ms || o.ahead > 181*ms {
		t.Errorf("a clock that jumps is told as %v ahead", o.ahead)
	}
}

// Files go where the plan is and nowhere else, and no more of them than a plan has.
func TestFilesAreLaidInPlace(t *testing.T) {
	a := NewAgent(AgentConfig{Name: "quay", Program: "test", Rules: DefaultRules()}, nil)
	if _, err := a.take(&takeAsk{asked{Run: "r"}, protocol, "test", "Board"}); err != nil {
		t.Fatal(err)
	}
	defer a.run.end()
	lay := func(name string, size, at int64, data string) error {
		return a.run.lay(&fileAsk{asked{Run: "r"}, name, size, at, []byte(data)})
	}
	for _, name := range []string{"../out", "/etc/hosts", "", "a/../../b"} {
		if lay(name, 1, 0, "x") == nil {
			t.Errorf("%q was laid", name)
		}
	}
	if lay("a", 2, 1, "xy") == nil || lay("a", -1, 0, "") == nil || lay("a", maxFile+1, 0, "x") == nil {
		t.Error("more was laid than a file has")
	}
	if err := lay("deep/er/rows.csv", 6, 0, "ber"); err != nil {
		t.Error(err)
	}
	if err := lay("deep/er/rows.csv", 6, 3, "ths"); err != nil {
		t.Error(err)
	}
	for i := range maxFiles {
		lay(strings.Repeat("f", i+1), 1, 0, "x")
	}
	if lay("one-more", 1, 0, "x") == nil {
		t.Error("more files were laid than a plan has")
	}
}

// A plan that comes over the bus learns nothing of the files of the machine that drives it.
func TestPlansLearnNothingOfOwnFiles(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret.csv")
	if err := os.WriteFile(secret, []byte("oyster,catcher\n1,2\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	a := NewAgent(AgentConfig{Name: "quay", Program: "test", Rules: DefaultRules(), Kinds: all.Kinds()}, nil)
	if _, err := a.take(&takeAsk{asked{Run: "r"}, protocol, "test", "Board"}); err != nil {
		t.Fatal(err)
	}
	defer a.run.end()
	for _, course := range []string{
		`{ http: { url: "http://127.0.0.1:1/{{v}}", rows: "` + secret + `" } }`,
		`{ http: { url: "http://127.0.0.1:1/{{v}}", rows: "../../../../../../../..` + secret + `" } }`,
		`{ http: { url: "http://127.0.0.1:1/", body-file: "` + secret + `" } }`,
		`{ query: { at: "postgres://a@127.0.0.1:1/b", statement: "select {{v}}", rows: "` + secret + `" } }`,
	} {
		source := "duel: Board\nbaseline: a\ncontenders: { a: , b: }\ncourse: " + course +
			"\npace: { clients: 1, for: 1s }\n"
		q := &openAsk{File: "b.duel.yaml", Source: source, Weights: []int{1}, SHA256: sumOf(source, nil,
			map[string]string{})}
		_, err := a.run.open(t.Context(), newJob("open-1", func() {}), q)
		if err == nil || strings.Contains(err.Error(), "oyster") || !strings.Contains(err.Error(), "not handed over") {
			t.Errorf("%s: %v", course, err)
		}
	}
}

// An owner's ceilings hold for every heat: also where others are lost and this agent's part grows, or whoever asks says
// another part than when the agent got ready.
func TestCeilingsHoldForEveryHeat(t *testing.T) {
	a := NewAgent(AgentConfig{Name: "quay", Program: "test", Rules: DefaultRules()}, nil)
	a.cfg.Rules.Clients = 3
	a.run = &hosted{a: a, run: "r", heard: time.Now(), clock: clock.Start(), dir: t.TempDir(), forget: func() {}}
	a.run.hand = &hand{plan: &plan.Plan{Pace: plan.Pace{Clients: 4}, Contenders: []plan.Contender{{Name: "joined"}}}}
	q := &heatAsk{asked: asked{Run: "r"}, Cell: cell.Of("joined", ""), Weights: []int{1, 1}}
	if _, err := a.heat(q); err == nil || !strings.Contains(err.Error(), "a job needs an identifier") {
		t.Errorf("a part within the ceiling: %v", err)
	}
	q.Weights = []int{1}
	if _, err := a.heat(q); err == nil || !strings.Contains(err.Error(), "4 clients at once are more than the 3") {
		t.Errorf("the whole: %v", err)
	}
}
