package cli

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// field is a flag that sets one field of a record. Path leads to it in the record's
// JSON, parts joined by dots.
type field struct {
	flag, path string
	kind       kind
	help       string    // empty for the words on the record's field
	whole      string    // part of the record that an empty list removes
	refers     reference // it names another record
}

// number is what the help calls a value that may have decimals and mostly has none.
type number struct{ pflag.Value }

func (number) Type() string { return "number" }

type kind int

const (
	derived kind = iota // from the type of the record's field
	textField
	listField
	boolField
	numberField
	secretField  // the flag names a file: a secret never stands on a command line
	fileField    // the flag names a file of several lines
	remotesField // ways to reach a gateway, such as udp:1194
	removeField  // parts of the record that are removed
	portsField   // ports in the place of others, such as 500=20500
	timeField    // a date, or a date with a time
	wavesField   // groups of people, or shares in percent
)

// noun is one kind of record on the command line.
type noun[Row any] struct {
	name, about string // name is that of api.Nouns
	example     string // arguments of add, after the command itself
	title       string // the field that add takes as its argument
	fields      []field
	find        func(ctx context.Context, c *client.Client, ref string) (Row, error)
	meta        func(Row) vpn.Meta
	ref         func(Row) string // a name that find takes
	columns     []string
	row         func(Row) table.Row
	filters     []string
}

func (n noun[Row]) plural() string { return api.NounOf(n.name).Plural }

func (n noun[Row]) records(c *client.Client) client.Noun[Row] {
	return client.Records[Row](c, n.name)
}

// command makes the commands of a noun.
func command[Row any](a *app, n noun[Row]) *cobra.Command {
	root := &cobra.Command{
		Use:     n.name,
		Short:   "Add, list, show, change and remove " + n.plural(),
		Long:    n.about,
		Example: "  wardicon " + n.name + " add " + n.example + "\n  wardicon " + n.name + " list",
	}
	named := []*cobra.Command{n.show(a), n.change(a), n.remove(a)}
	for _, c := range named {
		c.ValidArgsFunction = n.complete(a)
	}
	return group(root, append(named, n.add(a), n.list(a))...)
}

// derive takes kind and help from the declaration of the record's field.
func (f *field) derive(record reflect.Type) {
	if f.kind == derived {
		f.kind = kindOf(api.TypeAt(record, f.path))
	}
	if f.help != "" {
		return
	}
	f.help = flagHelp(api.Describe(record, f.path))
	if inner, ok := strings.CutPrefix(f.path, "offers."); ok {
		protocol, _, _ := strings.Cut(inner, ".")
		f.help = vpn.Protocol(protocol).Title() + ": " + f.help
	}
	switch {
	case f.kind == secretField || f.kind == fileField:
		f.help, _, _ = strings.Cut(f.help, "; never read back")
		f.help += " (name of a file, - for standard input)"
	case f.kind == remotesField:
		f.help += ", such as udp:1194 or tcp:other.example:443"
	case f.kind == timeField:
		f.help += ", such as 2026-12-31 or \"2026-12-31 18:00\""
	case f.kind == wavesField:
		f.help = "wave: a group of people, or a share of all devices in percent; the last is 100"
	case f.kind == portsField:
		f.help += ", such as 500=20500"
	case f.refers.find != nil:
		f.help += " (name or ID)"
	}
}

func kindOf(t reflect.Type) kind {
	if t == nil {
		return textField
	}
	switch t {
	case reflect.TypeFor[[]vpn.Remote]():
		return remotesField
	case reflect.TypeFor[*time.Time]():
		return timeField
	case reflect.TypeFor[[]vpn.Wave]():
		return wavesField
	case reflect.TypeFor[map[string]int]():
		return portsField
	case reflect.TypeFor[*secret.Text]():
		return secretField
	}
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.Slice:
		return listField
	case reflect.Bool:
		return boolField
	case reflect.Int, reflect.Float64:
		return numberField
	}
	return textField
}

// flagHelp words a description as the help of a flag: without a capital and a full stop.
func flagHelp(text string) string {
	text = strings.TrimSuffix(text, ".")
	if len(text) > 1 && unicode.IsLower(rune(text[1])) {
		text = strings.ToLower(text[:1]) + text[1:]
	}
	return text
}

