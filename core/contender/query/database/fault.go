package database

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"

	"paceduel/core/guard"
	"paceduel/core/shots"
)

// Unconnected sorts an error of the connection itself to the database at where; ok is false for others.
func Unconnected(err error, where string) (f Fault, ok bool) {
	var refused *guard.RefusedError
	switch {
	case errors.As(err, &refused):
		return Fault{Class: shots.Refused, Err: err}, true
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, os.ErrNotExist):
		return Fault{
			Class: shots.Refused, Err: fmt.Errorf("nothing listens on %s: %w", where, syscall.ECONNREFUSED),
			Try: "start the database, or correct the address",
		}, true
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		return Fault{Class: shots.Limits, Err: err}, true
	case errors.Is(err, os.ErrDeadlineExceeded):
		return Fault{Class: shots.Timeout, Err: err}, true
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed):
		return Fault{
			Class: shots.Reset, Err: fmt.Errorf("%s closed the connection: %w", where, err),
			Try: "see the database's own log",
		}, true
	}
	return Fault{}, false
}

// Whole reads a number in digits, as far as it is whole.
func Whole(digits []byte) int64 {
	text, _, _ := strings.Cut(string(digits), ".")
	n, _ := strconv.ParseInt(text, 10, 64)
	return n
}
