package shots

import (
	"time"

	"paceduel/core/units"
)

// Mark is an amount that a contender told of itself, by its name.
type Mark struct {
	Name  string
	Unit  units.Unit // seconds, bytes, or a word for what is counted
	Value float64    // in that unit
}

// Marks collects what one client's contender tells of its shots, and keeps each name once, so that collecting allocates
// nothing in steady state. The zero value is ready.
type Marks struct {
	names []string
	list  []Mark
}

// MaxMarks is how many names are told apart; further ones are left out.
const MaxMarks = 64

// Clear forgets the marks of the shot before, not the names.
func (m *Marks) Clear() { m.list = m.list[:0] }

// Add notes a mark; name is copied when it is new.
func (m *Marks) Add(name []byte, unit units.Unit, value float64) {
	for _, known := range m.names {
		if known == string(name) {
			m.list = append(m.list, Mark{known, unit, value})
			return
		}
	}
	if len(m.names) < MaxMarks {
		m.names = append(m.names, string(name))
		m.list = append(m.list, Mark{m.names[len(m.names)-1], unit, value})
	}
}

// AddTime notes a length of time.
func (m *Marks) AddTime(name []byte, took time.Duration) { m.Add(name, units.Second, took.Seconds()) }

// List is the marks since Clear.
func (m *Marks) List() []Mark { return m.list }
