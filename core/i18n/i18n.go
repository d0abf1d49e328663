// Package i18n holds what people who receive a connection read, in their languages. A catalogue is
// a file of the folder catalogue, named by its language (BCP 47): the English sentence is the key,
// and stands where a catalogue lacks it.
package i18n

import (
	"embed"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/text/language"
)

//go:embed catalogue/*.json
var files embed.FS

// Language is a language that there is a catalogue of.
type Language struct{ tag string }

// English is what sentences are written in.
var English = Language{"en"}

// catalogue is one file.
type catalogue struct {
	Name string `json:"name"` // of the language, in itself
	// how a number is counted, by the plural categories of CLDR
	Ordinals  map[string]string `json:"ordinals"`
	Sentences map[string]string `json:"sentences"`
}

var catalogues = sync.OnceValue(func() map[string]catalogue {
	list := map[string]catalogue{}
	entries, err := files.ReadDir("catalogue")
	if err != nil {
		panic(err) // embedded, and read by every test
	}
	for _, e := range entries {
		data, err := files.ReadFile("catalogue/" + e.Name())
		if err != nil {
			panic(err)
		}
		var c catalogue
		if err := json.Unmarshal(data, &c); err != nil {
			panic(fmt.Errorf("%s: %w", e.Name(), err))
		}
		list[strings.TrimSuffix(e.Name(), ".json")] = c
	}
	return list
})

// Languages lists the languages, English first.
func Languages() []Language {
	list := []Language{English}
	for _, tag := range slices.Sorted(maps.Keys(catalogues())) {
		if tag != English.tag {
			list = append(list, Language{tag})
		}
	}
	return list
}

// matcher finds the nearest of the languages that there are; it is made once.
var matcher = sync.OnceValue(func() language.Matcher {
	have := Languages()
	tags := make([]language.Tag, len(have))
	for i, l := range have {
		tags[i] = language.Make(l.tag)
	}
	return language.NewMatcher(tags)
})

// Choose finds the first language that there is among what is wanted: tags such as de-AT, or lists
// with preferences as browsers send them (RFC 9110 §12.5.4). It is English where there is none.
func Choose(wanted ...string) Language {
	have := Languages()
	for _, w := range wanted {
		if w == "" || len(w) > 500 {
			continue
		}
		if i := slices.IndexFunc(have, func(l Language) bool { return l.tag == w }); i >= 0 {
			return have[i]
		}
		list, _, err := language.ParseAcceptLanguage(w)
		if err != nil || len(list) == 0 {
			continue
		}
		if _, i, sure := matcher().Match(list...); sure >= language.High {
			return have[i]
		}
	}
	return English
}

// Tag is the language's tag (BCP 47).
func (l Language) Tag() string {
	if l.tag == "" {
		return English.tag
	}
	return l.tag
}

// Name is what the language calls itself.
func (l Language) Name() string { return catalogues()[l.Tag()].Name }

// Ordinals are the forms in which a number is counted, by the plural categories of CLDR.
func (l Language) Ordinals() map[string]string { return catalogues()[l.Tag()].Ordinals }

// Say says a sentence in the language, with what stands for its %s.
func (l Language) Say(sentence string, args ...any) string {
	if own, ok := catalogues()[l.Tag()].Sentences[sentence]; ok {
		sentence = own
	}
	if len(args) == 0 {
		return sentence
	}
	return fmt.Sprintf(sentence, args...)
}

// Has tells whether the language has a sentence of its own. English has all.
func (l Language) Has(sentence string) bool {
	_, ok := catalogues()[l.Tag()].Sentences[sentence]
	return ok || l.Tag() == English.tag
}

// Sentences lists the sentences that the language's catalogue has.
func (l Language) Sentences() map[string]string { return catalogues()[l.Tag()].Sentences }
