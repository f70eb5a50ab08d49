package chart

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Payload is the picture of what the contenders' answers ship and what that consists of, as the weigh-in knows it: of
// each the whole, and all that it is made of side by side.
type Payload struct {
	Title, Sentence, Note string
	Conditions            []string
	Scale                 Scale
	Lanes                 []PayloadLane // of the contenders that answered
	Rows                  []PayloadRow  // what they are made of, the heaviest first
	Cells                 Scale         // of the rows
}

// PayloadLane is what one contender ships.
type PayloadLane struct {
	Side
	Shipped, Decoded     string  // Decoded is empty where nothing was encoded
	ShippedTo, DecodedTo float64 // 0 to 1 of the scale
}

// PayloadRow is a member of answers, with a cell for each lane.
type PayloadRow struct {
	Label string
	Cells []PayloadCell
}

// PayloadCell is what one contender ships of a member.
type PayloadCell struct {
	Text string
	To   float64 // 0 to 1 of the rows' scale
}

// maxMembers bounds the rows; the rest is added up.
const maxMembers = 14

// NewPayload arranges what the contenders of a run ship.
func NewPayload(r *result.Result, v *judge.Verdict) *Payload {
	p := &Payload{
		Title: r.Plan.Name, Conditions: Conditions(r, v),
		Note: "of the first answer of each, at the weigh-in: bytes as they are shipped, and beside them as they are once " +
			"decoded. Members are counted decoded, with their names and punctuation, all that stand under one path together.",
	}
	var touches []*result.Touch
	var totals []float64
	for i := range r.Entrants {
		t := r.Entrants[i].Touch
		if t == nil || t.Bytes == 0 {
			continue
		}
		lane := PayloadLane{
			Side:    Side{r.Entrants[i].Name, SignOf(i), r.Entrants[i].Name == r.Plan.Baseline},
			Shipped: units.Bytes(float64(t.Bytes)),
		}
		if t.Decoded > 0 && t.Decoded != t.Bytes {
			lane.Decoded = units.Bytes(float64(t.Decoded))
		}
		p.Lanes, touches = append(p.Lanes, lane), append(touches, t)
		totals = append(totals, float64(max(t.Bytes, t.Decoded)))
	}
	p.Scale = NewScale(totals, false, units.Bytes)
	for i, t := range touches {
		p.Lanes[i].ShippedTo = p.Scale.At(float64(t.Bytes))
		p.Lanes[i].DecodedTo = p.Scale.At(float64(max(t.Decoded, t.Bytes)))
	}
	p.members(touches)
	p.Sentence = payloadSentence(p, touches)
	return p
}

// Any reports whether any contender ships anything.
func (p *Payload) Any() bool { return len(p.Lanes) > 0 }

// member is what the contenders ship of one path; NaN where they have none of it.
type member struct {
	path  string
	bytes []float64
}

func (m *member) heaviest() float64 {
	most := 0.0
	for _, b := range m.bytes {
		if b > most {
			most = b
		}
	}
	return most
}

// membersOf are all members of some answers, the heaviest first.
func membersOf(touches []*result.Touch) (out []member) {
	at := map[string]int{}
	for i, t := range touches {
		for _, part := range t.Parts {
			k, ok := at[part.Path]
			if !ok {
				k = len(out)
				at[part.Path] = k
				one := member{path: part.Path, bytes: make([]float64, len(touches))}
				for j := range one.bytes {
					one.bytes[j] = math.NaN()
				}
				out = append(out, one)
			}
			out[k].bytes[i] = float64(part.Bytes)
		}
	}
	slices.SortStableFunc(out, func(a, b member) int { return cmp.Compare(b.heaviest(), a.heaviest()) })
	return out
}

// members enters what answers are made of.
func (p *Payload) members(touches []*result.Touch) {
	all := membersOf(touches)
	if len(all) > maxMembers {
		rest := member{path: units.Plural(len(all)-maxMembers+1, "more member"), bytes: make([]float64, len(touches))}
		for _, m := range all[maxMembers-1:] {
			for i, b := range m.bytes {
				if !math.IsNaN(b) {
					rest.bytes[i] += b
				}
			}
		}
		all = append(all[:maxMembers-1], rest)
	}
	var values []float64
	for i := range all {
		values = append(values, all[i].heaviest())
	}
	p.Cells = NewScale(values, false, units.Bytes)
	for _, m := range all {
		row := PayloadRow{Label: m.path}
		for _, b := range m.bytes {
			cell := PayloadCell{Text: units.None}
			if !math.IsNaN(b) {
				cell = PayloadCell{units.Bytes(b), p.Cells.At(b)}
			}
			row.Cells = append(row.Cells, cell)
		}
		p.Rows = append(p.Rows, row)
	}
}

// payloadSentence says who ships most and least, and which member is most of the difference.
func payloadSentence(p *Payload, touches []*result.Touch) string {
	if len(touches) == 0 {
		return "No contender answered anything at the weigh-in, so nothing was shipped."
	}
	heavy, light := 0, 0
	for i, t := range touches {
		if t.Bytes > touches[heavy].Bytes {
			heavy = i
		}
		if t.Bytes < touches[light].Bytes {
			light = i
		}
	}
	most, least := touches[heavy], touches[light]
	if most.Bytes == least.Bytes {
		return fmt.Sprintf("All ship %s.", p.Lanes[0].Shipped)
	}
	text := fmt.Sprintf("%s ships %s the bytes of %s (%s, %s)", p.Lanes[heavy].Name,
		units.Times(float64(most.Bytes)/float64(least.Bytes)), p.Lanes[light].Name, p.Lanes[heavy].Shipped,
		p.Lanes[light].Shipped)
	path, by := "", 0.0
	for _, m := range membersOf(touches) {
		own, other := m.bytes[heavy], m.bytes[light]
		if math.IsNaN(other) {
			other = 0
		}
		if own-other > by {
			path, by = m.path, own-other
		}
	}
	if path != "" {
		return text + fmt.Sprintf("; what it has most on top is %s, %s.", path, units.Bytes(by))
	}
	return text + "."
}
