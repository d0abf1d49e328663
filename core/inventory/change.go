package inventory

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// FieldChange is how one field of a record differs: a single value from what it was to what it
// becomes, a list by what comes and goes.
type FieldChange struct {
	// Path of the field, parts joined by dots, such as offers.ikev2.dpd.
	Field string `json:"field"`
	// What it was; empty where there was nothing, "stored" for a secret.
	From string `json:"from,omitempty"`
	// What it becomes; empty where nothing is left.
	To string `json:"to,omitempty"`
	// Members of a list that come.
	Added []string `json:"added,omitempty"`
	// Members of a list that go.
	Removed []string `json:"removed,omitempty"`
}

// Diff lists how the fields of two forms of a record differ, by path. Both are JSON values.
func Diff(before, after map[string]any) []FieldChange {
	var list []FieldChange
	diff(&list, "", before, after)
	return list
}

func diff(list *[]FieldChange, path string, before, after any) {
	if reflect.DeepEqual(before, after) {
		return
	}
	one, several := before.(map[string]any)
	other, too := after.(map[string]any)
	if (several || before == nil) && (too || after == nil) && (several || too) {
		keys := slices.Collect(maps.Keys(one))
		keys = slices.AppendSeq(keys, maps.Keys(other))
		slices.Sort(keys)
		if len(keys) == 0 {
			*list = append(*list, FieldChange{Field: path, From: empty(several), To: empty(too)})
			return
		}
		for _, key := range slices.Compact(keys) {
			diff(list, strings.TrimPrefix(path+"."+key, "."), one[key], other[key])
		}
		return
	}
	was, listed := before.([]any)
	is, still := after.([]any)
	if (listed || before == nil) && (still || after == nil) {
		change := FieldChange{Field: path, Added: without(is, was), Removed: without(was, is)}
		if len(change.Added)+len(change.Removed) == 0 { // the order is what differs
			change.From, change.To = shown(before), shown(after)
		}
		*list = append(*list, change)
		return
	}
	*list = append(*list, FieldChange{Field: path, From: shown(before), To: shown(after)})
}

// empty words a part of a record that is there without anything set in it.
func empty(there bool) string {
	if there {
		return "as usual"
	}
	return ""
}

func without(list, others []any) (left []string) {
	for _, v := range list {
		if !slices.ContainsFunc(others, func(o any) bool { return reflect.DeepEqual(o, v) }) {
			left = append(left, shown(v))
		}
	}
	return left
}

// longest is how many characters of a value are shown: the first line of a certificate says enough.
const longest = 60

// shown words a value for people.
func shown(v any) string {
	text, ok := v.(string)
	if !ok {
		if v == nil {
			return ""
		}
		data, err := json.Marshal(v)
		if err != nil {
			return fmt.Sprint(v)
		}
		text = string(data)
	}
	line, rest, more := strings.Cut(text, "\n")
	if runes := []rune(line); len(runes) > longest {
		line, more, rest = string(runes[:longest]), true, "more"
	}
	if more && rest != "" {
		line += "…"
	}
	return line
}
