package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/inventory"
	"wardicon/core/secret"
	"wardicon/core/shape"
	"wardicon/core/vpn"
)

const schemaFile = "wardicon.schema.json"

// loadFiles makes the records what files say.
func (a *app) loadFiles() *cobra.Command {
	var dry, remove bool
	var most int
	cmd := &cobra.Command{
		Use:   "load FOLDER|FILE…",
		Short: "Make the records what files in YAML or JSON say",
		Args:  cobra.MinimumNArgs(1),
		Long: "Reads " + joined(api.Plurals(), "and") + ` from files such as
wardicon save writes, in any order, and changes the records to match, in one transaction. Records
refer to each other by name. A field that a file leaves out returns to its default.

Secrets do not stand in the files: {file: NAME} names a file with one, from the folder of the file
that names it; {keep: true} keeps the one that is stored, and so does leaving it out.

Records that the files do not have stay, unless --remove-missing is given; it removes only records
of kinds that the files have.`,
		Example: `  wardicon load inventory/ --dry-run
  wardicon load gateways.yaml
  wardicon load inventory/ --remove-missing --remove-at-most 25`,
		RunE: func(cmd *cobra.Command, args []string) error {
			read, err := a.readInventory(args)
			if err != nil {
				return err
			}
			inv := api.Inventory{}
			for plural, list := range read {
				inv[plural] = []map[string]any{}
				for _, r := range list {
					inv[plural] = append(inv[plural], r.Fields)
				}
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				how := client.Load{DryRun: dry, Remove: remove, AtMost: most}
				if remove && !dry {
					how.DryRun = true
					shown, err := c.LoadInventory(ctx, inv, how)
					if err != nil {
						return a.inFiles(err, read)
					}
					if n := shown.Count(api.InventoryRemove); n > 0 {
						if err := a.sure("Remove %s?", plural(n, "record")); err != nil {
							return err
						}
					}
					how.DryRun = false
				}
				out, err := c.LoadInventory(ctx, inv, how)
				if err != nil {
					return a.inFiles(err, read)
				}
				return a.print(out, func(table.Writer) { a.sayInventory(out, remove, dry) })
			})
		},
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show how the records differ")
	cmd.Flags().BoolVar(&remove, "remove-missing", false,
		"remove records that the files do not have, of the kinds that they have")
	cmd.Flags().IntVar(&most, "remove-at-most", 10, "refuse to remove more records than this")
	return cmd
}

// readInventory reads all files with records below folders.
func (a *app) readInventory(args []string) (map[string][]inventory.Record, error) {
	all := map[string][]inventory.Record{}
	how := inventory.Reading{
		Plurals: api.Plurals(),
		Text:    func(plural, path string) bool { return textAt(api.NounOf(plural).Record, path) },
		Secret: func(plural, path string) bool {
			return api.TypeAt(api.NounOf(plural).Record, path) ==
				reflect.TypeFor[*secret.Text]()
		},
		Open: func(from, name string) ([]byte, error) {
			if !filepath.IsAbs(name) {
				name = filepath.Join(filepath.Dir(from), name)
			}
			return readBounded(name, 1<<20)
		},
	}
	here, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	for _, arg := range args {
		err := filepath.WalkDir(arg, func(path string, d fs.DirEntry, err error) error {
			ext := strings.ToLower(filepath.Ext(path))
			if err != nil || d.IsDir() || path != arg &&
				(!slices.Contains([]string{".yaml", ".yml", ".json"}, ext) ||
					d.Name() == schemaFile || strings.HasPrefix(d.Name(), ".")) {
				if err == nil && d.IsDir() && path != arg && strings.HasPrefix(d.Name(), ".") {
					return fs.SkipDir
				}
				return err
			}
			if near, err := filepath.Rel(here, path); err == nil && filepath.IsAbs(path) {
				path = near
			}
			data, err := readBounded(path, inventory.MaxFile)
			if err != nil {
				return err
			}
			return how.Read(path, data, all)
		})
		if errors.Is(err, fs.ErrNotExist) {
			return nil, missing("there is no file or folder %s", arg)
		}
		if err != nil {
			return nil, refusedFile(err)
		}
	}
	if len(all) == 0 {
		return nil, usage("%s: found no records; expected files in YAML or JSON with %s",
			strings.Join(args, ", "), joined(api.Plurals(), "or"))
	}
	return all, nil
}

