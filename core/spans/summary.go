package spans

import (
	"cmp"
	"slices"
	"time"
)

// Quarters are the quartiles of a time over several shots: a quarter of them took at most the first, half of them the
// second, three quarters the third.
type Quarters [3]time.Duration

// Middle is the median.
func (q Quarters) Middle() time.Duration { return q[1] }

// quarters are those of values, which are sorted in place: each is the value of a shot.
func quarters(values []time.Duration) (q Quarters) {
	if len(values) == 0 {
		return q
	}
	slices.Sort(values)
	for i := range q {
		q[i] = values[((i+1)*len(values)+3)/4-1]
	}
	return q
}

// Common is a step that several shots have. Its quartiles are over the shots that have it.
type Common struct {
	Name       string
	Parent     int   // place of the step that it is a part of, before its own; None: of the shot itself
	Shots      int   // that have it
	Spans      int   // in all of these
	AtOnce     int   // in half of them at least so many were under way together
	Needs      []int // places of the steps that it needs in any of them, itself too where its spans need each other
	Total, Own Quarters
	Covered    Quarters
	Begin, End Quarters
	OnPath     Quarters
	// MeanOnPath is how much of the critical path it is on average over all shots, also of those that do not have it: of
	// steps at once now one and now another is waited for, and only means add up.
	MeanOnPath time.Duration
	CPU        Quarters // used by its spans; zero where that is not known
	Halved     Quarters // what shots could take with it; zero where that is not computed
}

// Summary is what the insides of several shots have in common.
type Summary struct {
	Shots                         int
	Steps                         []Common // parts after what they are parts of
	Length, Added, Idle, Together Quarters
	MeanLength                    time.Duration
}

// MaxSteps is how many steps a summary tells apart; the others are under Rest within what they are part of.
const MaxSteps = 200

// Rest is the name of the steps that were too many.
const Rest = "others"

// mean is the mean of values over so many shots, of which some may have none.
func mean(values []time.Duration, shots int) time.Duration {
	var sum time.Duration
	for _, v := range values {
		sum += v
	}
	return sum / time.Duration(max(shots, 1))
}

// lists are the values of one step.
type lists struct{ total, own, covered, begin, end, onPath, cpu, halved, atOnce []time.Duration }

// Summarize says what shots have in common, and which of its steps each step of each is.
func Summarize(all []*Inside) (s Summary, steps [][]int) {
	type key struct {
		parent int
		name   string
	}
	at := map[key]int{}
	var values []*lists
	var length, added, idle, together []time.Duration
	for _, in := range all {
		length, added = append(length, in.Length), append(added, in.Added)
		idle, together = append(idle, in.Idle), append(together, in.Together)
		to := make([]int, len(in.Steps))
		had := map[int]bool{}
		for i := range in.Steps {
			st := &in.Steps[i]
			k := key{None, st.Name}
			if st.Parent != None {
				k.parent = to[st.Parent]
			}
			place, ok := at[k]
			if !ok && len(s.Steps) >= MaxSteps {
				k.name = Rest
				place, ok = at[k]
			}
			if !ok && len(s.Steps) >= 2*MaxSteps {
				place, ok = len(s.Steps)-1, true
			}
			if !ok {
				place = len(s.Steps)
				at[k] = place
				s.Steps = append(s.Steps, Common{Name: k.name, Parent: k.parent})
				values = append(values, &lists{})
			}
			to[i] = place
			s.Steps[place].Spans += st.Count
			if !had[place] {
				s.Steps[place].Shots++
				had[place] = true
			}
			values[place].add(st, in.Halved[i])
		}
		for i := range in.Steps {
			c := &s.Steps[to[i]]
			for _, need := range in.Steps[i].Needs {
				if place := to[need]; !slices.Contains(c.Needs, place) {
					c.Needs = append(c.Needs, place)
				}
			}
		}
		steps = append(steps, to)
	}
	s.Shots = len(all)
	s.Length, s.Added, s.Idle, s.Together = quarters(length), quarters(added), quarters(idle), quarters(together)
	s.MeanLength = mean(length, len(all))
	for i := range s.Steps {
		values[i].into(&s.Steps[i])
		s.Steps[i].MeanOnPath = mean(values[i].onPath, len(all))
	}
	s.order(steps)
	return s, steps
}

func (l *lists) add(st *Step, halved time.Duration) {
	l.total, l.own, l.covered = append(l.total, st.Total), append(l.own, st.Own), append(l.covered, st.Covered)
	l.begin, l.end, l.onPath = append(l.begin, st.Begin), append(l.end, st.End), append(l.onPath, st.OnPath)
	l.cpu = append(l.cpu, st.CPU)
	l.atOnce = append(l.atOnce, time.Duration(st.AtOnce))
	if halved > 0 {
		l.halved = append(l.halved, halved)
	}
}

func (l *lists) into(c *Common) {
	c.Total, c.Own, c.Covered = quarters(l.total), quarters(l.own), quarters(l.covered)
	c.Begin, c.End, c.OnPath = quarters(l.begin), quarters(l.end), quarters(l.onPath)
	c.CPU = quarters(l.cpu)
	c.AtOnce = int(quarters(l.atOnce).Middle())
	if 2*len(l.halved) > len(l.total) {
		c.Halved = quarters(l.halved)
	}
}

// order puts steps in the order in which they begin in the middle, parts after what they are parts of.
func (s *Summary) order(steps [][]int) {
	parents := make([]int, len(s.Steps))
	for i := range s.Steps {
		parents[i] = s.Steps[i].Parent
	}
	to := Ordered(parents, func(a, b int) int { return cmp.Compare(s.Steps[a].Begin[1], s.Steps[b].Begin[1]) })
	sorted := make([]Common, len(s.Steps))
	for i, place := range to {
		sorted[place] = s.Steps[i]
		if p := s.Steps[i].Parent; p != None {
			sorted[place].Parent = to[p]
		}
		for j, need := range s.Steps[i].Needs {
			sorted[place].Needs[j] = to[need]
		}
		slices.Sort(sorted[place].Needs)
	}
	s.Steps = sorted
	for _, of := range steps {
		for i := range of {
			of[i] = to[of[i]]
		}
	}
}

// Ordered says where steps go that are put in an order, parts after what they are parts of. parents are their places,
// each before its parts'.
func Ordered(parents []int, compare func(a, b int) int) (to []int) {
	parts := make([][]int, len(parents)+1)
	for i, p := range parents {
		parts[p+1] = append(parts[p+1], i)
	}
	to = make([]int, len(parents))
	n := 0
	var place func(parent int)
	place = func(parent int) {
		own := parts[parent+1]
		slices.SortStableFunc(own, compare)
		for _, step := range own {
			to[step] = n
			n++
			place(step)
		}
	}
	place(None)
	return to
}
