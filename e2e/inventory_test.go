package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/client"
)

// judge holds files with records to their schema by other people's readers of YAML and of JSON
// Schema. It prints the names of files that do not fit.
const judge = `
import sys, json, yaml, jsonschema
schema = json.load(open(sys.argv[1]))
jsonschema.Draft202012Validator.check_schema(schema)
held = jsonschema.Draft202012Validator(schema)
for name in sys.argv[2:]:
    if list(held.iter_errors(yaml.safe_load(open(name)))):
        print(name.split("/")[-1])
`

// TestLoadSave writes the records as files, changes those, and holds that the records follow, that
// a file that is wrong changes nothing, and that saving and loading comes to the same.
func TestLoadSave(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	dir := filepath.Join(t.TempDir(), "inventory")
	at := func(name string) string { return filepath.Join(dir, name) }
	read := func(name string) string {
		t.Helper()
		data, err := os.ReadFile(at(name))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(at(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	run(0, "gateways.yaml: 5 gateways", "save", dir)
	run(0, "No changes: 106 records", "load", dir)
	for _, name := range []string{"gateways.yaml", "accounts.yaml", "people.yaml", "devices.yaml"} {
		if text := read(name); strings.Contains(text, "PRIVATE KEY") ||
			strings.Contains(text, "Static key") || strings.Contains(text, "spindle") {
			t.Errorf("%s has a secret", name)
		}
	}

	// Everything at once: references to what is added, a secret from a file, a person of the same
	// name, a record whose account comes later.
	before := map[string]string{}
	for _, name := range []string{"gateways.yaml", "accounts.yaml", "people.yaml", "devices.yaml"} {
		before[name] = read(name)
	}
	write("gateways.yaml", strings.Replace(
		strings.Replace(before["gateways.yaml"], "load_share: 3", "load_share: 4", 1),
		"    load_share: 4\n", "    load_share: 4\n    rehearsal:\n"+
			"      account_id: n_vik\n      every: 60\n", 1))
	write("people.yaml", before["people.yaml"]+
		"  - {name: Nils Vik, groups: [pursers]}\n  - {name: Ada Fjell, mail: ada2@skerryline.example}\n")
	write("accounts.yaml", strings.ReplaceAll(before["accounts.yaml"], "person_id: Ada Fjell\n",
		"person_id: Ada Fjell <ada@skerryline.example>\n")+
		"  - {person_id: Nils Vik, login: n_vik, password: {file: nils.secret}}\n")
	write("devices.yaml", strings.ReplaceAll(before["devices.yaml"], "person_id: Ada Fjell\n",
		"person_id: Ada Fjell <ada@skerryline.example>\n")+
		"  - {name: Nils laptop, person_id: Nils Vik, platform: windows, release: \"11\"}\n")
	write("nils.secret", "lantern-harbour-quay-19\n")
	shown := run(0, "4 to add, 1 to change, 0 to remove, 105 the same", "load", dir, "--dry-run")
	if _, err := f.client.Devices.Show(t.Context(), "Nils laptop"); err == nil {
		t.Error("a dry run has stored something")
	}
	done := run(0, "Stored.", "load", dir)
	for _, want := range []string{
		"~ gateway Brattvik\n    load_share: 3 → 4\n", "rehearsal.account_id: n_vik",
		"+ account n_vik of Nils Vik", "password: a new secret", "+ device Nils laptop",
	} {
		if !strings.Contains(shown, want) || !strings.Contains(done, want) {
			t.Errorf("the difference does not say %q:\n%s\n%s", want, shown, done)
		}
	}
	if strings.Contains(shown+done, "lantern") || strings.Contains(f.log.String(), "lantern") {
		t.Error("a password was told")
	}
	run(0, "No changes: 110 records", "load", dir)
	accounts, err := f.client.Accounts.List(t.Context(), client.Query{Search: "n_vik"})
	if err != nil || len(accounts.Items) != 1 || !accounts.Items[0].PasswordSet {
		t.Errorf("the account is %+v, %v", accounts.Items, err)
	}

	// What others read is what is meant, and what is wrong here is wrong there.
	write("bad.yaml", "gateways:\n  - name: North\n    address: north.example\n    keepalve: 3\n")
	if out, err := exec.Command("/usr/bin/python3", "-c", judge, at(schemaName), at("gateways.yaml"),
		at("people.yaml"), at("accounts.yaml"), at("devices.yaml"), at("patterns.yaml"),
		at("profiles.yaml"), at("bad.yaml")).CombinedOutput(); err != nil ||
		string(out) != "bad.yaml\n" {
		if strings.Contains(string(out), "ModuleNotFoundError") && os.Getenv("CI") != "true" {
			t.Log("skipped: python3-yaml or python3-jsonschema is not installed")
		} else {
			t.Errorf("the judge says %s, %v", out, err)
		}
	}

	// What is wrong is named by file and line, and changes nothing.
	for text, want := range map[string]string{
		read("bad.yaml"): "bad.yaml:4 keepalve: found a field that is not known",
		"people:\n  - name: New\ngateways:\n  - name: N\n    address: a b\n": "bad.yaml:5 address",
		"accounts:\n  - person_id: Nobody\n    login: x\n": "bad.yaml:2 person_id: found " +
			"\"Nobody\", which no person is called",
		"accounts:\n  - person_id: Ada Fjell\n    login: x\n": "which fits 2 records",
		"accounts:\n  - login: x\n    password: quay\n":       "bad.yaml:3:15: found a secret",
		"accounts:\n  - person_id: Nils Vik\n    login: new\n    password: {keep: true}\n": "" +
			"bad.yaml:4 password: found keep, and nothing is stored",
		"accounts:\n  - login: x\n    password: {file: nowhere}\n": "\"nowhere\", which cannot be read",
		"people:\n  - name: New\n  - name: New\n":                  "bad.yaml:3: found the same person as /people/0",
		"people:\n  - {id: Brattvik, name: X}\n":                   "the identifier of a person on record",
		"people:\n  - name: [\n":                                   "bad.yaml:2:11: found a text that is no YAML",
		"people:\n  - &a {name: X}\n":                              "an anchor, an alias or a tag",
		"persons:\n  - name: X\n":                                  "bad.yaml:1:1: found \"persons\"",
		"people:\n  - {name: X, groups: [[[[[[[[[[x]]]]]]]]]]}\n":  "values inside values",
	} {
		write("bad.yaml", text)
		run(1, want, "load", at("bad.yaml"))
	}
	run(0, "No changes", "load", at("people.yaml"))

	// The guard: what the files do not have is removed only so far.
	for name, text := range before {
		write(name, text)
	}
	run(1, "at most 2 to be removed", "load", at("people.yaml"), at("accounts.yaml"),
		at("devices.yaml"), at("gateways.yaml"), "--remove-missing", "--remove-at-most", "2")
	if err := os.Remove(at("bad.yaml")); err != nil {
		t.Fatal(err)
	}
	run(0, "0 to add, 1 to change, 4 to remove", "load", dir, "--remove-missing")
	run(0, "No changes: 106 records", "load", dir)
	again := filepath.Join(t.TempDir(), "again")
	run(0, "15 people", "save", again)
	for name, text := range before {
		if data, err := os.ReadFile(filepath.Join(again, name)); err != nil || string(data) != text {
			t.Errorf("%s is not as it was at first (%v)", name, err)
		}
	}
	run(4, "there is no file or folder", "load", filepath.Join(dir, "nowhere"))
	run(2, "found no records", "load", t.TempDir())
}

const schemaName = "wardicon.schema.json"
