package worker

import (
	"bytes"
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// BenchmarkTruth holds what harnesses tell to the same functions in a bare loop of the same language, in turn with
// them: the median of the rounds' ratios. Of a lock, throughput is held to what its length allows. What a language
// needs that is not on this machine is left out.
func BenchmarkTruth(b *testing.B) {
	for _, tt := range []struct {
		name  string
		build [][]string // from the folder of the programs; DIR is where they go
		run   []string
		cases []truth
	}{
		{"C", [][]string{{"gcc", "-O2", "-pthread", "-I", "../../../../workers/c", "-o", "DIR/truth", "truth.c", "-lm"}},
			[]string{"DIR/truth"}, append([]truth{
				{"multiply", 1, 300_000_000, 1}, {"multiply", 2, 100_000_000, 1}, {"multiply", 16, 20_000_000, 1},
				{"multiply", 10_000, 30_000, 1}, {"locked", 100_000, 3000, 4},
			}, common...)},
		{"Go", [][]string{{"go", "build", "-o", "DIR/gotruth", "./gotruth"}}, []string{"DIR/gotruth"}, common},
		{"Python", nil, []string{"python3", "truth.py"}, common},
		{"JavaScript", nil, []string{"node", "truth.mjs"}, common},
		{"Java", [][]string{{"javac", "-d", "DIR", "../../../../workers/java/PaceDuelWorker.java", "Truth.java"}},
			[]string{"java", "-cp", "DIR", "Truth"}, common},
	} {
		b.Run(tt.name, func(b *testing.B) {
			dir := b.TempDir()
			in := func(words []string) (out []string) {
				for _, w := range words {
					out = append(out, strings.ReplaceAll(w, "DIR", dir))
				}
				return out
			}
			run := in(tt.run)
			for _, build := range tt.build {
				cmd := exec.Command(build[0], in(build)[1:]...)
				cmd.Dir = "testdata/truth"
				if out, err := cmd.CombinedOutput(); err != nil {
					b.Skipf("%s: %v\n%s", strings.Join(build, " "), err, out)
				}
			}
			if _, err := exec.LookPath(run[0]); err != nil {
				b.Skip(err)
			}
			for _, c := range tt.cases {
				b.Run(fmt.Sprintf("%s=%d", c.function, c.length), func(b *testing.B) { c.bench(b, run) })
			}
		})
	}
}

// truth is a function of known cost.
type truth struct {
	function   string
	length     int64
	operations int64
	threads    int
}

// common are those that every language has.
var common = []truth{
	{"spin", 200_000, 2000, 1}, {"sleep", 2_000_000, 100, 1}, {"allocate", 64, 20_000_000, 1}, {"print", 1, 500_000, 1},
}

func (c truth) bench(b *testing.B, run []string) {
	workers, err := filepath.Abs("../../workers")
	if err != nil {
		b.Fatal(err)
	}
	env := append(os.Environ(), "WORKERS="+workers)
	printed, err := os.Create(filepath.Join(b.TempDir(), "printed"))
	if err != nil {
		b.Fatal(err)
	}
	defer printed.Close()
	p, err := Start(b.Context(), Launch{Run: run, Dir: "testdata/truth", Env: env, Stdout: printed})
	if err != nil {
		b.Fatal(err)
	}
	defer p.End()
	params := map[string]any{"length": c.length}
	if _, err := p.Prepare(b.Context(), c.function, params, c.threads); err != nil {
		b.Fatal(err)
	}
	var ratios, told []float64
	for b.Loop() {
		bare := float64(c.length) // of a lock that one thread after another holds
		if c.threads == 1 {
			bare = c.bare(b, run, env, printed)
		}
		r, err := p.Run(b.Context(), c.operations, time.Minute)
		if err != nil {
			b.Fatal(err)
		}
		each := r.PerOperation()
		if c.threads > 1 {
			each = r.Elapsed / float64(r.Operations)
		}
		ratios, told = append(ratios, each/bare), append(told, each)
	}
	slices.SortFunc(ratios, cmp.Compare)
	slices.SortFunc(told, cmp.Compare)
	b.ReportMetric(ratios[len(ratios)/2], "told/bare")
	b.ReportMetric(told[len(told)/2], "ns/operation")
	b.ReportMetric(0, "ns/op")
}

// bare is what an operation takes in a bare loop, in nanoseconds.
func (c truth) bare(b *testing.B, run, env []string, printed *os.File) (ns float64) {
	b.Helper()
	args := append(slices.Clone(run[1:]), c.function, fmt.Sprint(c.operations), fmt.Sprint(c.length))
	cmd := exec.Command(run[0], args...)
	cmd.Dir, cmd.Env, cmd.Stdout = "testdata/truth", env, printed
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Run(); err != nil {
		b.Fatal(err, said.String())
	}
	if _, err := fmt.Sscan(said.String(), &ns); err != nil {
		b.Fatal(err)
	}
	return ns
}
