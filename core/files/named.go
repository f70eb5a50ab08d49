package files

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Sum is what a file held.
type Sum struct {
	Path   string `json:"path"` // as it was named
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256,omitempty"` // empty of a file that is too large to be read for this
}

// Bounds of what is summed up.
const (
	mostNamed  = 100
	mostLooked = 2000     // words that are looked for
	mostSummed = 64 << 20 // bytes of one file
	mostInAll  = 256 << 20
)

// Named sums up the regular files that stand as words in a text, relative to a folder: in the order in which they are
// named, each once. What cannot be read is left out; of what is very large, or comes after very much, the size alone is
// told. It is for telling whether files that a plan names are those that
// they were; what they hold besides, as a script that starts another, it does not follow.
func Named(text, dir string) (out []Sum) {
	words := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t\r\n\"'`[]{}(),;|&<>=$#", r) })
	seen, left := map[string]bool{}, int64(mostInAll)
	for _, w := range words {
		w = strings.TrimRight(w, ":")
		if w == "" || seen[w] || len(seen) >= mostLooked || len(out) >= mostNamed {
			continue
		}
		seen[w] = true
		path := w
		if !filepath.IsAbs(path) {
			path = filepath.Join(dir, path)
		}
		if one, ok := sumOf(path, min(left, mostSummed)); ok {
			if one.Path = w; one.SHA256 != "" {
				left -= one.Bytes
			}
			out = append(out, one)
		}
	}
	return slices.Clip(out)
}

// SHA256 is the hash of a regular file of up to so many bytes.
func SHA256(path string, most int64) (string, error) {
	s, ok := sumOf(path, most)
	switch {
	case !ok:
		return "", fmt.Errorf("%s is no file that can be read", path)
	case s.SHA256 == "":
		return "", fmt.Errorf("%s has %d bytes, more than %d", path, s.Bytes, most)
	}
	return s.SHA256, nil
}

// sumOf sums up a regular file, one of more than so many bytes by its size alone; ok is false for what is none, or
// cannot be read.
func sumOf(path string, most int64) (s Sum, ok bool) {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return s, false
	}
	if s = (Sum{Bytes: info.Size()}); s.Bytes > most {
		return s, true
	}
	f, err := Open(path, mostSummed)
	if err != nil {
		return s, false
	}
	defer f.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, io.LimitReader(f, mostSummed)); err != nil {
		return s, false
	}
	s.SHA256 = hex.EncodeToString(hash.Sum(nil))
	return s, true
}

// Same reports whether a file holds what it did, as far as that is known.
func (s Sum) Same(o Sum) bool { return s.Bytes == o.Bytes && s.SHA256 == o.SHA256 }
