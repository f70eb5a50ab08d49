package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/invopop/jsonschema"
)

// Looks are the rounds after which a run with rounds: auto is looked at, and ended if every figure is settled.
// Intervals are then wider, so that the chance of a wrong word over all looks stays at 5 % (LookLevel).
var Looks = []int{5, 10, 20, 40}

// LookLevel is one minus the confidence of the intervals of a run that is looked at so often.
const LookLevel = 0.015

// Often is how many rounds there are: a number, or as many of Looks as it takes.
type Often struct {
	N    int // the number, or with Auto the most
	Auto bool
}

const oftenPattern = `^auto( up to (5|10|20|40))?$`

// Read accepts a number of rounds, "auto", or "auto up to" one of the looks.
func (o *Often) Read(text string) error {
	if text == "auto" {
		*o = Often{N: Looks[len(Looks)-1], Auto: true}
		return nil
	}
	if most, ok := strings.CutPrefix(text, "auto up to "); ok {
		n, err := strconv.Atoi(most)
		if err != nil || !slices.Contains(Looks, n) {
			return fmt.Errorf("%q is not a number of rounds that is looked at, take 5, 10, 20 or 40", most)
		}
		*o = Often{N: n, Auto: true}
		return nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > MaxRounds {
		return fmt.Errorf("%q is not a number of rounds, write 1 to %d, or auto", text, MaxRounds)
	}
	*o = Often{N: n}
	return nil
}

// JSONSchema describes a number of rounds for the published schema.
func (Often) JSONSchema() *jsonschema.Schema {
	const what = "a number of rounds, or auto: as many of 5, 10, 20 and 40 as it takes"
	return &jsonschema.Schema{Description: what, OneOf: []*jsonschema.Schema{
		{Type: "integer", Minimum: "1", Maximum: "1000"},
		{Type: "string", Pattern: oftenPattern},
	}}
}
