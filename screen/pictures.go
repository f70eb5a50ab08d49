package screen

import (
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"paceduel/screen/look"
)

// Pictures keeps what was computed for the run in view until that changes: several parts of a frame, and several
// frames, ask for the same. Like all that views have, it belongs to the program's loop.
type Pictures struct {
	of   *Run
	made map[any]any // by keys of the views' own types
}

// mostPictures bounds what is kept of one run: each way of looking at it is a picture.
const mostPictures = 64

// Picture is what draw makes for the run of a scene, drawn once for each key until the run changes. Keys are values of
// a type that only one picture has, and hold whatever else the picture is made of.
func Picture[T any](s Scene, key any, draw func() T) T {
	p := s.Pictures
	if p == nil {
		return draw()
	}
	if p.made == nil || p.of != s.Run || len(p.made) >= mostPictures {
		p.of, p.made = s.Run, map[any]any{}
	}
	if kept, ok := p.made[key]; ok {
		return kept.(T)
	}
	made := draw()
	p.made[key] = made
	return made
}

// PictureNames are the names of a view's pictures in a line of at most w cells, that in view set off: where not all fit
// those around it.
func PictureNames(t look.Theme, names []string, at, w int) string {
	const gap = 2
	names, from := slices.Clone(names), 0
	width := func(end int) (sum int) {
		for _, name := range names[from:end] {
			sum += lipgloss.Width(name) + gap
		}
		return sum - gap
	}
	end := len(names)
	if width(end) > w {
		for ; end > at+1 && width(end) > w-gap-1; end-- {
		}
		for ; from < at && width(end) > w-2*(gap+1); from++ {
		}
	}
	var out []string
	if from > 0 {
		out = append(out, t.Faint.Render("…"))
	}
	for i := from; i < end; i++ {
		name := names[i]
		style := t.Faint
		if i == at {
			style = t.Strong.Underline(true)
		}
		out = append(out, style.Render(name))
	}
	if end < len(names) {
		out = append(out, t.Faint.Render("…"))
	}
	return strings.Join(out, "  ")
}
