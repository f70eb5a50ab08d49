package arch_test

import (
	"cmp"
	"go/ast"
	"go/parser"
	"go/token"
	"path"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode"

	"paceduel/internal/golden"
)

// What the program can say is kept as a list, so that whoever changes a word reads what stands beside it: each text of
// two words and more in the code that people use, once, by its folder. Read the difference as a new user would: short
// sentences, usual words, the subject first.
func TestWordsAreReadAfresh(t *testing.T) {
	type said struct{ folder, text string }
	var all []said
	eachGoFile(t, func(file string, text []byte) {
		top, _, _ := strings.Cut(file, "/")
		if strings.HasSuffix(file, "_test.go") || top != "core" && top != "screen" && top != "cmd" {
			return
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, text, parser.SkipObjectResolution)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ImportSpec:
				return false
			case *ast.Field: // whose tag is another's language
				if n.Type != nil {
					ast.Inspect(n.Type, func(ast.Node) bool { return true })
				}
				return false
			case ast.Expr:
				if text, ok := joined(n); ok {
					if isSaid(text) {
						all = append(all, said{path.Dir(file), text})
					}
					return false
				}
			}
			return true
		})
	})
	slices.SortFunc(all, func(a, b said) int {
		return cmp.Or(strings.Compare(a.folder, b.folder), strings.Compare(a.text, b.text))
	})
	all = slices.Compact(all)
	var list strings.Builder
	folder := ""
	for _, s := range all {
		if s.folder != folder {
			folder = s.folder
			list.WriteString("\n" + folder + "\n")
		}
		list.WriteString("  " + strconv.Quote(s.text) + "\n")
	}
	golden.Check(t, "words", list.String())
}

// joined is a text that stands in the code, in one piece or in several that are added up.
func joined(e ast.Expr) (text string, ok bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind != token.STRING {
			return "", false
		}
		text, err := strconv.Unquote(e.Value)
		return text, err == nil
	case *ast.BinaryExpr:
		left, ok1 := joined(e.X)
		right, ok2 := joined(e.Y)
		return left + right, e.Op == token.ADD && ok1 && ok2
	}
	return "", false
}

// isSaid reports whether a text is one for people: two words and more that begin like a sentence or a part of one.
func isSaid(text string) bool {
	words := 0
	for word := range strings.FieldsSeq(text) {
		if letters := strings.Trim(word, ".,:;()%\"'"); len(letters) > 1 && strings.IndexFunc(letters, func(r rune) bool {
			return !unicode.IsLetter(r) && r != '-' && r != '\''
		}) < 0 {
			words++
		}
	}
	return words >= 2
}
