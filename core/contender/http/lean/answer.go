package lean

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"paceduel/core/contender/http/servertiming"
	"paceduel/core/shots"
)

// Why an answer cannot be read. Lengths that do not add up are told apart from what is no HTTP at all.
var (
	errHead    = errors.New("its head is no HTTP/1.1")
	errTooLong = errors.New("its head is longer than 64 KiB")
	errLengths = errors.New("it announces lengths that contradict each other")
	errChunk   = errors.New("a chunk of it is malformed")
)

const maxHead = 64 << 10

// framing is how an answer's end is found.
type framing uint8

const (
	byLength framing = iota
	byChunks
	byClose
)

// Where in a chunked body the next byte stands.
const (
	chunkSize = iota
	chunkExtension
	chunkSizeEnd
	chunkData
	chunkDataEnd1
	chunkDataEnd2
	trailerStart
	trailerLine
	trailerEnd
)

// answer reads one answer as it comes, in whatever pieces, and allocates nothing unless it is kept in view.
type answer struct {
	head     []byte // what came of a head that is not whole yet
	status   int
	reason   string // when in view
	inBody   bool
	framing  framing
	left     int64 // bytes of body or chunk still to come
	state    int   // in a chunked body
	digits   int   // of the chunk's size
	length   int64 // of the body so far, decoded from chunks
	close    bool  // the connection ends after it
	noBody   bool  // the request was a HEAD
	view     *shots.View
	complete bool
	marks    shots.Marks // that the service told of its time
	last     *lastHead
}

// lastHead is the head of the answer before and what it says. Most services send the same one for a second, until its
// date changes, so that comparing its bytes saves reading it.
type lastHead struct {
	bytes   []byte // with its end; empty: none to go by
	noBody  bool
	status  int
	framing framing
	left    int64
	close   bool
}

// begin prepares for the answer to a request.
func (a *answer) begin(isHead bool, view *shots.View) {
	a.marks.Clear()
	if a.last == nil {
		a.last = &lastHead{}
	}
	*a = answer{head: a.head[:0], noBody: isHead, view: view, marks: a.marks, last: a.last}
}

// take reads the next piece and reports when the answer is whole; rest is what follows it.
func (a *answer) take(p []byte) (rest []byte, err error) {
	for !a.inBody {
		if l := a.last; len(a.head) == 0 && a.view == nil && len(l.bytes) > 0 && l.noBody == a.noBody &&
			bytes.HasPrefix(p, l.bytes) {
			a.status, a.framing, a.left, a.close, a.inBody = l.status, l.framing, l.left, l.close, true
			a.state, a.digits = chunkSize, 0
			p = p[len(l.bytes):]
			break
		}
		end := bytes.Index(p, headEnd)
		if len(a.head) == 0 && end >= 0 {
			if err := a.readHead(p[:end]); err != nil {
				return nil, err
			}
			a.remember(p[:end+len(headEnd)])
			p = p[end+len(headEnd):]
			continue
		}
		// The head comes in pieces, perhaps cut within its end.
		from := max(len(a.head)-len(headEnd)+1, 0)
		a.head = append(a.head, p...)
		if end = bytes.Index(a.head[from:], headEnd); end < 0 {
			if len(a.head) > maxHead {
				return nil, errTooLong
			}
			return nil, nil
		}
		end += from
		after := len(a.head) - end - len(headEnd)
		p = p[len(p)-after:]
		head := a.head[:end]
		a.head = a.head[:0]
		if err := a.readHead(head); err != nil {
			return nil, err
		}
	}
	return a.body(p)
}

// remember keeps a head that was just read, unless it tells times, which have to be read each time.
func (a *answer) remember(head []byte) {
	l := a.last
	l.bytes = l.bytes[:0]
	if a.inBody && len(a.marks.List()) == 0 {
		l.bytes = append(l.bytes, head...)
		l.noBody, l.status, l.framing, l.left, l.close = a.noBody, a.status, a.framing, a.left, a.close
	}
}

var headEnd = []byte("\r\n\r\n")

// readHead reads a whole head. An interim answer (1xx) leaves the reader waiting for the next one. It is long since
// calls within the bytes of an answer would cost more than what they do.
func (a *answer) readHead(head []byte) error {
	old := len(head) > 7 && head[7] == '0' // HTTP/1.0 has no chunks
	line, fields, _ := bytes.Cut(head, []byte("\r\n"))
	if broken(line) {
		return errHead
	}
	// HTTP/1.x SP status [SP reason]
	if len(line) < 12 || !bytes.HasPrefix(line, []byte("HTTP/1.")) || line[7] != '0' && line[7] != '1' || line[8] != ' ' ||
		len(line) > 12 && line[12] != ' ' {
		return errHead
	}
	a.status = 0
	for _, c := range line[9:12] {
		if c < '0' || c > '9' {
			return errHead
		}
		a.status = a.status*10 + int(c-'0')
	}
	if a.status < 100 || a.status == 101 {
		return errHead
	}
	interim := a.status < 200
	if a.view != nil && !interim {
		a.reason = string(line[9:])
	}
	a.framing, a.left, a.close = byClose, 0, old
	length := int64(-1)
	chunked := false
	for len(fields) > 0 {
		line, fields, _ = bytes.Cut(fields, []byte("\r\n"))
		name, value, ok := bytes.Cut(line, []byte(":"))
		if !ok || broken(line) || len(name) == 0 || name[0] == ' ' || name[0] == '\t' || name[len(name)-1] == ' ' {
			return errHead
		}
		value = bytes.TrimSpace(value)
		if a.view != nil && !interim {
			a.keep(string(name), string(value))
		}
		switch {
		case len(name) == 14 && bytes.EqualFold(name, []byte("Content-Length")):
			n, err := parseLength(value)
			if err != nil || length >= 0 && n != length {
				return errLengths
			}
			length = n
		case len(name) == 17 && bytes.EqualFold(name, []byte("Transfer-Encoding")):
			if old || chunked || !bytes.EqualFold(value, []byte("chunked")) {
				return errLengths // nothing else ends where we could see it
			}
			chunked = true
		case len(name) == 13 && !interim && bytes.EqualFold(name, []byte("Server-Timing")):
			servertiming.Read(value, a.marks.AddTime)
		case len(name) == 10 && bytes.EqualFold(name, []byte("Connection")):
			if bytes.EqualFold(value, []byte("close")) {
				a.close = true
			} else if bytes.EqualFold(value, []byte("keep-alive")) {
				a.close = false
			}
		}
	}
	if interim {
		return nil
	}
	a.inBody = true
	switch {
	case chunked && length >= 0:
		return errLengths
	case a.noBody || a.status == 204 || a.status == 304:
		a.framing, a.left = byLength, 0
	case chunked:
		a.framing, a.state, a.digits = byChunks, chunkSize, 0
	case length >= 0:
		a.framing, a.left = byLength, length
	default:
		a.close = true
	}
	return nil
}

