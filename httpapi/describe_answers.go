package httpapi

import (
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// answered gives every operation the statuses that it may answer with beside the one for success,
// each as a problem document, and the bodies of records an example.
func answered(doc *huma.OpenAPI) {
	for path, item := range doc.Paths {
		for method, op := range map[string]*huma.Operation{
			http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodPut: item.Put,
			http.MethodPatch: item.Patch, http.MethodDelete: item.Delete,
		} {
			if op == nil {
				continue
			}
			for status, when := range statusesOf(path, method, op) {
				op.Responses[strconv.Itoa(status)] = problemResponse(status, when)
			}
			exampleOf(op)
			if method == http.MethodPost || method == http.MethodPatch {
				most := maxOnceKey
				op.Parameters = append(op.Parameters, &huma.Param{
					Name: onceHeader, In: "header",
					Description: "A request that is sent again with the same key within a day is " +
						"answered as before, and not done twice",
					Schema: &huma.Schema{Type: huma.TypeString, MaxLength: &most},
				})
			}
		}
	}
}

// statusesOf says when an operation answers with which status (RFC 9110 §15).
func statusesOf(path, method string, op *huma.Operation) map[int]string {
	all := map[int]string{
		http.StatusTooManyRequests:     "Too many attempts; Retry-After says when to try again.",
		http.StatusServiceUnavailable:  "The service cannot work now, or a request took too long.",
		http.StatusInternalServerError: "The service failed; its log has the request.",
	}
	if len(op.Security) > 0 {
		all[http.StatusUnauthorized] = "Nobody is signed in, or the session has expired."
		all[http.StatusForbidden] = "The role does not allow it, or it has to be confirmed first."
	}
	if strings.Contains(path, "{") {
		all[http.StatusNotFound] = "There is no such record."
	}
	if len(op.Parameters) > 0 || op.RequestBody != nil {
		all[http.StatusBadRequest] = "The request cannot be read, or names what does not exist."
		all[http.StatusUnprocessableEntity] = "Values that cannot be accepted, each with its place."
	}
	if op.RequestBody != nil {
		all[http.StatusRequestEntityTooLarge] = "The body is too large."
		all[http.StatusUnsupportedMediaType] = "The body has another type; Accept says which are " +
			"read."
	}
	if method != http.MethodGet {
		all[http.StatusConflict] = "It contradicts other records, or is used by them."
		all[http.StatusInsufficientStorage] = "The disk of the data folder is full."
	}
	for _, p := range op.Parameters {
		if p.Name == "If-Match" {
			all[http.StatusPreconditionFailed] = "The record was changed since it was read."
			all[http.StatusPreconditionRequired] = "If-Match is missing."
		}
	}
	return all
}

func problemResponse(status int, when string) *huma.Response {
	return &huma.Response{
		Description: when,
		Content: map[string]*huma.MediaType{
			"application/problem+json": {
				Schema: &huma.Schema{Ref: "#/components/schemas/Problem"},
				Example: map[string]any{
					"type":  "urn:wardicon:problem:" + exampleKind(status),
					"title": http.StatusText(status), "status": status, "detail": when,
				},
			},
		},
	}
}

func exampleKind(status int) string {
	return map[int]string{
		http.StatusUnprocessableEntity: "invalid", http.StatusBadRequest: "malformed",
		http.StatusPreconditionFailed: "changed", http.StatusConflict: "in-use",
		http.StatusNotFound: "not-found", http.StatusUnauthorized: "sign-in",
		http.StatusForbidden: "role", http.StatusRequestEntityTooLarge: "too-large",
		http.StatusUnsupportedMediaType: "media-type", http.StatusTooManyRequests: "tries",
		http.StatusServiceUnavailable: "too-slow", http.StatusInternalServerError: "internal",
		http.StatusInsufficientStorage:  "disk-full",
		http.StatusPreconditionRequired: "version-wanted",
	}[status]
}

// exampleBodies are what requests may send, by operation.
var exampleBodies = map[string]any{
	"add-person": map[string]any{
		"name": "Nils Vik", "mail": "nils@skerryline.example", "groups": []any{"pursers"},
	},
	"change-person": map[string]any{"groups": []any{"pursers", "masters"}},
	"add-gateway": map[string]any{
		"name": "Sandvik", "address": "sandvik.skerryline.example",
		"routes": []any{"10.60.0.0/16"}, "dns": []any{"10.60.0.53"},
		"offers": map[string]any{"ikev2": map[string]any{
			"auth": []any{"eap-mschapv2"}, "ike": []any{"aes256-sha256-ecp256"},
			"esp": []any{"aes256gcm16-ecp256"},
		}},
	},
	"change-gateway": map[string]any{"load_share": 4},
	"add-account": map[string]any{
		"person_id": "pe-hiwkkbpjbrf5yiti", "login": "n_vik", "gateway_ids": []any{},
	},
	"change-account": map[string]any{"realm": "crew.skerryline.example"},
	"add-device": map[string]any{
		"name": "Nils laptop", "person_id": "pe-hiwkkbpjbrf5yiti", "platform": "windows",
		"release": "11", "encrypted": true,
	},
	"change-device": map[string]any{"release": "10"},
	"add-pattern": map[string]any{
		"name": "Night crew", "groups": []any{"pursers"}, "protocols": []any{"ikev2", "tls"},
		"gateways": "nearest",
	},
	"change-pattern": map[string]any{"connect": "on-demand"},
	"add-profile": map[string]any{
		"device_id": "de-hiwkkbpjbrf5yiti", "gateway_id": "gw-hiwkkbpjbrf5yiti",
	},
	"change-profile": map[string]any{"preferences": map[string]any{"tunnel": "split"}},
	"sign-in": map[string]any{
		"name":     "harbourmaster",
		"password": "a password",
		"kind":     "token",
	},
	"change-records": map[string]any{"operations": []any{
		map[string]any{
			"operation": "add", "noun": "person", "fields": map[string]any{"name": "Nils Vik"},
		},
		map[string]any{
			"operation": "change", "noun": "gateway", "id": "gw-hiwkkbpjbrf5yiti", "version": 3,
			"fields": map[string]any{"load_share": 4},
		},
		map[string]any{"operation": "remove", "noun": "device", "id": "de-hiwkkbpjbrf5yiti"},
	}},
	"read-directory": map[string]any{"dry_run": true},
	"change-inventory": map[string]any{"people": []any{
		map[string]any{"name": "Nils Vik", "groups": []any{"pursers"}},
	}},
}

func exampleOf(op *huma.Operation) {
	body, ok := exampleBodies[op.OperationID]
	if !ok || op.RequestBody == nil {
		return
	}
	for _, media := range op.RequestBody.Content {
		media.Example = body
	}
}
