package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Where a setting's value comes from, the strongest first.
const (
	fromFlag        = "flag"
	fromEnvironment = "environment"
	fromFile        = "file"
	fromDefault     = "default"
)

// own are flags that say how a command runs, rather than what the service is.
var own = []string{"help", "settings", "check"}

// setting is one with where its value comes from.
type setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from"`
}

// variable is the environment variable of a flag.
func variable(flag string) string {
	return "WARDICON_" + strings.ToUpper(strings.ReplaceAll(flag, "-", "_"))
}

// settle gives every flag that was not given the value of its environment variable, else that of
// the settings file, and returns what holds now. A file is YAML: the flags' names without dashes in
// front, with their values.
func (a *app) settle(cmd *cobra.Command, path string) ([]setting, error) {
	file, err := a.settingsFile(path)
	if err != nil {
		return nil, err
	}
	var list []setting
	var known []string
	var wrong error
	cmd.NonInheritedFlags().VisitAll(func(f *pflag.Flag) {
		if wrong != nil || slices.Contains(own, f.Name) {
			return
		}
		known = append(known, f.Name)
		from := fromDefault
		set := func(value, where, source string) {
			if err := cmd.Flags().Set(f.Name, value); err != nil {
				wrong = usage("%s: found %q, expected %s", where, value, f.Value.Type())
			}
			from = source
		}
		value, inFile := file[f.Name]
		switch env := a.Env(variable(f.Name)); {
		case f.Changed:
			from = fromFlag
		case env != "":
			set(env, variable(f.Name), fromEnvironment)
		case inFile:
			set(value, path+": "+f.Name, fromFile)
		}
		list = append(list, setting{f.Name, f.Value.String(), from})
	})
	if wrong != nil {
		return nil, wrong
	}
	for name := range file {
		if !slices.Contains(known, name) {
			return nil, usage("%s: found %q, expected one of %s", path, name,
				strings.Join(known, ", "))
		}
	}
	return list, cmd.ValidateFlagGroups()
}

// settingsFile reads a settings file. ${CREDENTIALS_DIRECTORY} is where the service manager puts
// secrets; nothing else is replaced.
func (a *app) settingsFile(path string) (map[string]string, error) {
	if path == "" {
		return nil, nil
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, usage("settings: %w", err)
	}
	var read map[string]any
	if err := yaml.Unmarshal(data, &read); err != nil {
		return nil, usage("%s: %w", path, err)
	}
	file := map[string]string{}
	for name, value := range read {
		switch v := value.(type) {
		case nil:
			continue
		case []any:
			parts := make([]string, len(v))
			for i, one := range v {
				parts[i] = fmt.Sprint(one)
			}
			file[name] = strings.Join(parts, ",")
		case map[string]any:
			return nil, usage("%s: %s: found settings inside it, expected a value", path, name)
		default:
			file[name] = fmt.Sprint(v)
		}
		file[name] = strings.ReplaceAll(file[name], "${CREDENTIALS_DIRECTORY}",
			a.Env("CREDENTIALS_DIRECTORY"))
	}
	return file, nil
}
