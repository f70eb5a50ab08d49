package plan

import (
	"encoding/json"
	"fmt"
	"strconv"

	"github.com/invopop/jsonschema"
)

// Connections is how many are opened: Kept for each client, Fresh for every shot, or a pool of that many for all.
type Connections int

// The connections that are no pool.
const (
	Kept  Connections = 0
	Fresh Connections = -1
)

const maxPool = 1024

// Read accepts kept, new or a number.
func (c *Connections) Read(text string) error {
	n, err := strconv.Atoi(text)
	switch {
	case text == "kept":
		*c = Kept
	case text == "new":
		*c = Fresh
	case err == nil && n >= 1 && n <= maxPool:
		*c = Connections(n)
	default:
		return fmt.Errorf(
			"%q is not how connections are opened, write kept, new or a number of connections shared by all, up to %d", text,
			maxPool,
		)
	}
	return nil
}

// JSONSchema describes connections for the published schema.
func (Connections) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Description: "kept for each client, a new one for every shot, or a number: a pool of so " +
		"many that all clients share; kept unless said", OneOf: []*jsonschema.Schema{
		{Type: "string", Enum: []any{"kept", "new"}},
		{Type: "integer", Minimum: "1", Maximum: json.Number(strconv.Itoa(maxPool))},
	}}
}
