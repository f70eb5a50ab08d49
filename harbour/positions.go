package harbour

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
)

// The position log keeps where ships are, a line each, and answers as soon as it holds a position: in memory of its own
// until that is full, handed to the system line by line, or with the system made to have it on the disk.
type positionLog struct {
	mu     sync.Mutex
	file   *os.File
	buffer *bufio.Writer // nil for a log that keeps nothing back
	sync   bool
	next   int64
}

// kept is how much the buffered log keeps back.
const kept = 64 << 10

func openLog(path, way string) (*positionLog, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, fmt.Errorf("open the position log: %w", err)
	}
	l := &positionLog{file: f, next: 1}
	switch way {
	case "buffered":
		l.buffer = bufio.NewWriterSize(f, kept)
	case "written":
	case "synced":
		l.sync = true
	default:
		f.Close()
		return nil, fmt.Errorf("there is no way to keep positions called %q: buffered, written or synced", way)
	}
	count, err := CountPositions(path)
	if err != nil {
		f.Close()
		return nil, err
	}
	l.next = count.Last + 1
	return l, nil
}

// keep takes a position in, and returns once the log holds it in its way.
func (l *positionLog) keep(vessel, position string) (number int64, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	number = l.next
	line := fmt.Appendf(nil, "%d,%s,%s\n", number, vessel, position)
	if l.buffer != nil {
		_, err = l.buffer.Write(line)
	} else if _, err = l.file.Write(line); err == nil && l.sync {
		err = l.file.Sync()
	}
	if err == nil {
		l.next++
	}
	return number, err
}

// PositionCount is what stands in a position log.
type PositionCount struct {
	Records, Torn, Doubled, Last int64
}

// CountPositions reads a position log: lines without all their parts are torn, numbers that stand there twice doubled.
func CountPositions(path string) (c PositionCount, err error) {
	text, err := os.ReadFile(path)
	if err != nil && !os.IsNotExist(err) {
		return c, fmt.Errorf("count positions: %w", err)
	}
	seen := map[int64]bool{}
	for line := range bytes.Lines(text) {
		c.Records++
		parts := strings.Split(strings.TrimSuffix(string(line), "\n"), ",")
		n, err := strconv.ParseInt(parts[0], 10, 64)
		const all = 3
		switch {
		case err != nil || len(parts) != all || !bytes.HasSuffix(line, []byte("\n")):
			c.Torn++
		case seen[n]:
			c.Doubled++
		default:
			seen[n] = true
			c.Last = max(c.Last, n)
		}
	}
	return c, nil
}

// Positions has the position log answer at address until ctx ends: POST /position?vessel=NAME&at=PLACE.
func Positions(ctx context.Context, way, file, address string, said io.Writer) error {
	l, err := openLog(file, way)
	if err != nil {
		return err
	}
	defer l.file.Close()
	if l.buffer != nil {
		defer l.buffer.Flush() // which a crash does not
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /position", func(w http.ResponseWriter, r *http.Request) {
		if _, err := l.keep(r.FormValue("vessel"), r.FormValue("at")); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "text/plain")
		fmt.Fprint(w, "kept")
	})
	return listen(ctx, "the position log", address, mux, said)
}
