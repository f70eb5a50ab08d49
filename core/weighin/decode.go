package weighin

import (
	"bytes"
	"cmp"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"paceduel/core/result"
)

// decode undoes a content encoding, so that answers can be compared whatever they were sent as. Where it cannot, it
// returns the body as it came and a note that says so.
func decode(encoding string, body []byte) (decoded []byte, note string) {
	open := map[string]func(io.Reader) (io.Reader, error){
		"gzip":   func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
		"x-gzip": func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
		"zstd": func(r io.Reader) (io.Reader, error) {
			d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxCompared))
			if err != nil {
				return nil, err
			}
			return d.IOReadCloser(), nil
		},
		"deflate": func(r io.Reader) (io.Reader, error) {
			if z, err := zlib.NewReader(bytes.NewReader(body)); err == nil {
				return z, nil
			}
			return flate.NewReader(r), nil // some servers leave the zlib head out
		},
	}[strings.ToLower(strings.TrimSpace(encoding))]
	switch {
	case encoding == "" || strings.EqualFold(encoding, "identity") || len(body) == 0:
		return body, ""
	case open == nil:
		return body, fmt.Sprintf("it came in the encoding %q, which is compared as it came", encoding)
	}
	r, err := open(bytes.NewReader(body))
	if err == nil {
		decoded, err = io.ReadAll(io.LimitReader(r, maxCompared))
	}
	if err != nil {
		return body, fmt.Sprintf("it says that it is %s, but cannot be decoded: %s", encoding, err)
	}
	return decoded, ""
}

// weighHeaders tells what the bytes of an answer's headers are, by name.
func weighHeaders(headers []string) (parts []result.Part) {
	const lineEnd = 2
	at := map[string]int{}
	for _, h := range headers {
		name, _, _ := strings.Cut(h, ":")
		i, known := at[name]
		if !known {
			i = len(parts)
			at[name] = i
			parts = append(parts, result.Part{Path: name})
		}
		parts[i].Bytes += int64(len(h) + lineEnd)
		parts[i].Count++
	}
	slices.SortStableFunc(parts, func(a, b result.Part) int { return cmp.Compare(b.Bytes, a.Bytes) })
	if len(parts) > maxParts {
		parts = parts[:maxParts]
	}
	return parts
}
