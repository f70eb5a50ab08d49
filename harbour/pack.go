package harbour

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// A packed manifest is a stream of records: for each line its fields, where text that was seen before is replaced by
// its number. Numbers are varints; new text is a zero, its length and itself. Packers write the same bytes.
const fieldCount = 8

// Packers maps the names that plans use to the packers.
func Packers() map[string]func(io.Reader, io.Writer) error {
	return map[string]func(io.Reader, io.Writer) error{"gather": packGathered, "stream": packStreamed}
}

// Pack packs a manifest with the packer of that name.
func Pack(name string, in io.Reader, out io.Writer) error {
	pack, ok := Packers()[name]
	if !ok {
		return fmt.Errorf("no packer called %q; there are %s", name, strings.Join(slices.Sorted(maps.Keys(Packers())), ", "))
	}
	return pack(in, out)
}

var manifestLine = regexp.MustCompile(`^(\d+);([^;]+);([^;]+);([^;]+);hold (\d+);(\d+) kg;([^;]+);([^;]+)$`)

// packGathered is written the short way: read all, take each line apart with a regular expression into a record, then
// encode the records.
func packGathered(in io.Reader, out io.Writer) error {
	all, err := io.ReadAll(in)
	if err != nil {
		return fmt.Errorf("read manifest: %w", err)
	}
	var records []map[int]string
	for n, line := range strings.Split(strings.TrimRight(string(all), "\n"), "\n") {
		fields := manifestLine.FindStringSubmatch(line)
		if fields == nil {
			return fmt.Errorf("manifest line %d: not %d fields as expected", n+1, fieldCount)
		}
		record := map[int]string{}
		for i, field := range fields[1:] {
			record[i] = field
		}
		records = append(records, record)
	}
	seen := map[string]uint64{}
	var packed []byte
	for _, record := range records {
		for i := range fieldCount {
			if isNumber(i) {
				v, err := strconv.ParseUint(record[i], 10, 64)
				if err != nil {
					return fmt.Errorf("manifest: %w", err)
				}
				packed = binary.AppendUvarint(packed, v)
				continue
			}
			if number, ok := seen[record[i]]; ok {
				packed = binary.AppendUvarint(packed, number)
				continue
			}
			seen[record[i]] = uint64(len(seen) + 1)
			packed = binary.AppendUvarint(append(packed, 0), uint64(len(record[i])))
			packed = append(packed, record[i]...)
		}
	}
	_, err = out.Write(packed)
	return err
}

func isNumber(field int) bool { return field == 0 || field == 4 || field == 5 }

// packStreamed takes one line at a time apart in place and writes it at once.
func packStreamed(in io.Reader, out io.Writer) error {
	r, w := bufio.NewScanner(in), bufio.NewWriterSize(out, 64<<10)
	r.Buffer(make([]byte, 64<<10), 1<<20)
	seen := map[string]uint64{}
	var scratch []byte
	for n := 1; r.Scan(); n++ {
		line, i := r.Bytes(), 0
		for ; i < fieldCount; i++ {
			field, rest, more := bytes.Cut(line, []byte{';'})
			if !more && i < fieldCount-1 || more && i == fieldCount-1 {
				return fmt.Errorf("manifest line %d: not %d fields as expected", n, fieldCount)
			}
			line = rest
			scratch = scratch[:0]
			if isNumber(i) {
				v, err := number(field)
				if err != nil {
					return fmt.Errorf("manifest line %d: %w", n, err)
				}
				scratch = binary.AppendUvarint(scratch, v)
			} else if known, ok := seen[string(field)]; ok {
				scratch = binary.AppendUvarint(scratch, known)
			} else {
				seen[string(field)] = uint64(len(seen) + 1)
				scratch = binary.AppendUvarint(append(scratch, 0), uint64(len(field)))
				scratch = append(scratch, field...)
			}
			if _, err := w.Write(scratch); err != nil {
				return err
			}
		}
	}
	if err := r.Err(); err != nil {
		return fmt.Errorf("read manifest: %w", err)
	}
	return w.Flush()
}

// number reads the digits of a field such as "hold 3" or "1200 kg".
func number(field []byte) (v uint64, err error) {
	digits := bytes.TrimSuffix(bytes.TrimPrefix(field, []byte("hold ")), []byte(" kg"))
	if len(digits) == 0 {
		return 0, fmt.Errorf("%q is not a number", field)
	}
	for _, c := range digits {
		if c < '0' || c > '9' {
			return 0, fmt.Errorf("%q is not a number", field)
		}
		v = v*10 + uint64(c-'0')
	}
	return v, nil
}
