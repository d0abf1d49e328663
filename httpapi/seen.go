package httpapi

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"

	"wardicon/core/vpn"
)

// SeenInput is the version that a change is made to (RFC 9110 §13.1.1).
type SeenInput struct {
	IfMatch string `header:"If-Match" doc:"Version that was read; * changes any version"`
}

// anyVersion stands for whatever is there.
const anyVersion = 0

// version reads it. Where it is wanted and not there, nothing is changed (RFC 6585 §3).
func (in SeenInput) version(noun string, wanted bool) (int, error) {
	text := strings.Trim(strings.TrimPrefix(in.IfMatch, "W/"), `"`)
	switch {
	case text == "*":
		return anyVersion, nil
	case text == "" && wanted:
		return 0, problem(
			http.StatusPreconditionRequired,
			"version-wanted",
			"this could overwrite somebody else's changes: send the version of the "+noun+
				" that you read in If-Match, or * for any version",
		)
	case text == "":
		return anyVersion, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, &vpn.Problems{
			Object: noun,
			List: []vpn.Problem{
				{
					Pointer:  "/If-Match",
					Found:    "no number",
					Expected: "the version that you read, or *",
				},
			},
		}
	}
	return n, nil
}

// replaces tells whether a merge patch replaces a list: what others have put into it meanwhile
// would be lost (RFC 7396 §2).
func replaces(patch []byte) bool {
	d := json.NewDecoder(bytes.NewReader(patch))
	for {
		token, err := d.Token()
		if err != nil {
			return false // what is malformed is refused elsewhere
		}
		if token == json.Delim('[') {
			return true
		}
	}
}
