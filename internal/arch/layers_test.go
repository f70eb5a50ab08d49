package arch

import (
	"cmp"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// judgeLayers are the files of core/judge from the bottom up: numbers out of heats; what they bear out; what is said of
// it; the verdict, which has all of that.
var judgeLayers = []string{
	"ascent field inside latencies totals typical values",
	"assess claims compare figures gain moved ranking stakes steering sweep sweep_claims starts",
	"agents arrivals cautions disturbances forecast headline inside_words meanwhile phrases scorecard survival " +
		"sweep_table sweep_words words",
	"judge measured pair sweep_verdict",
}

// Nothing in a layer of judging knows a function of one above it. Types may: a verdict is what all of them fill in.
func TestLayersOfJudging(t *testing.T) {
	layer := map[string]int{}
	for i, names := range judgeLayers {
		for _, name := range strings.Fields(names) {
			layer[name+".go"] = i + 1
		}
	}
	fset := token.NewFileSet()
	var files []*ast.File
	paths, err := filepath.Glob("../../core/judge/*.go")
	if err != nil || len(paths) == 0 {
		t.Fatalf("no files of core/judge: %v", err)
	}
	for _, path := range paths {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		if layer[filepath.Base(path)] == 0 {
			t.Errorf("%s belongs to no layer: enter it in judgeLayers", filepath.Base(path))
		}
		file, err := parser.ParseFile(fset, path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, file)
	}
	// Other packages are left out, and with them what only they would explain: here it is about this one alone.
	info := &types.Info{Uses: map[*ast.Ident]types.Object{}}
	conf := types.Config{Importer: none{}, Error: func(error) {}}
	pkg, _ := conf.Check("judge", fset, files, info)
	seen := 0
	uses := make([]*ast.Ident, 0, len(info.Uses))
	for id := range info.Uses {
		uses = append(uses, id)
	}
	slices.SortFunc(uses, func(a, b *ast.Ident) int { return cmp.Compare(a.Pos(), b.Pos()) })
	for _, id := range uses {
		f, ok := info.Uses[id].(*types.Func)
		if !ok || f.Pkg() != pkg {
			continue
		}
		seen++
		at := fset.Position(id.Pos())
		from, to := filepath.Base(at.Filename), filepath.Base(fset.Position(f.Pos()).Filename)
		if layer[to] > layer[from] {
			t.Errorf("%s:%d: %s uses %s of %s, a layer above it", from, at.Line, from, f.Name(), to)
		}
	}
	const least = 100 // there are some hundreds
	if seen < least {
		t.Errorf("only %d uses of functions were found", seen)
	}
}

// none imports nothing.
type none struct{}

func (none) Import(path string) (*types.Package, error) {
	pkg := types.NewPackage(path, filepath.Base(path))
	pkg.MarkComplete()
	return pkg, nil
}
