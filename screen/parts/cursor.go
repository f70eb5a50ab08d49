package parts

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// Cursor is where in a list the user is.
type Cursor struct {
	at       int
	up, down key.Binding
}

// NewCursor returns a cursor at the top of a list.
func NewCursor() Cursor {
	return Cursor{
		up:   key.NewBinding(key.WithKeys("up", "k"), key.WithHelp("↑ ↓", "choose")),
		down: key.NewBinding(key.WithKeys("down", "j"), key.WithHelp("↓", "next")),
	}
}

// Key is the binding that stands for moving, in lists of keys.
func (c Cursor) Key() key.Binding { return c.up }

// At is the chosen line of n, counted from 0; a list may have become shorter. It is 0 for an empty one.
func (c Cursor) At(n int) int { return max(min(c.at, n-1), 0) }

// Press moves the cursor within n lines; moved is false when the key is none of the cursor's.
func (c Cursor) Press(msg tea.KeyPressMsg, n int) (next Cursor, moved bool) {
	switch {
	case key.Matches(msg, c.up):
		c.at = max(c.At(n)-1, 0)
	case key.Matches(msg, c.down):
		c.at = max(min(c.At(n)+1, n-1), 0)
	default:
		return c, false
	}
	return c, true
}

// Set moves the cursor to line at.
func (c Cursor) Set(at int) Cursor {
	c.at = at
	return c
}
