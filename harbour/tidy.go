package harbour

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// A tidier rewrites a manifest in place: goods that were misspelt get the name of the catalogue that is nearest. What
// is tidy already costs it next to nothing, so that a second run on the same file is no measure of the first.

const (
	untidyLines = 12_000
	untidyFrac  = 0.6 // of the lines have a misspelling
	tidyBlock   = 500 // lines that are remembered together
	// TidyStore is the folder beside the manifest in which the remembering tidier keeps what it has done.
	TidyStore = ".tidied"
)

// WriteUntidy writes a manifest as the quays send it in.
func WriteUntidy(out io.Writer) error {
	rng := rand.New(rand.NewPCG(seed, 4))
	w := bufio.NewWriter(out)
	for i := range untidyLines {
		cargo := goods[rng.IntN(len(goods))]
		if rng.Float64() < untidyFrac {
			cargo = misspelt(rng, cargo)
		}
		fmt.Fprintf(w, "%07d;%s;%s;%d kg\n", i+1, vesselName(rng.IntN(vesselCount)), cargo, 100+rng.IntN(40_000))
	}
	return w.Flush()
}

// misspelt swaps two letters and doubles another.
func misspelt(rng *rand.Rand, word string) string {
	b := []byte(word)
	i := rng.IntN(len(b) - 1)
	b[i], b[i+1] = b[i+1], b[i]
	j := rng.IntN(len(b))
	return string(b[:j]) + string(b[j:j+1]) + string(b[j:])
}

// Tidiers maps the names that plans use to the tidiers; each takes a block of lines and the folder of the manifest.
func Tidiers() map[string]func(dir string, block []byte) ([]byte, error) {
	return map[string]func(string, []byte) ([]byte, error){"plain": tidyPlain, "remembering": tidyRemembering}
}

// Tidy rewrites the manifest at path with the tidier of that name.
func Tidy(name, path string) error {
	tidy, ok := Tidiers()[name]
	if !ok {
		return fmt.Errorf("no tidier called %q; there are %s", name, strings.Join(slices.Sorted(maps.Keys(Tidiers())), ", "))
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("tidy a manifest: %w", err)
	}
	var out bytes.Buffer
	lines := bytes.SplitAfter(text, []byte{'\n'})
	for block := range slices.Chunk(lines, tidyBlock) {
		done, err := tidy(filepath.Dir(path), bytes.Join(block, nil))
		if err != nil {
			return fmt.Errorf("tidy %s: %w", path, err)
		}
		out.Write(done)
	}
	return put(path, out.Bytes())
}

// tidyPlain does the work each time.
func tidyPlain(_ string, block []byte) ([]byte, error) {
	out := make([]byte, 0, len(block))
	for line := range bytes.Lines(block) {
		fields := bytes.SplitN(line, []byte{';'}, 4)
		if len(fields) != 4 {
			return nil, fmt.Errorf("not four fields: %.40q", line)
		}
		fields[2] = []byte(nearestGoods(string(fields[2])))
		out = append(out, bytes.Join(fields, []byte{';'})...)
	}
	return out, nil
}

// tidyRemembering keeps every block that it has tidied under the hash of what it was.
func tidyRemembering(dir string, block []byte) ([]byte, error) {
	sum := sha256.Sum256(block)
	path := filepath.Join(dir, TidyStore, hex.EncodeToString(sum[:16]))
	if done, err := os.ReadFile(path); err == nil {
		return done, nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	done, err := tidyPlain(dir, block)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	return done, os.WriteFile(path, done, 0o644)
}

// nearestGoods is the name of the catalogue that takes the fewest changes to become word.
func nearestGoods(word string) string {
	if slices.Contains(goods, word) {
		return word
	}
	best, fewest := word, len(word)
	for _, g := range goods {
		if d := changes(word, g); d < fewest {
			best, fewest = g, d
		}
	}
	return best
}

// changes counts letters to put in, take out or replace (Levenshtein).
func changes(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal, row[j+1] = row[j+1], min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
