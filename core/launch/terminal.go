package launch

import (
	"fmt"
	"os"

	"github.com/creack/pty"

	"paceduel/core/plan"
)

// Terminal opens a pseudo-terminal of a size: our end, and that which a process prints to. The caller closes both.
func Terminal(size plan.Size) (ours, theirs *os.File, err error) {
	if ours, theirs, err = pty.Open(); err != nil {
		return nil, nil, fmt.Errorf("open a terminal for output: %w", err)
	}
	if err = pty.Setsize(ours, &pty.Winsize{Cols: uint16(size.Columns), Rows: uint16(size.Rows)}); err != nil {
		ours.Close()
		theirs.Close()
		return nil, nil, fmt.Errorf("size the terminal for output: %w", err)
	}
	return ours, theirs, nil
}
