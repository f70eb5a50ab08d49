package find

import (
	"math"
	"math/rand/v2"
	"testing"
)

// history is a made-up line of commits: the level of each, in logarithms.
type history struct {
	levels []float64
	broken []bool
}

func stepAt(n int, steps map[int]float64) history {
	h := history{levels: make([]float64, n), broken: make([]bool, n)}
	level := 0.0
	for i := range n {
		level += steps[i]
		h.levels[i] = level
	}
	return h
}

// looked searches a history in which rounds have a noise, and returns the state at the end and how many looks it took.
func looked(rng *rand.Rand, h history, worse, noise float64, most int) (*State, int) {
	const rounds = 5
	s := NewSearch(len(h.levels))
	s.Worse, s.Anchored = math.Log1p(worse), true
	for {
		st := s.State()
		if st.Known || s.Looks() >= most {
			return st, s.Looks()
		}
		if h.broken[st.Next] {
			s.Break(st.Next)
			continue
		}
		l := Look{At: st.Next}
		for range rounds {
			l.Diffs = append(l.Diffs, h.levels[st.Next]+noise*rng.NormFloat64())
		}
		s.Add(l)
	}
}

// Held by simulation: the commit with a step of 10 % is named in at least 95 % of 500 histories of 64 commits, at a
// noise of 5 % a round, in at most 15 looks of 5 rounds. Where both heats of a round have that noise by themselves, it
// is at least the likeliest in 90 %.
func TestTheCommitIsFound(t *testing.T) {
	const commits, most = 64, 15
	histories := 500
	if testing.Short() {
		histories = 60
	}
	for _, tt := range []struct {
		name  string
		noise float64
		known bool // whether the search has to be over
	}{{"a round", 0.05, true}, {"each heat", 0.05 * math.Sqrt2, false}} {
		rng := rand.New(rand.NewPCG(64, 15))
		right, wrong, guessed, total := 0, 0, 0, 0
		for range histories {
			at := rng.IntN(commits)
			st, looks := looked(rng, stepAt(commits, map[int]float64{at: math.Log(1.1)}), 0.05, tt.noise, most)
			total += looks
			switch {
			case st.Known && st.Answer == at:
				right++
			case st.Known:
				wrong++
			case st.Likeliest() == at:
				guessed++
			}
		}
		t.Logf("noise of %s: right %d, wrong %d, not over but likeliest %d, of %d; %.1f looks on average", tt.name, right,
			wrong,
			guessed, histories, float64(total)/float64(histories))
		found := right
		if !tt.known {
			found += guessed
		}
		if least := map[bool]int{true: 95, false: 90}[tt.known]; found < histories*least/100 || wrong > histories*5/100 {
			t.Errorf("noise of %s: only %d of %d are found", tt.name, found, histories)
		}
	}
}

// Where there is no step, none is said to be there; where there are two, both are.
func TestNoStepAndTwoSteps(t *testing.T) {
	const commits, most = 64, 25
	histories := 200
	if testing.Short() {
		histories = 30
	}
	rng := rand.New(rand.NewPCG(3, 4))
	none, two, firstOfTwo := 0, 0, 0
	for range histories {
		if st, _ := looked(rng, stepAt(commits, nil), 0.05, 0.05, most); st.Known && st.Answer < 0 {
			none++
		}
		a := rng.IntN(commits / 2)
		b := commits/2 + rng.IntN(commits/2)
		if b-a < 4 {
			b += 4
		}
		st, _ := looked(rng, stepAt(commits, map[int]float64{a: math.Log(1.12), b: math.Log(1.12)}), 0.05, 0.05, most)
		if st.Two > 0.5 {
			two++
		}
		if st.Known && st.Answer == a {
			firstOfTwo++
		}
	}
	t.Logf("none %d, two %d, the first of two %d of %d", none, two, firstOfTwo, histories)
	if none < histories*90/100 {
		t.Errorf("no step is said of %d of %d histories without one", none, histories)
	}
	if two < histories*80/100 || firstOfTwo < histories*85/100 {
		t.Errorf("of %d histories with two steps, more than one is said of %d, and the first named in %d", histories, two,
			firstOfTwo)
	}
}

// Of many commits each is less likely than that there is none, long before none is likely.
func TestOneOfManyIsLikelierThanNone(t *testing.T) {
	s := NewSearch(60)
	s.Worse, s.Anchored = math.Log1p(0.05), true
	s.Add(Look{At: 59, Diffs: []float64{0.02, 0.3, 0.1, 0.25, 0.05}})
	st := s.State()
	if i := st.Likeliest(); i < 0 || st.None <= st.First[i] || st.None > 0.5 {
		t.Errorf("none has %.3f, the likeliest is %d", st.None, i)
	}
}

// Where looks are held to something else than the good commit, that is looked at again and again, and steps are found
// just as well.
func TestTheGoodCommitIsLookedAtAgain(t *testing.T) {
	const histories, commits, most, noise = 60, 24, 20, 0.05
	rng := rand.New(rand.NewPCG(12, 13))
	right := 0
	for range histories {
		at := rng.IntN(commits)
		h := stepAt(commits, map[int]float64{at: math.Log(1.15)})
		s := NewSearch(commits)
		s.Worse = math.Log1p(0.05)
		good := 0
		for {
			st := s.State()
			if st.Known || s.Looks() >= most {
				if st.Known && st.Answer == at {
					right++
				}
				break
			}
			l, level := Look{At: st.Next}, 0.4
			if st.Next < 0 {
				good++
			} else {
				level += h.levels[st.Next]
			}
			for range 5 {
				l.Diffs = append(l.Diffs, level+noise*rng.NormFloat64())
			}
			s.Add(l)
		}
		if s.Looks() > 8 && good < 2 {
			t.Errorf("in %d looks the good commit was looked at %d times", s.Looks(), good)
		}
	}
	if right < histories*9/10 {
		t.Errorf("%d of %d are found", right, histories)
	}
}
