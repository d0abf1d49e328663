package cli

import (
	"context"
	"encoding/json"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"

	"wardicon/api"
	"wardicon/client"
)

// reference is a field that names another record: by its identifier in the service, by its name for
// people.
type reference struct {
	find func(ctx context.Context, c *client.Client, name string) (id string, err error)
	name func(ctx context.Context, c *client.Client, id string) (name string, err error)
}

var (
	toGateway = reference{
		gatewayID,
		func(ctx context.Context, c *client.Client, id string) (string, error) {
			g, err := c.Gateways.Show(ctx, id)
			return g.Name, err
		},
	}
	toPerson = reference{
		personID,
		func(ctx context.Context, c *client.Client, id string) (string, error) {
			p, err := c.People.Show(ctx, id)
			return p.Name, err
		},
	}
	toAccount = reference{
		accountID,
		func(ctx context.Context, c *client.Client, id string) (string, error) {
			x, err := c.Accounts.Show(ctx, id)
			return x.Login, err
		},
	}
	toPattern = reference{
		patternID,
		func(ctx context.Context, c *client.Client, id string) (string, error) {
			p, err := c.Patterns.Show(ctx, id)
			return p.Name, err
		},
	}
	toDevice = reference{
		deviceID,
		func(ctx context.Context, c *client.Client, id string) (string, error) {
			d, err := c.Devices.Show(ctx, id)
			return d.Name, err
		},
	}
)

// identifier has the form of the service's identifiers.
var identifier = regexp.MustCompile(`^[a-z]{2}-[0-9a-z]{16}$`)

// portable is a record as a file for --from: the fields that people set, with names for
// identifiers. Secrets are not in it; a record that is changed by the file keeps those that it has.
func (n noun[Row]) portable(ctx context.Context, c *client.Client, row Row) ([]byte, error) {
	data, err := json.Marshal(row)
	if err != nil {
		return nil, err
	}
	patch := client.Patch{}
	if err := yaml.Unmarshal(
		data,
		&patch,
	); err != nil { // as a file is read: whole numbers stay whole
		return nil, err
	}
	record := api.NounOf(n.name).Record
	api.Settable(record, patch)
	err = n.translate(
		patch,
		func(r reference, id string) (string, error) { return r.name(ctx, c, id) },
	)
	if err != nil {
		return nil, err
	}
	return yaml.Marshal(patch)
}

// translate puts others in the place of the names of records, or of their identifiers, in a patch.
func (n noun[Row]) translate(
	patch client.Patch,
	other func(reference, string) (string, error),
) error {
	for _, f := range append(n.fields, n.owner()...) {
		if f.refers.find == nil {
			continue
		}
		at := map[string]any(patch)
		keys := strings.Split(f.path, ".")
		for _, key := range keys[:len(keys)-1] {
			at, _ = at[key].(map[string]any)
		}
		last := keys[len(keys)-1]
		var err error
		switch value := at[last].(type) {
		case string:
			if value != "" {
				at[last], err = other(f.refers, value)
			}
		case []any:
			for i := range value {
				if text, ok := value[i].(string); ok && err == nil {
					value[i], err = other(f.refers, text)
				}
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// owner is the field that the argument of add sets, where that names a record.
func (n noun[Row]) owner() []field {
	if n.title != "device" {
		return nil
	}
	return []field{{path: "device_id", refers: toDevice}}
}
