package log

import "paceduel/screen"

// Stop is where earlier runs are.
func Stop() screen.Row { return screen.Row{Stop: screen.Log, View: New()} }
