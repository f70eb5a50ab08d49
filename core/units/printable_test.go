package units

import (
	"bytes"
	"encoding/json"
	"testing"
	"unicode"
)

// hostile is what a terminal would obey, or be misled by.
const hostile = "a\x1b[31mred\x1b]0;title\x07\x9b2J\u009b31m" +
	"\u202Egnp.exe\u2066\u200b\ufeff\x7f\b\r\v\u2028z\xff\U000E0041"

func obeys(r rune) bool { return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) }

func TestNothingThatATerminalObeysIsLeft(t *testing.T) {
	for _, r := range Printable(hostile + "\n\t") {
		if obeys(r) {
			t.Errorf("a line has %U", r)
		}
	}
	for _, r := range PrintableLines(hostile + "\n\t") {
		if obeys(r) && r != '\n' && r != '\t' {
			t.Errorf("lines have %U", r)
		}
	}
	tests := []struct{ text, line, lines string }{
		{
			"plain", "plain", "plain",
		}, {"två µs ▲ 潮", "två µs ▲ 潮", "två µs ▲ 潮"}, {"a\tb\nc", "a b c", "a\tb\nc"}, {"a\r\nb", "a  b", "a\nb"},
		{"\x1b[31m", "·[31m", "·[31m"}, {"\xff", "·", "·"}, {"", "", ""},
	}
	for _, tt := range tests {
		if got := Printable(tt.text); got != tt.line {
			t.Errorf("Printable(%q) = %q; want %q", tt.text, got, tt.line)
		}
		if got := PrintableLines(tt.text); got != tt.lines {
			t.Errorf("PrintableLines(%q) = %q; want %q", tt.text, got, tt.lines)
		}
	}
}

func TestWriters(t *testing.T) {
	var out bytes.Buffer
	if n, err := (PrintableWriter{&out}).Write([]byte("tide\x1b[2J\n")); n != 9 || err != nil ||
		out.String() != "tide·[2J\n" {
		t.Errorf("%d, %v, %q", n, err, out.String())
	}
	out.Reset()
	want := map[string]string{"a\u202eb": "\x7f\u009b31m", "c": "潮\U000E0041 é"}
	var raw bytes.Buffer
	enc := json.NewEncoder(&raw)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(want); err != nil {
		t.Fatal(err)
	}
	if n, err := (JSONWriter{&out}).Write(raw.Bytes()); n != raw.Len() || err != nil {
		t.Errorf("%d of %d, %v", n, raw.Len(), err)
	}
	for _, r := range out.String() {
		if obeys(r) && r != '\n' {
			t.Errorf("JSON has %U", r)
		}
	}
	var got map[string]string
	if err := json.Unmarshal(out.Bytes(), &got); err != nil || len(got) != 2 || got["a\u202eb"] != want["a\u202eb"] ||
		got["c"] != want["c"] {
		t.Errorf("it reads as %q, %v", got, err)
	}
}
