package all

import (
	"fmt"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/platform"
)

// Converted is a connection in another format. Lost lists the values that the format cannot carry,
// as paths such as ikev2.dpd, NotCarried what the first file says and no other format is told.
type Converted struct {
	Name       string          `json:"name"`
	Files      []format.File   `json:"files"`
	Lost       []string        `json:"lost"`
	NotCarried []format.Unsaid `json:"not_carried"`
}

// ConvertError says why a file cannot be converted at all.
type ConvertError struct{ Found, Expected string }

func (e *ConvertError) Error() string {
	return fmt.Sprintf("conversion: found %s, expected %s", e.Found, e.Expected)
}

// Convert reads a file of any format, with those beside it, and writes each connection in
// it in another. A value that must not be lost is refused with a *format.UnfitError.
func Convert(
	name string,
	data []byte,
	beside format.Beside,
	to platform.Format,
) ([]Converted, error) {
	codec, ok := ByName(to)
	if !ok {
		var names []string
		for _, c := range Codecs {
			names = append(names, string(c.Name))
		}
		return nil, &ConvertError{
			fmt.Sprintf("the format %q", to),
			"one of " + strings.Join(names, ", "),
		}
	}
	reading := Read(name, data, beside)
	if len(reading.Connections) == 0 {
		found := "no connection in " + name
		if len(reading.Notes) > 0 {
			found = reading.Notes[0].At.String() + ": " + reading.Notes[0].Found
		}
		return nil, &ConvertError{found, "a file with a connection"}
	}
	var list []Converted
	for _, one := range reading.Connections {
		c := one.Connection
		if _, err := uuid.Parse(c.UUID); err != nil { // the same for the same file
			c.UUID = strings.ToUpper(
				uuid.NewSHA1(uuid.NameSpaceURL, []byte("wardicon:converted:"+
					name+":"+c.Name+":"+c.Server)).
					String(),
			)
		}
		if c.Identifier == "" {
			c.Identifier = "converted." + strings.ToLower(c.UUID)
		}
		files, err := codec.Write(c)
		if err != nil {
			return nil, err
		}
		list = append(list, Converted{c.Name, files, format.Lost(c, codec), reading.NotCarried})
	}
	return list, nil
}