// joined writes words as a list: "a, b and c".
func joined(list []string, last string) string {
	return strings.Join(list[:len(list)-1], ", ") + " " + last + " " + list[len(list)-1]
}

// readBounded reads a file of at most so many bytes.
func readBounded(name string, most int64) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if int64(len(data)) > most {
		return nil, usage("%s: found more than %d bytes, expected at most that", name, most)
	}
	return data, err
}

// refusedFile words what is wrong with a file as the service words what is wrong with a record.
func refusedFile(err error) error {
	var fault *inventory.FileError
	if !errors.As(err, &fault) {
		return err
	}
	return &api.Problem{
		Type: "urn:wardicon:problem:invalid", Title: "Unprocessable Entity", Status: 422,
		Detail: fmt.Sprintf("%s cannot be loaded; nothing was stored", fault.File),
		Errors: []vpn.Problem{{
			Pointer: fmt.Sprintf("%s:%d:%d", fault.File, fault.Line, fault.Column),
			Found:   fault.Found, Expected: fault.Expected, Fix: fault.Fix,
		}},
	}
}

// textAt tells whether a field of a record, or each member of it, is a text.
func textAt(record reflect.Type, path string) bool {
	t := api.TypeAt(record, path)
	for t != nil && (t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice) {
		t = t.Elem()
	}
	return path == "id" || t != nil && t.Kind() == reflect.String
}

// inFiles puts file and line in the place of pointers into what was sent.
func (a *app) inFiles(err error, read map[string][]inventory.Record) error {
	var p *api.Problem
	if !errors.As(err, &p) {
		return err
	}
	for i := range p.Errors {
		parts := strings.SplitN(strings.TrimPrefix(p.Errors[i].Pointer, "/"), "/", 3)
		var n int
		if len(parts) < 2 {
			continue
		}
		if _, err := fmt.Sscan(parts[1], &n); err != nil || n >= len(read[parts[0]]) {
			continue
		}
		r, field := read[parts[0]][n], ""
		if len(parts) == 3 {
			field = "/" + parts[2]
		}
		p.Errors[i].Pointer = strings.TrimSpace(fmt.Sprintf("%s:%d %s", r.File, r.Line(field),
			strings.ReplaceAll(strings.TrimPrefix(field, "/"), "/", ".")))
	}
	return p
}

var stateMarks = map[api.InventoryState]string{
	api.InventoryAdd: "+", api.InventoryChange: "~", api.InventoryRemove: "-",
}

// sayInventory prints how records differ.
func (a *app) sayInventory(out api.InventoryOutcome, remove, dry bool) {
	for _, c := range out.Changes {
		a.say("%s %s %s", stateMarks[c.State], c.Noun, c.Name)
		for _, f := range c.Fields {
			a.say("    %s", fieldText(f))
		}
	}
	if len(out.Changes) == 0 {
		a.say("No changes: %s as the files have them.", plural(out.Same, "record"))
	} else {
		a.say("%d to add, %d to change, %d to remove, %d the same",
			out.Count(api.InventoryAdd), out.Count(api.InventoryChange),
			out.Count(api.InventoryRemove), out.Same)
	}
	if out.Missing > 0 && !remove {
		a.say("%s not in the files; --remove-missing removes such records.",
			plural(out.Missing, "record"))
	}
	switch {
	case dry && len(out.Changes) > 0:
		a.say("Nothing was stored (--dry-run).")
	case out.Kept:
		a.say("Stored.")
	}
}

