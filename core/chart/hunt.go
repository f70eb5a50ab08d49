package chart

import (
	"fmt"
	"math"
	"time"

	"paceduel/core/find"
	"paceduel/core/units"
)

// Hunt is the picture of a search through commits: the commits as a line, the good one at its left end; above them how
// likely each is the first bad one, below what the looks found.
type Hunt struct {
	Title, Sentence, Note string
	Columns               []HuntColumn
	Looks                 []HuntLook
	Edge                  float64 // where worse begins, 0 to 1 from the top
	Even                  float64 // where no worse is
	Ticks                 []Tick  // of how much worse, from the top
	Most                  string  // how likely the likeliest is
}

// HuntColumn is a commit.
type HuntColumn struct {
	X      float64 // 0 to 1
	Name   string  // short hash and subject
	Likely float64 // that it is the first bad one, 0 to 1 of the likeliest
	Share  string  // the same in words
	Bad    float64 // how likely it is bad
	Mark   HuntMark
	Here   bool // it is looked at
}

// HuntMark is what is known of a commit.
type HuntMark int

// The marks.
const (
	Unseen  HuntMark = iota
	Fine             // looked at, and hardly bad
	Bad              // looked at, and most likely bad
	Between          // looked at, and either
	Barred           // cannot be looked at
)

// HuntLook is a look: what it found, with twice its standard error to both sides, 0 to 1 from the top.
type HuntLook struct {
	X, Y, Low, High float64
	Took            time.Duration
}

// NewHunt arranges a search as far as it has come; looking is the commit that is looked at, where busy is set.
func NewHunt(h *find.Hunt, st *find.State, looking int, busy, over bool) *Hunt {
	p := &Hunt{
		Title: "the commits from " + h.First.Short() + " to " + h.At(len(h.Commits)-1).Short(), Sentence: h.Say(st, over),
		Note: "above the line: how likely each commit is the first bad one; below: by how much worse each look found its " +
			"commit, with twice the standard error. Commits marked × cannot be looked at.",
	}
	most := 0.0
	for _, share := range st.First {
		most = max(most, share)
	}
	p.Most = units.Share(most)
	low, high := math.Min(0, h.Edge()), math.Max(0, h.Edge())
	for _, l := range h.Looks {
		mean, se := find.Mean(l.Diffs)
		low, high = math.Min(low, mean-2*se), math.Max(high, mean+2*se)
	}
	pad := (high-low)*0.05 + 1e-9
	low, high = low-pad, high+pad
	place := func(x float64) float64 { return clamp((x - low) / (high - low)) } // worse lies lower
	p.Edge, p.Even = place(h.Edge()), place(0)
	for _, x := range []float64{low + pad, 0, h.Edge(), high - pad} {
		sign := ""
		if x < 0 {
			sign = "-"
		}
		p.Ticks = append(p.Ticks, Tick{place(x), sign + units.Share(math.Abs(math.Expm1(x)))})
	}
	n := len(h.Commits)
	for i := range h.Commits {
		row := h.Row(st, i)
		c := HuntColumn{
			X: placeOf(i+1, n+1), Name: row.Short + "  " + row.Subject, Share: units.Share(row.Share), Bad: st.Bad[i],
			Here: busy && looking == i,
		}
		if most > 0 {
			c.Likely = row.Share / most
		}
		c.Mark = markOf(&row, st.Bad[i])
		p.Columns = append(p.Columns, c)
	}
	for _, l := range h.Looks {
		mean, se := find.Mean(l.Diffs)
		p.Looks = append(p.Looks, HuntLook{
			placeOf(h.Number(l.Commit)+1, n+1), place(mean), place(mean - 2*se), place(mean + 2*se), l.Took,
		})
	}
	return p
}

func markOf(row *find.Row, bad float64) HuntMark {
	const surely = 0.9
	switch {
	case row.Broken != "":
		return Barred
	case row.Looks == 0:
		return Unseen
	case bad >= surely:
		return Bad
	case bad <= 1-surely:
		return Fine
	}
	return Between
}

// Counted says how many looks were taken, and how long the latest took.
func (p *Hunt) Counted(most int) string {
	if n := len(p.Looks); n > 0 {
		return fmt.Sprintf("%d of up to %d looks, the latest in %s", n, most, units.Duration(p.Looks[n-1].Took))
	}
	return fmt.Sprintf("no look of up to %d yet", most)
}
