package cli

import (
	"encoding/json"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"wardicon/core/card"
	language "wardicon/core/i18n"
	"wardicon/recipient"
	"wardicon/service"
)

// catalogue is for translators: what people who receive a connection read, in one language.
func (a *app) translations() *cobra.Command {
	return &cobra.Command{
		Use:   "translations LANGUAGE",
		Short: "Print the texts of recipients' pages, cards and emails for translators",
		Args:  exactly("LANGUAGE"),
		Long: `Prints every text that recipients read with its translation, as the file for
core/i18n/catalogue. Texts that are not translated yet are empty. Keep placeholders (%s), names in
‹› and braces.`,
		Example: "  wardicon service translations pt > pt.json",
		RunE: func(_ *cobra.Command, args []string) error {
			in := language.Choose(args[0])
			known := in.Tag() == args[0]
			all := map[string]string{}
			for _, sentence := range slices.Concat(recipient.Sentences(), card.Sentences(),
				service.Invitation, service.Nudge) {
				all[sentence] = ""
				if known && in.Has(sentence) {
					all[sentence] = in.Say(sentence)
				}
			}
			name, ordinals := "", map[string]string{"other": ""}
			if known {
				name, ordinals = in.Name(), maps.Clone(in.Ordinals())
			}
			out := json.NewEncoder(a.Out)
			out.SetEscapeHTML(false)
			out.SetIndent("", "  ")
			return out.Encode(map[string]any{"name": name, "ordinals": ordinals, "sentences": all})
		},
	}
}
