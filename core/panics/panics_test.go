package panics_test

import (
	"errors"
	"strings"
	"testing"

	"paceduel/core/panics"
)

func falls(how func()) (err error) {
	defer panics.Catch("sound the depth", &err)
	how()
	return errors.New("ran aground")
}

func TestAFaultBecomesAnError(t *testing.T) {
	var none []int
	for _, how := range []func(){func() { panic("tide") }, func() { none[3]++ }} {
		err := falls(how)
		var caught *panics.Error
		if !errors.As(err, &caught) || caught.Doing != "sound the depth" || len(caught.Stack) == 0 {
			t.Fatalf("caught %v", err)
		}
		if !strings.HasPrefix(caught.At, "panics_test.go:") || !strings.Contains(err.Error(), "please report it") {
			t.Errorf("%q, at %s", err, caught.At)
		}
	}
	if err := falls(func() {}); err == nil || err.Error() != "ran aground" {
		t.Errorf("without a fault: %v", err)
	}
}
