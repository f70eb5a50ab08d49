// Package scratch gives a package's tests a folder of their own for temporary files, so that what they leave behind can
// be told from what others have there.
package scratch

import "os"

// Run runs tests with such a folder as $TMPDIR, removes it and returns their exit code.
func Run(tests func() int) int {
	dir, err := os.MkdirTemp("", "test-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	os.Setenv("TMPDIR", dir)
	return tests()
}
