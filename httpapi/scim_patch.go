package httpapi

import (
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	scimfilter "github.com/elimity-com/scim/filter"
	"github.com/elimity-com/scim/schema"
)

// patchedOf are the attributes of a resource after the operations of a PATCH.
func patchedOf(
	before scim.Resource,
	operations []scim.PatchOperation,
	of schema.Schema,
) (scim.ResourceAttributes, error) {
	attributes := before.Attributes
	if before.ExternalID.Present() {
		attributes["externalId"] = before.ExternalID.Value()
	}
	return attributes, patched(attributes, operations, of)
}

// patched applies the operations of a PATCH to attributes, in their order (RFC 7644 §3.5.2). They
// were held to the schema before.
func patched(
	attributes scim.ResourceAttributes,
	operations []scim.PatchOperation,
	of schema.Schema,
) error {
	for _, op := range operations {
		if op.Path == nil { // the value is a part of the resource
			part, ok := op.Value.(map[string]any)
			if !ok {
				return scimerrors.ScimErrorInvalidValue
			}
			for name, value := range part {
				merge(attributes, named(attributes, name), value, op.Op)
			}
			continue
		}
		if err := onPath(attributes, op, of); err != nil {
			return err
		}
	}
	return nil
}

// named is the name under which an attribute stands: names differ in capitals (RFC 7643 §2.1).
func named(attributes map[string]any, name string) string {
	for key := range attributes {
		if strings.EqualFold(key, name) {
			return key
		}
	}
	return name
}

func onPath(attributes scim.ResourceAttributes, op scim.PatchOperation, of schema.Schema) error {
	name := named(attributes, op.Path.AttributePath.AttributeName)
	if attribute, ok := of.Attributes.ContainsAttribute(name); ok {
		name = named(attributes, attribute.Name())
	}
	sub := op.Path.SubAttributeName()
	if sub == "" {
		sub = op.Path.AttributePath.SubAttributeName()
	}
	if op.Path.ValueExpression != nil {
		return onValues(attributes, name, sub, op, of)
	}
	if sub == "" {
		if op.Op == scim.PatchOperationRemove {
			remove(attributes, name, op.Value)
		} else {
			merge(attributes, name, op.Value, op.Op)
		}
		return nil
	}
	inner, _ := attributes[name].(map[string]any)
	inner = maps.Clone(inner)
	if inner == nil {
		inner = map[string]any{}
	}
	if sub = named(inner, sub); op.Op == scim.PatchOperationRemove {
		delete(inner, sub)
	} else {
		inner[sub] = op.Value
	}
	attributes[name] = inner
	return nil
}

// remove takes an attribute away, or of several values those that are named, as some clients do.
func remove(attributes map[string]any, name string, value any) {
	named, some := value.([]any)
	list, several := attributes[name].([]any)
	if !some || !several {
		delete(attributes, name)
		return
	}
	left := slices.DeleteFunc(slices.Clone(list), func(have any) bool {
		return slices.ContainsFunc(named, func(gone any) bool { return sameValue(have, gone) })
	})
	attributes[name] = left
}

// sameValue tells whether two of several values are one: by what they refer to, where they do.
func sameValue(a, b any) bool {
	one, ok := a.(map[string]any)
	other, too := b.(map[string]any)
	if ok && too && one["value"] != nil {
		return one["value"] == other["value"]
	}
	return reflect.DeepEqual(a, b)
}

// merge sets an attribute; more is added to several values, and parts replace those of a complex
// one.
func merge(attributes map[string]any, name string, value any, op string) {
	switch value := value.(type) {
	case []any:
		list, several := attributes[name].([]any)
		if op == scim.PatchOperationAdd && several {
			list = slices.Clone(list)
			for _, one := range value {
				if !slices.ContainsFunc(list, func(have any) bool { return sameValue(have, one) }) {
					list = append(list, one)
				}
			}
			attributes[name] = list
			return
		}
		attributes[name] = value
	case map[string]any:
		if _, several := attributes[name].([]any); several {
			merge(attributes, name, []any{value}, op)
			return
		}
		inner, _ := attributes[name].(map[string]any)
		if inner = maps.Clone(inner); inner == nil {
			inner = map[string]any{}
		}
		for key, one := range value {
			inner[named(inner, key)] = one
		}
		attributes[name] = inner
	default:
		attributes[name] = value
	}
}

// onValues changes those of several values that a filter fits, such as emails[type eq "work"].
func onValues(
	attributes scim.ResourceAttributes,
	name, sub string,
	op scim.PatchOperation,
	of schema.Schema,
) error {
	attribute, ok := of.Attributes.ContainsAttribute(name)
	if !ok {
		return scimerrors.ScimErrorInvalidPath
	}
	fits := scimfilter.NewFilterValidator(op.Path.ValueExpression, schema.Schema{
		ID: of.ID, Attributes: scimfilter.MultiValuedFilterAttributes(attribute),
	})
	list, _ := attributes[name].([]any)
	var after []any
	found := false
	for _, item := range list {
		value, _ := item.(map[string]any)
		if value == nil || fits.PassesFilter(value) != nil {
			after = append(after, item)
			continue
		}
		found = true
		changed := maps.Clone(value)
		switch {
		case op.Op == scim.PatchOperationRemove && sub == "":
			continue
		case op.Op == scim.PatchOperationRemove:
			delete(changed, named(changed, sub))
		case sub != "":
			changed[named(changed, sub)] = op.Value
		default:
			part, ok := op.Value.(map[string]any)
			if !ok {
				return scimerrors.ScimErrorInvalidValue
			}
			maps.Copy(changed, part)
		}
		after = append(after, changed)
	}
	if !found && op.Op != scim.PatchOperationRemove {
		return scimerrors.ScimErrorNoTarget // RFC 7644 §3.5.2.3
	}
	attributes[name] = after
	if len(after) == 0 {
		delete(attributes, name)
	}
	return nil
}
