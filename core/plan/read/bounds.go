package read

import (
	"fmt"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"

	"paceduel/core/plan"
)

// Bounds of a plan's text. The parser takes time and stack out of proportion to how deep a text nests, so that the text
// is looked at first, word by word, which takes time in proportion to its length alone.
const (
	maxWords  = 50_000 // words and signs of a plan; a real one has some hundred
	maxNested = 100    // brackets in each other, or dashes and colons in one line
)

// withinBounds finds what of a text is too much for a plan; nil when nothing is.
func withinBounds(file string, src []byte) *Problem {
	words := lexer.Tokenize(string(src))
	if len(words) > maxWords {
		return &Problem{
			Pos: Pos{File: file}, What: fmt.Sprintf("%d words and signs are too many for a plan", len(words)),
			Try: "name a " + plan.Suffix + " file",
		}
	}
	brackets, signs, line := 0, 0, 0
	for _, w := range words {
		if w.Position != nil && w.Position.Line != line {
			line, signs = w.Position.Line, 0
		}
		switch w.Type {
		case token.SequenceStartType, token.MappingStartType:
			brackets++
		case token.SequenceEndType, token.MappingEndType:
			brackets--
		case token.SequenceEntryType, token.MappingKeyType, token.TagType, token.AnchorType, token.DocumentHeaderType:
			signs++
		case token.MappingValueType:
			if brackets == 0 {
				signs++
			}
		}
		if brackets > maxNested || signs > maxNested {
			return &Problem{
				Pos: tokenPos(file, w), What: fmt.Sprintf("nested more than %d deep", maxNested),
				Try: "paceduel new prints a plan to start from",
			}
		}
	}
	return nil
}
