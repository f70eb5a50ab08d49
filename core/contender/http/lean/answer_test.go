package lean

import (
	"bufio"
	"bytes"
	"io"
	"net/http"
	"strings"
	"testing"

	"paceduel/core/shots"
)

// outcome is what became of a stream of bytes.
type outcome struct {
	status   int
	body     string
	complete bool
	rest     string
	err      error
	close    bool
}

// read feeds raw to a reader in pieces of n bytes; ended says that the connection ends after it.
func read(raw string, n int, isHead, ended bool) outcome {
	var a answer
	view := &shots.View{}
	a.begin(isHead, view)
	for at := 0; at < len(raw) && !a.complete; at += n {
		piece := []byte(raw[at:min(at+n, len(raw))])
		rest, err := a.take(piece)
		if err != nil {
			return outcome{err: err}
		}
		if a.complete {
			return outcome{a.status, string(view.Body), true, string(rest) + raw[min(at+n, len(raw)):], nil, a.close}
		}
	}
	if ended {
		if err := a.closed(); err != nil {
			return outcome{err: err}
		}
	}
	return outcome{a.status, string(view.Body), a.complete, "", nil, a.close}
}

// It is long since its cases are listed in it.
func TestAnswersInPiecesOfEverySize(t *testing.T) {
	tests := []struct {
		name, raw     string
		isHead, ended bool
		want          outcome
	}{
		{"length", "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntide", false, false, outcome{
			200, "tide", true, "", nil, false,
		}},
		{"no body", "HTTP/1.1 200 OK\r\ncontent-length:0\r\n\r\n", false, false, outcome{200, "", true, "", nil, false}},
		{"more than was asked for", "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntideHTTP/1.1", false, false, outcome{
			200, "tide", true, "HTTP/1.1", nil, false,
		}},
		{
			"chunks", "HTTP/1.1 200 OK\r\nTransfer-Encoding: Chunked\r\n\r\n3\r\ntid\r\n1;x=\"y\"\r\ne\r\n0\r\n\r\n", false,
			false, outcome{200, "tide", true, "", nil, false},
		},
		{
			"chunks and trailers", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\ntide\r\n000\r\nX: y\r\nZ:\r\n\r\n",
			false, false, outcome{200, "tide", true, "", nil, false},
		},
		{"until closed", "HTTP/1.1 200 OK\r\n\r\ntide", false, true, outcome{200, "tide", true, "", nil, true}},
		{"old server", "HTTP/1.0 200 OK\r\nContent-Length: 4\r\n\r\ntide", false, false, outcome{
			200, "tide", true, "", nil, true,
		}},
		{
			"old server that keeps", "HTTP/1.0 200 OK\r\nConnection: Keep-Alive\r\nContent-Length: 4\r\n\r\ntide", false, false,
			outcome{200, "tide", true, "", nil, false},
		},
		{"last one", "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 4\r\n\r\ntide", false, false, outcome{
			200, "tide", true, "", nil, true,
		}},
		{"head alone", "HTTP/1.1 200 OK\r\nContent-Length: 400\r\n\r\n", true, false, outcome{200, "", true, "", nil, false}},
		{"nothing changed", "HTTP/1.1 304 Not Modified\r\nContent-Length: 400\r\n\r\n", false, false, outcome{
			304, "", true, "", nil, false,
		}},
		{
			"after hints",
			"HTTP/1.1 103 Early Hints\r\nLink: x\r\n\r\nHTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 404 Not " +
				"Found\r\nContent-Length: 2\r\n\r\nno",
			false, false, outcome{404, "no", true, "", nil, false},
		},
		{"no reason", "HTTP/1.1 204\r\nX: y\r\n\r\n", false, false, outcome{204, "", true, "", nil, false}},
		{"not done", "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\ntide", false, false, outcome{
			200, "tide", false, "", nil, false,
		}},

		{
			"two lengths", "HTTP/1.1 200 OK\r\nContent-Length: 4\r\nContent-Length: 5\r\n\r\ntide", false, false,
			outcome{err: errLengths},
		},
		{
			"length and chunks", "HTTP/1.1 200 OK\r\nContent-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n", false, false,
			outcome{err: errLengths},
		},
		{"negative length", "HTTP/1.1 200 OK\r\nContent-Length: -4\r\n\r\n", false, false, outcome{err: errLengths}},
		{"other encoding", "HTTP/1.1 200 OK\r\nTransfer-Encoding: gzip\r\n\r\n", false, false, outcome{err: errLengths}},
		{
			"chunk without a size", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n\r\n", false, false,
			outcome{err: errChunk},
		},
		{
			"chunk that goes on", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\ntide\r\n", false, false,
			outcome{err: errChunk},
		},
		{
			"chunk beyond reason", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nffffffffffffffff\r\n", false, false,
			outcome{err: errChunk},
		},
		{"no HTTP", "SSH-2.0-OpenHarbour\r\n\r\n", false, false, outcome{err: errHead}},
		{"no number", "HTTP/1.1 2x0 OK\r\n\r\n", false, false, outcome{err: errHead}},
		{"folded line", "HTTP/1.1 200 OK\r\nX: y\r\n z\r\n\r\n", false, false, outcome{err: errHead}},
		{"space before the colon", "HTTP/1.1 200 OK\r\nContent-Length : 4\r\n\r\n", false, false, outcome{err: errHead}},
		{"another protocol", "HTTP/1.1 101 Switching\r\n\r\n", false, false, outcome{err: errHead}},
		{"endless head", "HTTP/1.1 200 OK\r\nX: " + strings.Repeat("y", maxHead+10), false, false, outcome{err: errTooLong}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			step := 1 + len(tt.raw)/200
			for n := 1; n <= len(tt.raw)+1; n += step {
				if got := read(tt.raw, n, tt.isHead, tt.ended); got != tt.want {
					t.Fatalf("in pieces of %d: %+v; want %+v", n, got, tt.want)
				}
			}
		})
	}
}

