package conduct

import (
	"context"

	"paceduel/core/history"
	"paceduel/core/logbook"
	"paceduel/core/result"
)

// Glimpse is how many runs of a duel are judged for a list of many, where it is not known yet how they stood.
const Glimpse = 3

// TimeLine is the latest runs of a duel over time, at most so many. Runs that were kept before time lines were, or by
// hand, are judged once, the newest first and at most so many of them, and what is found of them is kept.
func TimeLine(ctx context.Context, b *logbook.Book, duel string, most, judged int) (*history.Line, error) {
	stood, all, err := b.RunsOf(duel, most)
	if err != nil {
		return nil, err
	}
	stands := map[string]*history.Stand{}
	var entries []logbook.Entry
	for i := range stood {
		s := &stood[i]
		entries = append(entries, s.Entry)
		if stands[s.ID] = history.Decode(s.Stand); stands[s.ID] != nil || s.Heats == 0 || ctx.Err() != nil || judged == 0 {
			continue
		}
		judged--
		stands[s.ID] = judgedStand(b, s.ID)
	}
	line := history.LineOf(duel, entries, func(e *logbook.Entry) *history.Stand { return stands[e.ID] })
	line.All = all
	return line, nil
}

// judgedStand judges a run of the book for its time line; nil where it cannot be read, or goes on.
func judgedStand(b *logbook.Book, id string) *history.Stand {
	r, err := b.Load(id)
	if err != nil {
		return nil
	}
	v, err := of(r)
	if err != nil {
		return nil
	}
	s := history.Of(r, v.verdict, v.sweep)
	if r.Ending == result.Running { // there will be more of it
		return s
	}
	b.SetStand(id, s.Encode()) // where that fails it is judged again next time
	return s
}
