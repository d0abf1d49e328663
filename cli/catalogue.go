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
func (a *app) catalogue() *cobra.Command {
	return &cobra.Command{
		Use: "catalogue LANGUAGE", Short: "Print what recipients read, for translators", Args: exactly("LANGUAGE"),
		Long: `Prints all sentences of recipients' pages, cards and emails with what a language has for them, as the file that
core/i18n/catalogue wants; what is still to be translated is empty. Places (%s), names in ‹› and braces must stay.`,
		Example: "  wardicon catalogue pt > pt.json",
		RunE: func(_ *cobra.Command, args []string) error {
			in := language.Choose(args[0])
			known := in.Tag() == args[0]
			all := map[string]string{}
			for _, sentence := range slices.Concat(recipient.Sentences(), card.Sentences(), service.Invitation) {
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
