package database

import "strings"

// FirstWord is the first word of a statement in lower case, comments left out.
func FirstWord(text string) string {
	for {
		text = strings.TrimLeft(text, " \t\r\n;(")
		switch {
		case strings.HasPrefix(text, "--"), strings.HasPrefix(text, "#"):
			_, text, _ = strings.Cut(text, "\n")
		case strings.HasPrefix(text, "/*"):
			_, text, _ = strings.Cut(text, "*/")
		default:
			end := strings.IndexFunc(text, func(r rune) bool {
				return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '_')
			})
			if end < 0 {
				end = len(text)
			}
			return strings.ToLower(text[:end])
		}
	}
}
