package look_test

import (
	"testing"

	"paceduel/screen/look"
)

func TestFramesHoldNothingButStyling(t *testing.T) {
	tests := []struct{ text, want string }{
		{"plain\nlines ▲ 潮", "plain\nlines ▲ 潮"},
		{"\x1b[1;38;2;10;20;30mbold\x1b[0m", "\x1b[1;38;2;10;20;30mbold\x1b[0m"},
		{"\x1b[4:3m\x1b[m", "\x1b[4:3m\x1b[m"},
		{"\x1b[2J\x1b[H", "·[2J·[H"},
		{"\x1b]0;title\x07", "·]0;title·"},
		{"\x1b[31", "·[31"},
		{"\u009b31m and \u202egnp.exe\r\b", "·31m and ·gnp.exe ·"},
		{"\x1b[0m\xff", "\x1b[0m·"},
		{"", ""},
	}
	for _, tt := range tests {
		if got := look.Frame(tt.text); got != tt.want {
			t.Errorf("Frame(%q) = %q; want %q", tt.text, got, tt.want)
		}
	}
}