func TestAnAnswerThatIsCutShort(t *testing.T) {
	for _, raw := range []string{
		"HTTP/1.1 200 OK\r\nContent-Le", "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\ntide",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\ntide\r\n",
	} {
		if got := read(raw, len(raw), false, true); got.err == nil {
			t.Errorf("%q is taken for whole", raw)
		}
	}
}

// Whatever comes is read the same in one piece and byte by byte, and what is read as good is what the standard library
// reads. seen is what is read of an answer that comes in one piece and is not kept.
type seen struct {
	status   int
	length   int64
	rest     string
	complete bool
	close    bool
	failed   bool
}

func glance(a *answer, raw string, isHead bool) seen {
	a.begin(isHead, nil)
	rest, err := a.take([]byte(raw))
	return seen{a.status, a.length, string(rest), a.complete, a.close, err != nil}
}

// A head that was read before is not read again, and means the same.
func TestTheSameHeadAgain(t *testing.T) {
	heads := []string{
		"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntide", "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\ntides",
		"HTTP/1.1 204 None\r\n\r\n",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\ntid\r\n1\r\ne\r\n0\r\n\r\n",
		"HTTP/1.1 404 Not Found\r\nConnection: close\r\nContent-Length: 0\r\n\r\n",
		"HTTP/1.1 200 OK\r\n\r\nuntil", "HTTP/1.1 103 Hints\r\nLink: a\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 1\r\n\r\nx",
	}
	var kept answer
	for range 3 {
		for _, first := range heads {
			for _, second := range heads {
				for _, isHead := range []bool{false, true} {
					var fresh answer
					glance(&kept, first, !isHead)
					glance(&kept, first, isHead)
					if got, want := glance(&kept, second, isHead), glance(&fresh, second, isHead); got != want {
						t.Fatalf("after %q, %q reads as %+v; want %+v", first, second, got, want)
					}
				}
			}
		}
	}
	told := "HTTP/1.1 200 OK\r\nServer-Timing: db;dur=2\r\nContent-Length: 1\r\n\r\nx"
	for range 3 {
		glance(&kept, told, false)
		if marks := kept.marks.List(); len(marks) != 1 || marks[0].Name != "db" {
			t.Errorf("times told are %v", marks)
		}
	}
}

func FuzzAnswer(f *testing.F) {
	f.Add("HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntide")
	f.Add("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3;x\r\ntid\r\n0\r\nA: b\r\n\r\n")
	f.Add("HTTP/1.1 103 x\r\n\r\nHTTP/1.0 200 OK\r\n\r\n")
	f.Fuzz(func(t *testing.T, raw string) {
		whole, bytewise := read(raw, len(raw)+1, false, true), read(raw, 1, false, true)
		if (whole.err == nil) != (bytewise.err == nil) || whole.err == nil && whole != bytewise {
			t.Fatalf("in one piece %+v, byte by byte %+v", whole, bytewise)
		}
		if whole.err != nil || !whole.complete || strings.HasPrefix(raw, "HTTP/1.1 1") ||
			strings.HasPrefix(raw, "HTTP/1.0 1") {
			return
		}
		r, err := http.ReadResponse(bufio.NewReader(bytes.NewReader([]byte(raw))), nil)
		if err != nil {
			return // it is stricter about names and values, which nothing depends on here
		}
		body, err := io.ReadAll(r.Body)
		if err == nil && (r.StatusCode != whole.status || string(body) != whole.body) {
			t.Fatalf("read %d %q, the standard library %d %q", whole.status, whole.body, r.StatusCode, body)
		}
	})
}
