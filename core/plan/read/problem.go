package read

import (
	"fmt"
	"slices"
	"strings"

	"paceduel/core/units"
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

	point string // of the sweep that it was found at, until problems of points are put together
	who   string // the contender that it was found for; empty for what is wrong with the plan itself
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

// once tells each problem once: what the course says wrongly is found for each contender, and is told with all their
// names.
func (ps Problems) once() (out Problems) {
	var whose [][]string
	for _, p := range ps {
		who := p.who
		p.who = ""
		at := slices.Index(out, p)
		if at < 0 {
			at = len(out)
			out, whose = append(out, p), append(whose, nil)
		}
		if who != "" && !slices.Contains(whose[at], who) {
			whose[at] = append(whose[at], who)
		}
	}
	for i := range out {
		if len(whose[i]) > 0 {
			out[i].What = units.List(whose[i]) + ": " + out[i].What
		}
	}
	return out
}