func fieldText(f inventory.FieldChange) string {
	switch {
	case len(f.Added)+len(f.Removed) > 0:
		var parts []string
		for _, v := range f.Removed {
			parts = append(parts, "- "+v)
		}
		for _, v := range f.Added {
			parts = append(parts, "+ "+v)
		}
		return f.Field + ": " + strings.Join(parts, ", ")
	case f.From == "":
		return f.Field + ": " + f.To
	case f.To == "":
		return f.Field + ": " + f.From + " → nothing"
	}
	return f.Field + ": " + f.From + " → " + f.To
}

// saveFiles writes all records as files.
func (a *app) saveFiles() *cobra.Command {
	return &cobra.Command{
		Use:   "save FOLDER",
		Short: "Write the records as files in YAML that wardicon load reads",
		Args:  exactly("FOLDER"),
		Long: "Writes " + joined(api.Plurals(), "and") + ` into files of a folder,
with names in the place of identifiers, so that they can be kept under version control. Secrets
are not in them: {keep: true} stands where one is stored. ` + schemaFile + ` describes the files
for editors. Files of these names are replaced.`,
		Example: "  wardicon save inventory/\n  wardicon load inventory/ --dry-run",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				inv, err := c.Inventory(ctx)
				if err != nil {
					return err
				}
				schema, err := c.InventorySchema(ctx)
				if err != nil {
					return err
				}
				return a.writeInventory(args[0], inv, schema)
			})
		},
	}
}

// writeInventory writes an inventory and its schema into a folder.
func (a *app) writeInventory(folder string, inv api.Inventory, schema map[string]any) error {
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return err
	}
	text, err := yaml.MarshalWithOptions(schema, yaml.JSON())
	if err != nil {
		return err
	}
	if err := replaceFile(filepath.Join(folder, schemaFile), text); err != nil {
		return err
	}
	for _, noun := range api.Filed() {
		var list []yaml.MapSlice
		for _, fields := range inv[noun.Plural] {
			list = append(list, ordered(api.NounOf(noun.Plural).Record, fields))
		}
		data, err := yaml.MarshalWithOptions(
			yaml.MapSlice{{Key: noun.Plural, Value: list}},
			yaml.UseLiteralStyleIfMultiline(true), yaml.IndentSequence(true),
		)
		if err != nil {
			return err
		}
		if list == nil {
			data = []byte(noun.Plural + ": []\n")
		}
		to := filepath.Join(folder, noun.Plural+".yaml")
		head := "# yaml-language-server: $schema=" + schemaFile + "\n"
		if err := replaceFile(to, append([]byte(head), data...)); err != nil {
			return err
		}
		name := noun.Plural
		if len(list) == 1 {
			name = noun.Name
		}
		a.say("%s: %d %s", to, len(list), name)
	}
	return nil
}

// replaceFile writes a file whole or not at all, and leaves one alone that is the same.
func replaceFile(name string, data []byte) error {
	if old, err := os.ReadFile(name); err == nil && bytes.Equal(old, data) {
		return nil
	}
	if err := os.WriteFile(name+".new", data, 0o644); err != nil {
		return err
	}
	return os.Rename(name+".new", name)
}

// ordered puts the fields of a record into the order of their declaration.
func ordered(t reflect.Type, fields map[string]any) (list yaml.MapSlice) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	left := map[string]bool{}
	for key := range fields {
		left[key] = true
	}
	put := func(key string, inner reflect.Type) {
		value := fields[key]
		if object, ok := value.(map[string]any); ok && inner != nil {
			value = ordered(inner, object)
		}
		if number, ok := value.(float64); ok && number == float64(int64(number)) {
			value = int64(number)
		}
		list = append(list, yaml.MapItem{Key: key, Value: value})
		delete(left, key)
	}
	if left["id"] {
		put("id", nil)
	}
	if t.Kind() == reflect.Struct {
		for _, f := range shape.Fields(t) {
			if left[f.JSON] {
				put(f.JSON, f.Type)
			}
		}
	}
	rest := make([]string, 0, len(left))
	for key := range left {
		rest = append(rest, key)
	}
	slices.Sort(rest)
	for _, key := range rest {
		put(key, nil)
	}
	return list
}
