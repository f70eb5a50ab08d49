package parts

import (
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"
)

// Scroll shows a part of more lines than there is room for.
type Scroll struct{ port viewport.Model }

// NewScroll returns one at the first line.
func NewScroll() Scroll {
	port := viewport.New()
	port.KeyMap = viewport.KeyMap{
		Up:       key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑ ↓", "scroll")),
		Down:     key.NewBinding(key.WithKeys("down", "j"), key.WithHelp("↓", "scroll down")),
		PageDown: key.NewBinding(key.WithKeys("pgdown", "space"), key.WithHelp("pgdn", "page down")),
		PageUp:   key.NewBinding(key.WithKeys("pgup"), key.WithHelp("pgup", "page up")),
	}
	return Scroll{port}
}

// Key is the binding that stands for moving, in lists of keys.
func (s Scroll) Key() key.Binding { return s.port.KeyMap.Up }

// Page and Back are the bindings for moving by what is in view.
func (s Scroll) Page() key.Binding { return s.port.KeyMap.PageDown }
func (s Scroll) Back() key.Binding { return s.port.KeyMap.PageUp }

// From is the first line in view, counted from 0.
func (s Scroll) From() int { return s.port.YOffset() }

// Press moves within lines of which h of w cells are in view; moved is false when the key is none of the scroll's.
func (s Scroll) Press(msg tea.KeyPressMsg, lines []string, w, h int) (next Scroll, moved bool) {
	m := s.port.KeyMap
	if !key.Matches(msg, m.Up, m.Down, m.PageDown, m.PageUp) {
		return s, false
	}
	s.over(lines, w, h)
	s.port, _ = s.port.Update(msg)
	return s, true
}

// To scrolls to a line, or as near to it as there are lines below it.
func (s Scroll) To(line int, lines []string, w, h int) Scroll {
	s.over(lines, w, h)
	s.port.SetYOffset(line)
	return s
}

// Top scrolls back to the first line.
func (s Scroll) Top() Scroll {
	s.port.SetYOffset(0)
	return s
}

// Lines are those in view: h of w cells.
func (s Scroll) Lines(lines []string, w, h int) []string {
	if w <= 0 || h <= 0 {
		return nil
	}
	s.over(lines, w, h)
	return strings.Split(s.port.View(), "\n")
}

// over puts the lines below the window, which keeps its place as far as there are that many.
func (s *Scroll) over(lines []string, w, h int) {
	s.port.SetWidth(w)
	s.port.SetHeight(h)
	s.port.SetContentLines(slices.Clone(lines)) // it changes what it is given
}
