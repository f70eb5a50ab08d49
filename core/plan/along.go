package plan

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"paceduel/core/cell"
	"paceduel/core/units"
)

// Along is where in a sweep a claim holds: at one value of a parameter, from one on, up to one, or at all of them. The
// zero Along is everywhere.
type Along struct {
	Parameter string
	Value     string // as the claim writes it; empty: at every one
	Way       Way
}

// Way is how far a place reaches.
type Way int

// The ways.
const (
	Exactly Way = iota
	OrMore
	OrLess
)

// Holds reports whether a claim there is about a point.
func (p Along) Holds(at cell.Point) bool {
	if p.Parameter == "" || p.Value == "" {
		return true
	}
	value := at.Values()[p.Parameter]
	own, _ := Number(value)
	edge, _ := Number(p.Value)
	switch {
	case math.IsNaN(own) || math.IsNaN(edge):
		return value == p.Value
	case p.Way == OrMore:
		return own >= edge
	case p.Way == OrLess:
		return own <= edge
	}
	return own == edge
}

// String says it as a claim does.
func (p Along) String() string {
	switch {
	case p.Parameter == "":
		return ""
	case p.Value == "":
		return "at every " + p.Parameter
	}
	return "at " + p.Parameter + " " + p.Value + map[Way]string{OrMore: " or more", OrLess: " or less"}[p.Way]
}

// SplitAlong takes from a claim where in a sweep it holds: "at threads=12", "at threads 12 or more", "at every rows".
// What is left is the claim by itself. The error is a *ClaimError.
func SplitAlong(text string, params []Parameter) (rest string, at Along, err error) {
	words := strings.Fields(text)
	for i, w := range words {
		if w != "at" || i+1 >= len(words) {
			continue
		}
		name, value, joined := strings.Cut(words[i+1], "=")
		every := name == "every" && !joined && i+2 < len(words)
		if every {
			name = words[i+2]
		}
		k := slices.IndexFunc(params, func(p Parameter) bool { return p.Name == name })
		if k < 0 {
			if joined || every {
				return "", at, &ClaimError{
					strings.Index(text, words[i+1]), fmt.Sprintf("no parameter is called %q", name),
					PointTo(name, parameterNames(params)),
				}
			}
			continue
		}
		end := i + 2
		at.Parameter = name
		switch {
		case every:
			end++
		case !joined && i+2 < len(words):
			value = words[i+2]
			end++
		}
		if end+1 < len(words) && words[end] == "or" {
			switch words[end+1] {
			case "more":
				at.Way, end = OrMore, end+2
			case "less":
				at.Way, end = OrLess, end+2
			}
		}
		at.Value = params[k].textOf(value)
		if !every && value == "" {
			return "", at, &ClaimError{
				strings.Index(text, name), "nothing says at which " + name, "write it as at " + name + "=4",
			}
		}
		if err := params[k].reaches(at); err != nil {
			return "", at, &ClaimError{strings.Index(text, name), err.Error(), "name one of " + valuesOf(&params[k])}
		}
		return strings.Join(slices.Concat(words[:i], words[end:]), " "), at, nil
	}
	return text, at, nil
}

// textOf is the text of a value that goes by what people call it.
func (p *Parameter) textOf(value string) string {
	for _, v := range p.Values {
		if v.Called == value && value != "" {
			return v.Text
		}
	}
	return value
}

// reaches says why none of a parameter's values lies at a place; nil where some do.
func (p *Parameter) reaches(at Along) error {
	if at.Value == "" {
		return nil
	}
	for _, v := range p.Values {
		if at.Holds(cell.At(map[string]string{p.Name: v.Text})) {
			return nil
		}
	}
	return fmt.Errorf("%s has no value %s", p.Name, strings.TrimPrefix(at.String(), "at "+p.Name+" "))
}

func parameterNames(params []Parameter) (names []string) {
	for i := range params {
		names = append(names, params[i].Name)
	}
	return names
}

func valuesOf(p *Parameter) string {
	var texts []string
	for _, v := range p.Values {
		texts = append(texts, v.Text)
	}
	return units.List(texts)
}
