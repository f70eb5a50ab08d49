package launch

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Environment is our own environment for a process that stands in dir, with more entries NAME=VALUE laid over it, of
// which later ones win. PWD names dir: programs believe it, and ours names the folder that we were started in, whose
// files are none of theirs to write. Each name is there once, in order.
func Environment(dir string, more ...string) []string {
	values := map[string]string{}
	own := slices.DeleteFunc(os.Environ(), func(entry string) bool { return strings.HasPrefix(entry, "OLDPWD=") })
	for _, entry := range slices.Concat(own, []string{"PWD=" + Absolute(dir)}, more) {
		name, value, ok := strings.Cut(entry, "=")
		if ok && name != "" {
			values[name] = value
		}
	}
	out := make([]string, 0, len(values))
	for name, value := range values {
		out = append(out, name+"="+value)
	}
	slices.Sort(out)
	return out
}

// Absolute is a path that does not depend on where we stand.
func Absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}
