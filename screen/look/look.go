// Package look holds colours and type of the screens: contenders have a sign, everything else is ink in three
// strengths, and colour otherwise only means lead, caution or trouble.
//
// Styles are plain values built once for a theme. Where anything goes is left to the views.
package look

import (
	"image/color"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
)

// Theme is the set of styles for one ground.
type Theme struct {
	Dark bool

	Ink     lipgloss.Style // what is read
	Faint   lipgloss.Style // what is looked up: units, notes, rules
	Strong  lipgloss.Style // what is read first
	Here    lipgloss.Style // the stop, line or key at hand
	Lead    lipgloss.Style // the better side
	Caution lipgloss.Style
	Trouble lipgloss.Style
	Key     lipgloss.Style // the letter of a key
}

// New returns the theme for a dark or light ground.
func New(dark bool) Theme {
	pick := lipgloss.LightDark(dark)
	plain := lipgloss.NewStyle()
	tint := func(light, dark string) lipgloss.Style {
		return plain.Foreground(pick(lipgloss.Color(light), lipgloss.Color(dark)))
	}
	return Theme{
		Dark:    dark,
		Ink:     plain,
		Faint:   tint("#6b7680", "#7d8a96"),
		Strong:  plain.Bold(true),
		Here:    plain.Bold(true).Reverse(true),
		Lead:    tint("#101418", "#ffffff").Bold(true),
		Caution: tint("#96620a", "#e8b84a"),
		Trouble: tint("#b3371c", "#f2765c").Bold(true),
		Key:     plain.Underline(true),
	}
}

// Sign is the style of a contender's name, glyph and bars.
func (t Theme) Sign(s chart.Sign) lipgloss.Style {
	return lipgloss.NewStyle().Foreground(t.SignColor(s))
}

// SignColor is a contender's colour on this ground.
func (t Theme) SignColor(s chart.Sign) color.Color {
	if t.Dark {
		return lipgloss.Color(s.Dark)
	}
	return lipgloss.Color(s.Light)
}