// fieldFlags gives a command a flag for each field, and one for a file with fields.
func (n noun[Row]) fieldFlags(c *cobra.Command) (from *string) {
	for i := range n.fields {
		n.fields[i].derive(reflect.TypeFor[Row]())
		f := n.fields[i]
		switch f.kind {
		case listField, remotesField, removeField, portsField, wavesField:
			c.Flags().StringSlice(f.flag, nil, f.help)
		case boolField:
			c.Flags().Bool(f.flag, false, f.help)
		case numberField:
			c.Flags().Float64(f.flag, 0, f.help)
			c.Flags().Lookup(f.flag).Value = number{c.Flags().Lookup(f.flag).Value}
		default:
			c.Flags().String(f.flag, "", f.help)
		}
	}
	return c.Flags().
		String("from", "", "file with fields in YAML or JSON, - for standard input; flags take "+
			"precedence")
}

// severalValues explains the flags of lists.
const severalValues = "\nA flag for \"strings\" may be repeated or hold several values, " +
	"separated by commas; an empty value clears the list."

func (n noun[Row]) add(a *app) *cobra.Command {
	argument := strings.ToUpper(n.title)
	cmd := &cobra.Command{
		Use:   "add " + argument,
		Short: "Add a " + n.name,
		Args:  exactly(argument),
		Long: "Adds a " + n.name + ". Nothing is stored if any value is invalid.\nSecrets are " +
			"read from a file, or with - from standard input; never from the command line." +
			severalValues,
		Example: "  wardicon " + n.name + " add " + n.example,
	}
	from := n.fieldFlags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			patch, err := n.patch(ctx, a, cmd, c, *from)
			if err != nil {
				return err
			}
			if err := n.identify(ctx, c, patch, args[0]); err != nil {
				return err
			}
			row, err := n.records(c).Add(ctx, patch)
			if err != nil {
				return err
			}
			return a.print(row, func(w table.Writer) { n.table(w, row) })
		})
	}
	return cmd
}

func (n noun[Row]) change(a *app) *cobra.Command {
	argument := strings.ToUpper(n.name)
	cmd := &cobra.Command{
		Use:     "change " + argument,
		Short:   "Change a " + n.name,
		Args:    exactly(argument),
		Long:    "Changes the given fields and keeps the others." + severalValues,
		Example: "  wardicon " + n.name + " change NAME-OR-ID --" + n.fields[0].flag + " VALUE",
	}
	from := n.fieldFlags(cmd)
	cmd.RunE = n.found(a, func(ctx context.Context, c *client.Client, row Row, _ string) error {
		patch, err := n.patch(ctx, a, cmd, c, *from)
		if err != nil {
			return err
		}
		if len(patch) == 0 {
			return usage(
				"nothing to change: give at least one flag, see wardicon %s change --help",
				n.name,
			)
		}
		if row, err = n.records(c).
			Change(ctx, n.meta(row).ID, n.meta(row).Version, patch); err != nil {
			return err
		}
		return a.print(row, func(w table.Writer) { n.table(w, row) })
	})
	return cmd
}

func (n noun[Row]) show(a *app) *cobra.Command {
	argument := strings.ToUpper(n.name)
	return &cobra.Command{
		Use:   "show " + argument,
		Short: "Show a " + n.name,
		Args:  exactly(argument),
		Long: "Shows what is set of a " + n.name +
			`. Secrets are not shown. With --output yaml the output is a file
for add and change --from, with names instead of identifiers; json has every field.`,
		Example: "  wardicon " + n.name + " show NAME-OR-ID\n  wardicon " + n.name +
			" show NAME-OR-ID --output yaml > " + n.name + ".yaml",
		RunE: n.found(a, func(ctx context.Context, c *client.Client, row Row, _ string) error {
			switch a.output {
			case "json":
				return a.print(row, nil)
			case "yaml":
				data, err := n.portable(ctx, c, row)
				if err != nil {
					return err
				}
				_, err = a.Out.Write(data)
				return err
			}
			return a.details(row)
		}),
	}
}

