package arch_test

import (
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"
)

const (
	widest  = 120 // columns of a line, a tab being one
	tallest = 70  // lines of a function
)

// eachGoFile calls do with every Go file of the module.
func eachGoFile(t *testing.T, do func(path string, text []byte)) {
	t.Helper()
	n := 0
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		if err == nil {
			do(filepath.ToSlash(strings.TrimPrefix(path, "../../")), text)
			n++
		}
		return err
	})
	if err != nil || n < 200 {
		t.Fatalf("%d Go files read, %v", n, err)
	}
}

// A line is at most 120 columns wide. A struct's tag and a raw string cannot be broken: what of them is beyond does not
// count.
func TestLinesAreNarrow(t *testing.T) {
	eachGoFile(t, func(path string, text []byte) {
		raw := rawLines(text)
		for i, line := range strings.Split(string(text), "\n") {
			if utf8.RuneCountInString(line) > widest && !raw[i+1] {
				t.Errorf("%s:%d has %d columns", path, i+1, utf8.RuneCountInString(line))
			}
		}
	})
}

// rawLines are the lines on which a raw string stands, counted from 1.
func rawLines(text []byte) map[int]bool {
	files := token.NewFileSet()
	file := files.AddFile("", files.Base(), len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, 0)
	raw := map[int]bool{}
	for {
		pos, kind, literal := s.Scan()
		if kind == token.EOF {
			return raw
		}
		if kind == token.STRING && literal[0] == '`' {
			first := file.Line(pos)
			for i := range strings.Count(literal, "\n") + 1 {
				raw[first+i] = true
			}
		}
	}
}

// A function of more than 70 lines says in its comment why it is so long.
func TestFunctionsAreShort(t *testing.T) {
	eachGoFile(t, func(path string, text []byte) {
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, text, parser.ParseComments)
		if err != nil {
			t.Error(err)
			return
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			lines := files.Position(f.End()).Line - files.Position(f.Pos()).Line + 1
			if lines > tallest && !strings.Contains(strings.Join(strings.Fields(f.Doc.Text()), " "), "It is long since") {
				t.Errorf("%s: %s has %d lines, and its comment does not say why", path, f.Name.Name, lines)
			}
		}
	})
}

// Nobody names a kind of contender but its own folder, the list of kinds, and the demo. Words of the trade may stand in
// comments.
func TestKindsAreNamedNowhereElse(t *testing.T) {
	folders, err := os.ReadDir("../../core/contender")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range folders {
		if f.IsDir() && kindOf("core/contender/"+f.Name()) != "" {
			names = append(names, f.Name())
		}
	}
	if len(names) < 2 {
		t.Fatalf("the kinds are %s", names)
	}
	word := regexp.MustCompile(`^"(` + strings.Join(names, "|") + `)"$`)
	eachGoFile(t, func(path string, text []byte) {
		if strings.HasSuffix(path, "_test.go") || kindOf(path) != "" || strings.HasPrefix(path, "harbour/") ||
			strings.HasPrefix(path, "internal/") {
			return
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, text, 0)
		if err != nil {
			t.Error(err)
			return
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ImportSpec:
				return false
			case *ast.BasicLit:
				at := files.Position(n.Pos()).Line
				if word.MatchString(n.Value) && !isScheme(strings.Split(string(text), "\n")[at-1]) &&
					otherWords[path] != n.Value {
					t.Errorf("%s:%d names the kind %s", path, at, n.Value)
				}
			}
			return true
		})
	})
}

// isScheme reports whether a line compares the scheme of an address, which is none of a kind.
func isScheme(line string) bool { return strings.Contains(line, ".Scheme") }

// otherWords are files where the word of a kind means something else: a command of ours, a parameter that counts
// threads.
var otherWords = map[string]string{"cmd/paceduel/worker.go": `"worker"`, "core/plan/sweep.go": `"worker"`}

// Every view is held to what all views owe.
func TestViewsAreTested(t *testing.T) {
	text, err := os.ReadFile("../../screen/app/stops.go")
	if err != nil {
		t.Fatal(err)
	}
	found := regexp.MustCompile(`"paceduel/screen/(\w+)"`).FindAllStringSubmatch(string(text), -1)
	if len(found) < 7 {
		t.Fatalf("stops.go lists %d views", len(found))
	}
	for _, view := range found {
		test, err := os.ReadFile("../../screen/" + view[1] + "/view_test.go")
		if err != nil || !strings.Contains(string(test), "viewtest.Run(t, ") {
			t.Errorf("the view %s has no test that calls viewtest.Run", view[1])
		}
	}
}
