package httpapi

import (
	"encoding/json"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"wardicon/api"
)

// inventorySchema is the JSON Schema (draft 2020-12) of files with records, for editors. It is made
// from the schemas of the API.
func inventorySchema(schemas map[string]*huma.Schema) (map[string]any, error) {
	data, err := json.Marshal(schemas)
	if err != nil {
		return nil, err
	}
	var all map[string]any
	if err := json.Unmarshal(data, &all); err != nil {
		return nil, err
	}
	definitions, properties := map[string]any{}, map[string]any{}
	for _, noun := range api.Nouns {
		if !noun.Filed {
			continue
		}
		name := noun.Record.Name() + "Input"
		properties[noun.Plural] = map[string]any{
			"type": "array", "items": map[string]any{"$ref": "#/$defs/" + name},
		}
		define(definitions, all, name)
		record := definitions[name].(map[string]any)["properties"].(map[string]any)
		record["id"] = map[string]any{
			"type":        "string",
			"description": "Identifier, only where nothing else tells the record from another.",
		}
	}
	return map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title":   "Records of Wardicon",
		"type":    "object", "additionalProperties": false,
		"properties": properties, "$defs": definitions,
	}, nil
}

// define takes a schema and those that it refers to out of the API's.
func define(into, all map[string]any, name string) {
	if _, done := into[name]; done {
		return
	}
	schema := all[name].(map[string]any)
	into[name] = schema
	portableSchema(schema)
	walkRefs(schema, func(other string) { define(into, all, other) })
}

// portableSchema makes the schema of a record that of its form in a file.
func portableSchema(schema map[string]any) {
	fields, _ := schema["properties"].(map[string]any)
	required, _ := schema["required"].([]any)
	for name, value := range fields {
		field, _ := value.(map[string]any)
		switch {
		case field["readOnly"] == true:
			delete(fields, name)
			required = slices.DeleteFunc(required, func(v any) bool { return v == name })
			continue
		case field["writeOnly"] == true:
			fields[name] = map[string]any{
				"description": field["description"],
				"oneOf":       []any{fileSchema(), keepSchema(), map[string]any{"type": "null"}},
			}
			continue
		case field["type"] == "string" && field["enum"] == nil:
			fields[name] = map[string]any{
				"description": field["description"],
				"oneOf":       []any{field, fileSchema()},
			}
			delete(field, "description")
			continue
		}
		portableSchema(field)
	}
	delete(schema, "required")
	if len(required) > 0 {
		schema["required"] = required
	}
}

func only(name string, value any) map[string]any {
	return map[string]any{
		"type": "object", "required": []any{name}, "additionalProperties": false,
		"properties": map[string]any{name: value},
	}
}

func fileSchema() map[string]any {
	return only("file", map[string]any{
		"type": "string", "description": "File with the value, from the folder of this one.",
	})
}

func keepSchema() map[string]any {
	return only("keep", map[string]any{
		"const": true, "description": "The secret that is stored stays.",
	})
}

// walkRefs visits every reference in a schema, and turns it to where definitions stand in a file.
func walkRefs(v any, visit func(name string)) {
	switch v := v.(type) {
	case map[string]any:
		if ref, ok := v["$ref"].(string); ok {
			if name, ok := strings.CutPrefix(ref, "#/components/schemas/"); ok {
				v["$ref"] = "#/$defs/" + name
				visit(name)
			}
		}
		for _, inner := range v {
			walkRefs(inner, visit)
		}
	case []any:
		for _, inner := range v {
			walkRefs(inner, visit)
		}
	}
}
