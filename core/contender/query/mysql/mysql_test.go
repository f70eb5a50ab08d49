package mysql

import (
	"testing"

	"paceduel/core/contender/query/database"
)

func TestPlaceOfAMistake(t *testing.T) {
	st := &database.Statement{Text: "select id\nfrum vessels"}
	for message, want := range map[string]int{
		"You have an error … to use near 'frum vessels' at line 2": 10, "… near '' at line 2": len(st.Text),
		"Table 'harbour.x' doesn't exist": -1, "… near 'else' at line 1": -1, "near 'unclosed": -1,
	} {
		if got := place(message, st); got != want {
			t.Errorf("%s: %d, want %d", message, got, want)
		}
	}
}

func TestGreetings(t *testing.T) {
	for head, want := range map[string]bool{
		"": true, "\x4a\x00\x00\x00\x0a5.5": true, "\x4a\x00\x00\x00\xff\x10\x04": true, "HTTP/1.1": false, "\x4a\x00": false,
		"\x4a\x00\x00\x01\x0a": false,
	} {
		if greets([]byte(head)) != want {
			t.Errorf("%q is a greeting: %v", head, !want)
		}
	}
}

func TestWhatTellsHowManyRowsItChanged(t *testing.T) {
	for text, want := range map[string]bool{
		"insert into a values (1)": true, "-- x\nDELETE FROM a": true, "select 1": false,
		"insert into a values (1) returning id": false, "set @a = 1": false,
	} {
		if changes(text) != want {
			t.Errorf("%s: %v", text, !want)
		}
	}
}

func TestWhatAServerSaysOfItself(t *testing.T) {
	for head, want := range map[string]struct {
		version string
		id      int64
	}{
		"\x4a\x00\x00\x00\x0a5.5.5-10.11.14-MariaDB-0+deb12u2\x00\x07\x01\x00\x00abc": {"10.11.14-MariaDB-0+deb12u2", 263},
		"\x4a\x00\x00\x00\x0a8.0.36\x00\x2a\x00\x00\x00":                              {"8.0.36", 42},
		"\x4a\x00\x00\x00\x0a8.0":                                                     {"8.0", 0}, "": {},
	} {
		if version, id := greeting([]byte(head)); version != want.version || id != want.id {
			t.Errorf("%q: %s, %d", head, version, id)
		}
	}
}
