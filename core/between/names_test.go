package between

import "testing"

func TestATitleNamesTwo(t *testing.T) {
	if got := title([]string{"gzip -1", "gzip -6"}); got != "gzip -1 against gzip -6" {
		t.Errorf("two are called %q", got)
	}
	if got := title([]string{"a", "b", "c", "d"}); got != "a against b and 2 more" {
		t.Errorf("four are called %q", got)
	}
}
