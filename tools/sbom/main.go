// Command sbom writes a software bill of materials (SPDX 2.3, ISO/IEC 5962) of a program: the Go
// modules that are built into it, and the packages of the console.
package main

import (
	"debug/buildinfo"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"
)

type document struct {
	Version   string `json:"spdxVersion"`
	License   string `json:"dataLicense"`
	ID        string `json:"SPDXID"`
	Name      string `json:"name"`
	Namespace string `json:"documentNamespace"`
	Creation  struct {
		Created  string   `json:"created"`
		Creators []string `json:"creators"`
	} `json:"creationInfo"`
	Packages      []part     `json:"packages"`
	Relationships []relation `json:"relationships"`
}

type part struct {
	ID       string      `json:"SPDXID"`
	Name     string      `json:"name"`
	Version  string      `json:"versionInfo"`
	Location string      `json:"downloadLocation"`
	Analyzed bool        `json:"filesAnalyzed"`
	Refs     []reference `json:"externalRefs,omitempty"`
}

type reference struct {
	Category string `json:"referenceCategory"`
	Type     string `json:"referenceType"`
	Locator  string `json:"referenceLocator"` // package URL
}

type relation struct {
	From string `json:"spdxElementId"`
	Type string `json:"relationshipType"`
	To   string `json:"relatedSpdxElement"`
}

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "sbom PROGRAM VERSION PACKAGE-LOCK")
		os.Exit(2)
	}
	if err := write(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "sbom:", err)
		os.Exit(1)
	}
}

func write(program, version, lock string) error {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return err
	}
	d := document{
		Version: "SPDX-2.3",
		License: "CC0-1.0",
		ID:      "SPDXRef-DOCUMENT",
		Name:    "wardicon-" + version,
	}
	d.Namespace = "urn:wardicon:sbom:" + version
	d.Creation.Creators = []string{"Tool: wardicon-sbom"}
	d.Creation.Created = created()
	root := "SPDXRef-wardicon"
	d.Packages = []part{{ID: root, Name: "wardicon", Version: version, Location: "NOASSERTION"}}
	d.Relationships = []relation{{d.ID, "DESCRIBES", root}}
	add := func(kind, name, version string) {
		id := fmt.Sprintf("SPDXRef-%s-%d", kind, len(d.Packages))
		d.Packages = append(d.Packages, part{
			ID:       id,
			Name:     name,
			Version:  version,
			Location: "NOASSERTION",
			Refs: []reference{{"PACKAGE-MANAGER", "purl", "pkg:" + kind + "/" + name + "@" +
				version}},
		})
		d.Relationships = append(d.Relationships, relation{root, "DEPENDS_ON", id})
	}
	add("golang", "std", strings.TrimPrefix(info.GoVersion, "go"))
	for _, m := range info.Deps {
		add("golang", m.Path, m.Version)
	}
	if err := packages(lock, func(name, version string) {
		add("npm", strings.Replace(name, "@", "%40", 1), version)
	}); err != nil {
		return err
	}
	out := json.NewEncoder(os.Stdout)
	out.SetIndent("", "  ")
	return out.Encode(d)
}

// packages gives those of a lock file that end up in the console.
func packages(lock string, give func(name, version string)) error {
	data, err := os.ReadFile(lock)
	if err != nil {
		return err
	}
	var l struct {
		Packages map[string]struct {
			Version string
			Dev     bool
		}
	}
	if err := json.Unmarshal(data, &l); err != nil {
		return err
	}
	if len(l.Packages) == 0 {
		return errors.New(lock + ": no packages")
	}
	for _, path := range slices.Sorted(maps.Keys(l.Packages)) {
		if _, name, ok := strings.Cut(path, "node_modules/"); ok && !l.Packages[path].Dev {
			give(name, l.Packages[path].Version)
		}
	}
	return nil
}

// created is the time of the build, or the one that a reproducible build is given.
func created() string {
	at := time.Now()
	if epoch := os.Getenv("SOURCE_DATE_EPOCH"); epoch != "" {
		var seconds int64
		if _, err := fmt.Sscan(epoch, &seconds); err == nil {
			at = time.Unix(seconds, 0)
		}
	}
	return at.UTC().Format(time.RFC3339)
}
