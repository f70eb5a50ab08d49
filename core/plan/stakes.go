package plan

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/invopop/jsonschema"
)

// Stakes are what a difference is worth to whoever asks: figures of their own that a verdict is translated by.
type Stakes struct {
	RunsPerDay  Amount   `json:"runs-per-day,omitempty" jsonschema_description:"how often it is done in a day, for the minutes that it takes in a month of 30 days"`
	MinutePrice Amount   `json:"minute-price,omitempty" jsonschema_description:"with runs-per-day: what a minute of it costs"`
	PeakRate    Rate     `json:"peak-rate,omitempty" jsonschema_description:"what has to be served at the busiest, for the servers like this machine that it takes"`
	Spare       Fraction `json:"spare,omitempty" jsonschema_description:"with peak-rate: the share of each server's capacity that is to stay free then"`
	ServerPrice Amount   `json:"server-price,omitempty" jsonschema_description:"with peak-rate: what a server costs in a month"`
	Items       Amount   `json:"items,omitempty" jsonschema_description:"how many have to be done in all, one a shot, for the time that they take"`
	Currency    Word     `json:"currency,omitempty" jsonschema_description:"of the prices, as it is to be written"`
}

// Amount is a number that is not negative, written plainly: 400, 0.008, 2e6.
type Amount float64

const (
	amountPattern = `^[0-9]+(\.[0-9]+)?([eE][0-9]+)?$`
	maxAmount     = 1e15
)

// Read accepts a number from 0 to a million thousand millions.
func (a *Amount) Read(text string) error {
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || !(v >= 0 && v <= maxAmount) || strings.ContainsAny(text, "+-xXpP_") {
		return fmt.Errorf("%q is not an amount, write a number, as 400 or 0.008", text)
	}
	*a = Amount(v)
	return nil
}

// JSONSchema describes an amount for the published schema.
func (Amount) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "a number, not negative", OneOf: []*jsonschema.Schema{
		{Type: "string", Pattern: amountPattern},
		{Type: "number", Minimum: "0", Maximum: "1000000000000000"},
	}}
}
