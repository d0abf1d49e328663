package all_test

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// TestConvertMatrix converts every connection out of every format into every other: what
// arrives is what the target can carry of what the source said, and whatever does not
// arrive is named or refused by its field.
func TestConvertMatrix(t *testing.T) {
	done, refused := 0, 0
	list := ways()
	for _, way := range slices.Sorted(maps.Keys(list)) {
		c := list[way]
		for _, from := range all.Codecs {
			files, err := from.Write(c)
			if err != nil {
				continue
			}
			for _, to := range all.Codecs {
				got, err := all.Convert(
					files[0].Name,
					files[0].Content,
					format.Files(files),
					to.Name,
				)
				var unfit *format.UnfitError
				if errors.As(err, &unfit) {
					if unfit.Field == "" || unfit.Expected == "" {
						t.Errorf(
							"%s, %s to %s: refused without a field: %v",
							way,
							from.Name,
							to.Name,
							err,
						)
					}
					if slices.Contains(to.Protocols, c.Protocol) &&
						unfit.Field == vpn.FieldProtocol {
						t.Errorf(
							"%s, %s to %s: %v, though the protocol is carried",
							way,
							from.Name,
							to.Name,
							err,
						)
					}
					refused++
					continue
				}
				if err != nil || len(got) != 1 {
					t.Errorf(
						"%s, %s to %s: %d connections, %v",
						way,
						from.Name,
						to.Name,
						len(got),
						err,
					)
					continue
				}
				done++
				back := to.Read(
					got[0].Files[0].Name,
					got[0].Files[0].Content,
					format.Files(got[0].Files),
				)
				if len(back.Connections) != 1 {
					t.Fatalf("%s, %s to %s: not read back, %v", way, from.Name, to.Name, back.Notes)
				}
				b := back.Connections[0].Connection
				if b.Protocol != c.Protocol || b.Server != c.Server ||
					!slices.Contains(got[0].Lost, "name") && b.Name != c.Name {
					t.Errorf(
						"%s, %s to %s: another connection: %s %s %q",
						way,
						from.Name,
						to.Name,
						b.Protocol,
						b.Server,
						b.Name,
					)
				}
				if !b.Password.IsZero() && !b.Password.Equal(c.Password) ||
					!b.PSK().IsZero() && !b.PSK().Equal(c.PSK()) {
					t.Errorf("%s, %s to %s: a secret changed on the way", way, from.Name, to.Name)
				}
				// The file of a TLS tunnel does not say that it stands in the machine's own folder.
				lost := slices.DeleteFunc(
					got[0].Lost,
					func(v string) bool { return c.TLS != nil && v == "scope" },
				)
				if from.Name == to.Name && len(lost) > 0 {
					t.Errorf("%s: %s loses %v to itself", way, from.Name, got[0].Lost)
				}
			}
		}
	}
	if done < 100 || refused < 100 {
		t.Errorf("%d converted and %d refused", done, refused)
	}
}

func TestConvertErrors(t *testing.T) {
	for _, test := range []struct{ file, data, to, want string }{
		{"a.txt", "hello", "apple", "none of the formats"},
		{"a.ovpn", "client\n", "apple", "a.ovpn:1:1"},
		{"a.ovpn", "client\nremote n.example\n", "papyrus", "one of apple, keyfile"},
		{"a.nmconnection", "[connection]\nid=x\ntype=wifi\n", "apple", "wifi"},
	} {
		_, err := all.Convert(test.file, []byte(test.data), nil, platform.Format(test.to))
		var refusal *all.ConvertError
		if !errors.As(err, &refusal) || !strings.Contains(err.Error(), test.want) ||
			refusal.Expected == "" {
			t.Errorf("%s: %v, expected %q", test.file, err, test.want)
		}
	}
}
