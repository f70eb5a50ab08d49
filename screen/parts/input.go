package parts

import (
	"charm.land/bubbles/v2/textinput"
)

// NewInput returns a line to write in, with a steady cursor, focused or not as its form says.
func NewInput(hint, text string) textinput.Model {
	in := textinput.New()
	in.Prompt, in.Placeholder = "", hint
	in.SetValue(text)
	styles := in.Styles()
	styles.Cursor.Blink = false // a blinking cursor would wake the program during a heat
	in.SetStyles(styles)
	return in
}

// InputLine draws an input in exactly w cells.
func InputLine(in textinput.Model, w int) string {
	in.SetWidth(max(w-1, 1)) // the cursor takes one more
	return Cell(in.View(), w)
}
