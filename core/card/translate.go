package card

import (
	"slices"
	"strings"

	"wardicon/core/i18n"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// sentence says a step in a language, with the note that it may carry.
func sentence(in i18n.Language, step string) string {
	step, note, ok := strings.Cut(step, noted)
	if !ok {
		return in.Say(step)
	}
	return in.Say(step, in.Say(note))
}

// said puts what is left in English into the card's language: the labels of values, in the list and
// in the steps, their spelling, and how to connect and remove.
func (c Card) said() Card {
	all := func(list []string) []string {
		own := make([]string, len(list))
		for i, one := range list {
			own[i] = c.Language.Say(one)
		}
		return own
	}
	c.Connect, c.Remove = all(c.Connect), all(c.Remove)
	for i, step := range c.Steps {
		var b strings.Builder
		for _, p := range Parts(step) {
			if p.Label {
				b.WriteString("‹" + c.Language.Say(p.Text) + "›")
			} else {
				b.WriteString(p.Text)
			}
		}
		c.Steps[i] = b.String()
	}
	for i, v := range c.Values {
		c.Values[i].Label = c.Language.Say(v.Label)
		for k, word := range v.Spelled {
			c.Values[i].Spelled[k] = spelled(c.Language, word)
		}
	}
	return c
}

// kinds are the words that a spelled character begins with.
var kinds = []string{"digit", "capital", "small", "character"}

// spelled names a character in a language.
func spelled(in i18n.Language, word string) string {
	if kind, which, ok := strings.Cut(word, " "); ok && slices.Contains(kinds, kind) {
		return in.Say(kind+" %s", which)
	}
	return in.Say(word)
}

// say is Say for the templates.
func (c Card) say(text string, args ...any) string { return c.Language.Say(text, args...) }

// The words of the page itself.
const (
	headLine   = "%s · for %s · %s (%s) · gateway %s · %s"
	headSteps  = "What to do"
	headValues = "What to type"
	headText   = "What to type, without the bars |"
	headUse    = "Connect"
	headTry    = "See that it works"
	headRemove = "Remove it again"
	fileList   = "Files: %s"
	hidden     = "hidden"
	pageNumber = "%s · page %s"
	legend     = "How to read it: digits have a dotted line below, capitals are bold, other " +
		"characters are in a frame; a frame with an open box in it is a space: press the space " +
		"bar."
	spelledOut = "Spelled out"
	asQR       = "As a QR code"
	qrTitle    = "QR code with this value"
)

// Sentences lists all that a card may say, for catalogues of other languages.
func Sentences() []string {
	list := []string{
		asRootInstall,
		onRouter,
		asRootConnect,
		asRootHangUp,
		tryBefore,
		tryResolver,
		tryHost,
		tryEgress,
		tryElse,
		secondChoice,
		headLine,
		headSteps,
		headValues,
		headText,
		headUse,
		headTry,
		headRemove,
		fileList,
		hidden,
		pageNumber,
		legend,
		spelledOut,
		asQR,
		qrTitle,
	}
	add := func(steps []string) {
		for _, s := range steps {
			s, note, ok := strings.Cut(s, noted)
			if ok {
				list = append(list, note)
			}
			if strings.HasPrefix(s, without) {
				_, s, _ = strings.Cut(s, ":")
			}
			for _, tunnel := range []vpn.Tunnel{vpn.TunnelFull, vpn.TunnelSplit} {
				s = strings.TrimPrefix(s, string(tunnel)+":")
			}
			list = append(list, s)
		}
	}
	for _, u := range uses {
		add(u.connect)
		add(u.remove)
	}
	for _, u := range clients {
		add(u.connect)
		add(u.remove)
	}
	for _, h := range hands {
		add(h.steps)
	}
	for _, p := range vpn.Platforms {
		add(trust(p))
		add(own(p))
	}
	for _, row := range platform.Table {
		for _, a := range row.Can {
			for _, f := range a.Formats {
				add(fileSteps(f, row.Platform, a))
			}
		}
	}
	list = append(list, Labels...)
	list = append(list, secret.SignNames()...)
	for _, k := range kinds {
		list = append(list, k+" %s")
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// Labels are the names of values.
var Labels = []string{
	"Connection name",
	"Server address",
	"Port",
	"Login",
	"Password",
	"Pre-shared key",
	"Sign-in method",
	"Group name",
	"Remote identity",
	"Local identity",
	"Encryption",
	"Remotes",
	"Data ciphers",
	"Digest",
	"Name in the certificate",
	"IKE proposals",
	"ESP proposals",
	"Routes",
	"DNS servers",
	"Internal domains",
	"Authority file",
	"Command for the services",
	"Command for the gateway behind NAT",
	"Certificate file",
	"Passphrase of the file",
}