// broken reports a line end that is not whole, over which readers disagree.
func broken(line []byte) bool {
	return bytes.IndexByte(line, '\n') >= 0 || bytes.IndexByte(line, '\r') >= 0
}

// parseLength reads digits alone.
func parseLength(value []byte) (n int64, err error) {
	if len(value) == 0 || len(value) > 18 {
		return 0, errLengths
	}
	for _, c := range value {
		if c < '0' || c > '9' {
			return 0, errLengths
		}
		n = n*10 + int64(c-'0')
	}
	return n, nil
}

func (a *answer) body(p []byte) (rest []byte, err error) {
	switch a.framing {
	case byLength:
		n := min(int64(len(p)), a.left)
		a.payload(p[:n])
		a.left -= n
		a.complete = a.left == 0
		return p[n:], nil
	case byClose:
		a.payload(p)
		return nil, nil
	}
	return a.chunks(p)
}

// payload is the next part of the body itself.
func (a *answer) payload(p []byte) {
	a.length += int64(len(p))
	if a.view != nil {
		if room := a.view.Room() - len(a.view.Body); room > 0 {
			a.view.Body = append(a.view.Body, p[:min(len(p), room)]...)
		}
	}
}

// chunks is long. It is long since calls within the bytes of an answer would cost more than what they do.
func (a *answer) chunks(p []byte) (rest []byte, err error) {
	for len(p) > 0 {
		c := p[0]
		switch a.state {
		case chunkSize:
			digit := hexDigit(c)
			switch {
			case digit >= 0:
				if a.digits++; a.digits > 15 {
					return nil, errChunk
				}
				a.left = a.left<<4 | int64(digit)
			case a.digits == 0:
				return nil, errChunk
			case c == ';' || c == ' ' || c == '\t':
				a.state = chunkExtension
			case c == '\r':
				a.state = chunkSizeEnd
			default:
				return nil, errChunk
			}
		case chunkExtension:
			if c == '\r' {
				a.state = chunkSizeEnd
			} else if c == '\n' {
				return nil, errChunk
			}
		case chunkSizeEnd:
			if c != '\n' {
				return nil, errChunk
			}
			a.state = chunkData
			if a.left == 0 {
				a.state = trailerStart
			}
		case chunkData:
			n := min(int64(len(p)), a.left)
			a.payload(p[:n])
			if a.left -= n; a.left == 0 {
				a.state = chunkDataEnd1
			}
			p = p[n:]
			continue
		case chunkDataEnd1:
			if c != '\r' {
				return nil, errChunk
			}
			a.state = chunkDataEnd2
		case chunkDataEnd2:
			if c != '\n' {
				return nil, errChunk
			}
			a.state, a.digits, a.left = chunkSize, 0, 0
		case trailerStart:
			a.state = trailerLine
			if c == '\r' {
				a.state = trailerEnd
			}
		case trailerLine:
			if c == '\n' {
				a.state = trailerStart
			}
		case trailerEnd:
			if c != '\n' {
				return nil, errChunk
			}
			a.complete = true
			return p[1:], nil
		}
		p = p[1:]
	}
	return nil, nil
}

func hexDigit(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// closed says what the end of the connection means for the answer: whole for a body that ends with it, else cut short.
func (a *answer) closed() error {
	if a.inBody && a.framing == byClose {
		a.complete = true
		return nil
	}
	return fmt.Errorf("the connection ended within the answer, after %d bytes of body: %w", a.length, io.ErrUnexpectedEOF)
}

// keep notes a header for the view.
func (a *answer) keep(name, value string) {
	a.view.Headers = append(a.view.Headers, name+": "+value)
	switch {
	case strings.EqualFold(name, "Content-Type"):
		a.view.Type = value
	case strings.EqualFold(name, "Content-Encoding"):
		a.view.Encoding = value
	}
}

// describe fills in what a view says of a whole answer.
func (a *answer) describe() {
	a.view.Outcome, a.view.Bytes, a.view.Known = strings.TrimSpace(a.reason), a.length, true
	if a.view.Outcome == "" {
		a.view.Outcome = strconv.Itoa(a.status)
	}
	slices.Sort(a.view.Headers)
}