func (n noun[Row]) remove(a *app) *cobra.Command {
	argument := strings.ToUpper(n.name)
	return &cobra.Command{
		Use:     "remove " + argument,
		Short:   "Remove a " + n.name,
		Args:    exactly(argument),
		Long:    "Removes a " + n.name + " that no other record refers to.",
		Example: "  wardicon " + n.name + " remove NAME-OR-ID",
		RunE: n.found(a, func(ctx context.Context, c *client.Client, row Row, ref string) error {
			if err := a.sure("Remove the %s %s?", n.name, ref); err != nil {
				return err
			}
			if err := n.records(c).Remove(ctx, n.meta(row).ID); err != nil {
				return err
			}
			a.say("removed %s %s", n.name, ref)
			return nil
		}),
	}
}

// found runs a command on the record that its argument names.
func (n noun[Row]) found(
	a *app,
	do func(ctx context.Context, c *client.Client, row Row, ref string) error,
) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			row, err := n.find(ctx, c, args[0])
			if err != nil {
				return err
			}
			return do(ctx, c, row, args[0])
		})
	}
}

// complete offers names of records to a shell; without a service there are none.
func (n noun[Row]) complete(a *app) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		var names []string
		if len(args) == 0 {
			search, _, _ := strings.Cut(typed, "/")
			_ = a.with(
				cmd,
				// a shell has no place for an error
				func(ctx context.Context, c *client.Client) error {
					page, err := n.records(c).List(ctx, client.Query{Search: search, Limit: 50})
					for _, row := range page.Items {
						if name := n.ref(
							row,
						); len(name) >= len(typed) &&
							strings.EqualFold(name[:len(typed)], typed) {
							names = append(names, name)
						}
					}
					return err
				},
			)
		}
		return names, cobra.ShellCompDirectiveNoFileComp
	}
}

func (n noun[Row]) table(w table.Writer, rows ...Row) {
	w.AppendHeader(heads(append(slices.Clone(n.columns), "id")...))
	for _, r := range rows {
		w.AppendRow(append(n.row(r), n.meta(r).ID))
	}
}

// identify puts the argument of add into the record.
func (n noun[Row]) identify(
	ctx context.Context,
	c *client.Client,
	patch client.Patch,
	value string,
) error {
	if n.title == "device" { // a profile is named by its device
		id, err := deviceID(ctx, c, value)
		patch["device_id"] = id
		return err
	}
	patch[n.title] = value
	return nil
}

func (n noun[Row]) list(a *app) *cobra.Command {
	filters := shownFilters(n.filters)
	return list(a, listing[Row]{
		short:  "List " + n.plural(),
		about:  "Lists " + n.plural() + ", a page at a time.",
		plural: n.plural(),
		example: "  wardicon " + n.name + " list --search nor --sort -changed\n  wardicon " +
			n.name +
			" list --filter " + filters[0] + "=VALUE --output json",
		filters: filters,
		columns: append(slices.Clone(n.columns), "id"),
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[Row], error) {
			return n.records(c).List(ctx, q)
		},
		row: func(r Row) table.Row { return append(n.row(r), n.meta(r).ID) },
	})
}

