package read

import (
	"fmt"
	"slices"
	"strings"
)

// Pos is a place in a plan file: lines and columns count from 1, columns in characters. The zero Pos is the file as a
// whole.
type Pos struct {
	File         string
	Line, Column int
}

func (p Pos) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Problem is one thing that is wrong with a plan, where it stands, and what to do about it.
type Problem struct {
	Pos  Pos
	What string // what is wrong, lower case, no full stop
	Try  string // what to do, may be empty
}

func (p Problem) Error() string {
	if p.Try == "" {
		return p.Pos.String() + ": " + p.What
	}
	return p.Pos.String() + ": " + p.What + "; " + p.Try
}

// Problems is the error of a refused plan: everything that is wrong with it, in the order of the file.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// once leaves out what stands there already: what the course says wrongly is found for each contender.
func (ps Problems) once() (out Problems) {
	for _, p := range ps {
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}
