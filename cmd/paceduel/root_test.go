package main

import (
	"testing"

	"github.com/spf13/pflag"
)

// Without a command it is open: whatever open takes is taken then, too.
func TestWithoutACommandItIsOpen(t *testing.T) {
	root := rootCommand(func(string) (string, bool) { return "", false }, newConsole())
	open, _, err := root.Find([]string{"open"})
	if err != nil {
		t.Fatal(err)
	}
	known := 0
	open.LocalFlags().VisitAll(func(f *pflag.Flag) {
		known++
		if f.Name != "help" && root.Flag(f.Name) == nil {
			t.Errorf("paceduel --%s is not known; paceduel open --%s is", f.Name, f.Name)
		}
	})
	if known < 3 {
		t.Errorf("open takes %d flags", known)
	}
}