// patch gathers what flags and file say.
func (n noun[Row]) patch(
	ctx context.Context,
	a *app,
	cmd *cobra.Command,
	c *client.Client,
	from string,
) (client.Patch, error) {
	patch := client.Patch{}
	if from != "" {
		data, err := a.read(from)
		if err != nil {
			return nil, err
		}
		if err := yaml.UnmarshalWithOptions(data, &patch, yaml.Strict()); err != nil {
			return nil, usage("--from %s: %v", from, err)
		}
		if err := n.translate(patch, func(r reference, name string) (string, error) {
			if identifier.MatchString(name) {
				return name, nil
			}
			return r.find(ctx, c, name)
		}); err != nil {
			return nil, err
		}
	}
	for _, f := range n.fields {
		if !cmd.Flags().Changed(f.flag) {
			continue
		}
		var value any
		switch f.kind {
		case listField:
			list, _ := cmd.Flags().GetStringSlice(f.flag)
			list = slices.DeleteFunc(list, func(v string) bool { return v == "" })
			for i := range list {
				if f.refers.find != nil {
					id, err := f.refers.find(ctx, c, list[i])
					if err != nil {
						return nil, err
					}
					list[i] = id
				}
			}
			if f.whole != "" && len(list) == 0 {
				put(patch, f.whole, nil)
				continue
			}
			value = list
		case boolField:
			value, _ = cmd.Flags().GetBool(f.flag)
		case numberField:
			value, _ = strconv.ParseFloat(cmd.Flags().Lookup(f.flag).Value.String(), 64)
		case remotesField, removeField:
			list, _ := cmd.Flags().GetStringSlice(f.flag)
			if f.kind == removeField {
				for _, v := range list {
					put(patch, f.path+"."+v, nil)
				}
				continue
			}
			remotes, err := remotes(f.flag, list)
			if err != nil {
				return nil, err
			}
			value = remotes
		case portsField:
			list, _ := cmd.Flags().GetStringSlice(f.flag)
			for _, v := range list {
				from, to, found := strings.Cut(v, "=")
				n, err := strconv.Atoi(to)
				if !found || err != nil {
					return nil, usage(
						"--%s: found %q, expected two ports such as 500=20500",
						f.flag,
						v,
					)
				}
				put(patch, f.path+"."+from, n)
			}
			continue
		case timeField:
			text, _ := cmd.Flags().GetString(f.flag)
			at, err := timeOf(f.flag, text)
			if err != nil {
				return nil, err
			}
			value = at
		case wavesField:
			list, _ := cmd.Flags().GetStringSlice(f.flag)
			value = wavesOf(list)
		case fileField:
			path, _ := cmd.Flags().GetString(f.flag)
			value = nil
			if path != "" {
				data, err := a.read(path)
				if err != nil {
					return nil, err
				}
				value = string(data)
			}
		case secretField:
			path, _ := cmd.Flags().GetString(f.flag)
			text, err := a.readSecret(path)
			if err != nil {
				return nil, err
			}
			value = text
		default:
			text, _ := cmd.Flags().GetString(f.flag)
			if f.refers.find != nil && text != "" {
				id, err := f.refers.find(ctx, c, text)
				if err != nil {
					return nil, err
				}
				text = id
			}
			value = text
		}
		put(patch, f.path, value)
	}
	return patch, nil
}

// remotes reads ways to reach a gateway: transport:port or transport:address:port.
func remotes(flag string, list []string) ([]vpn.Remote, error) {
	ways := []vpn.Remote{}
	for _, v := range list {
		transport, rest, _ := strings.Cut(v, ":")
		address, digits := "", rest
		if i := strings.LastIndex(rest, ":"); i >= 0 {
			address, digits = strings.Trim(rest[:i], "[]"), rest[i+1:]
		}
		port, err := strconv.Atoi(digits)
		if err != nil {
			return nil, usage(
				"--%s: found %q, expected for example udp:1194 or tcp:other.example:443",
				flag,
				v,
			)
		}
		ways = append(
			ways,
			vpn.Remote{Transport: vpn.Transport(transport), Address: address, Port: port},
		)
	}
	return ways, nil
}

func put(patch map[string]any, path string, value any) {
	head, rest, deeper := strings.Cut(path, ".")
	if !deeper {
		patch[head] = value
		return
	}
	inner, ok := patch[head].(map[string]any)
	if !ok {
		inner = map[string]any{}
		patch[head] = inner
	}
	put(inner, rest, value)
}

// one finds the single record that a filter fits.
func one[Row any](
	ctx context.Context,
	n client.Noun[Row],
	noun, filter, ref string,
) (row Row, err error) {
	page, err := n.List(ctx, client.Query{Limit: 2, Filter: map[string]string{filter: ref}})
	if err != nil {
		return row, err
	}
	switch page.Total {
	case 0:
		return row, missing("there is no %s %q; wardicon %s list shows them", noun, ref, noun)
	case 1:
		return page.Items[0], nil
	}
	return row, &api.Problem{
		Status: 409,
		Detail: fmt.Sprintf("%s are named %q; use the ID of one", plural(page.Total, noun), ref),
	}
}

// byRef finds a record by its identifier or by a name.
func byRef[Row any](
	ctx context.Context,
	n client.Noun[Row],
	noun, prefix, filter, ref string,
) (Row, error) {
	if strings.HasPrefix(ref, prefix+"-") && len(ref) == len(prefix)+17 {
		return n.Show(ctx, ref)
	}
	return one(ctx, n, noun, filter, ref)
}
