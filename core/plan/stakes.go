package plan

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/invopop/jsonschema"

	"paceduel/core/figure"
	"paceduel/core/units"
)

// Stakes are what a difference is worth to whoever asks: figures of their own that a verdict is translated by.
type Stakes struct {
	RunsPerDay  Amount   `json:"runs-per-day,omitempty" jsonschema_description:"how often it is done in a day, for the minutes that it takes in a month of 30 days"`
	MinutePrice Amount   `json:"minute-price,omitempty" jsonschema_description:"with runs-per-day: what a minute of it costs"`
	PeakRate    Rate     `json:"peak-rate,omitempty" jsonschema_description:"what has to be served at the busiest, for the servers like this machine that it takes"`
	Spare       Fraction `json:"spare,omitempty" jsonschema_description:"with peak-rate: the share of each server's capacity that is to stay free then"`
	ServerPrice Amount   `json:"server-price,omitempty" jsonschema_description:"with peak-rate: what a server costs in a month"`
	Items       Amount   `json:"items,omitempty" jsonschema_description:"how many have to be done in all, one a shot, for the time that they take"`
	Prices      Prices   `json:"prices,omitempty" jsonschema_description:"with runs-per-day: what an amount of a figure costs, by its name: 0.09/GB of bytes, 0.04/h of cpu, 0.2/1000000 of how often a step comes"`
	// Each is the price of one of a figure's unit, from Prices.
	Each     map[figure.Name]float64 `json:"-"`
	Currency Word                    `json:"currency,omitempty" jsonschema_description:"of the prices, as it is to be written"`
}

// Prices are those of figures, by the names by which the plan calls them.
type Prices map[string]Price

// Price is what an amount costs, written plainly for one (0.002) or for a stated amount: 0.09/GB, 0.04/h, 0.2/1000000.
type Price struct {
	Amount Amount
	Per    string // what stands behind the stroke; empty: one of the figure's unit
}

const pricePattern = `^[0-9]+(\.[0-9]+)?([eE][0-9]+)?(/[0-9A-Za-zµ.]+)?$`

// Read accepts an amount, alone or with what it is the price of.
func (p *Price) Read(text string) error {
	amount, per, of := strings.Cut(text, "/")
	var a Amount
	if err := a.Read(amount); err != nil || of && per == "" || a == 0 {
		return fmt.Errorf("%q is not a price, write it as 0.002, or as 0.09/GB for an amount", text)
	}
	*p = Price{a, per}
	return nil
}

// Each is the price of one of a unit. The error says how an amount of it is written.
func (p Price) Each(unit units.Unit) (float64, error) {
	if p.Per == "" {
		return float64(p.Amount), nil
	}
	var of float64
	var err error
	as := "1000000"
	switch unit {
	case units.Byte:
		var n uint64
		n, err = humanize.ParseBytes("1" + p.Per)
		of, as = float64(n), "GB"
	case units.Second:
		var d time.Duration
		d, err = time.ParseDuration("1" + p.Per)
		of, as = d.Seconds(), "h"
	default:
		of, err = strconv.ParseFloat(p.Per, 64)
	}
	if err != nil || !(of > 0) {
		return 0, fmt.Errorf("%q is no amount of it, write /%s", p.Per, as)
	}
	return float64(p.Amount) / of, nil
}

// JSONSchema describes a price for the published schema.
func (Price) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{
		Description: "a price, of one (0.002) or of an amount: 0.09/GB, 0.04/h, 0.2/1000000",
		OneOf: []*jsonschema.Schema{
			{Type: "string", Pattern: pricePattern},
			{Type: "number", Minimum: "0", Maximum: "1000000000000000"},
		},
	}
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
