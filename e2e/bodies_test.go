package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/httpapi"
	"wardicon/store"
)

// schema is as much of JSON Schema as the API's own document has.
type schema struct {
	Ref        string            `json:"$ref"`
	Type       any               `json:"type"`
	Enum       []any             `json:"enum"`
	Properties map[string]schema `json:"properties"`
	Required   []string          `json:"required"`
	Items      *schema           `json:"items"`
	MinItems   int               `json:"minItems"`
	Minimum    float64           `json:"minimum"`
	Default    any               `json:"default"`
}

// document is the API's own description.
type document struct {
	Paths map[string]map[string]struct {
		ID   string `json:"operationId"`
		Body struct {
			Content map[string]struct {
				Schema schema `json:"schema"`
			} `json:"content"`
		} `json:"requestBody"`
	} `json:"paths"`
	Components struct {
		Schemas map[string]schema `json:"schemas"`
	} `json:"components"`
}

// fits are values for fields that a sample by type alone would not pass with.
var fits = map[string]any{
	"name":       "Sample",
	"address":    "sample.skerryline.example",
	"login":      "s_ample",
	"release":    "11",
	"platform":   "windows",
	"role":       "auditor",
	"domain":     "skerryline.example",
	"days":       1,
	"text":       "809",
	"passphrase": "anchor velvet 52 pepper rudder",
	"password":   demo.OwnerPassword,
	"old":        demo.OwnerPassword,
	"reason":     "sample",
	"rule":       "edge-space",
	"severity":   "warning",
	"group":      "crew",
	"why":        "lost",
	"places": map[string]any{
		"latitude":  1,
		"longitude": 1,
	},
	"place":        map[string]any{"city": "Oslo", "latitude": 59.9, "longitude": 10.7},
	"milliseconds": 9,
	"certificate":  "-",
	"file":         "aGVsbG8=",
	"content":      "hello",
}

// sample makes a value that a schema takes: what is required, and nothing else.
func (d document) sample(s schema, name string, ids map[string]string) any {
	if s.Ref != "" {
		s = d.Components.Schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]]
	}
	if id, ok := ids[name]; ok {
		return id
	}
	kind := fmt.Sprint(s.Type)
	if v, ok := fits[name]; ok && (kind != "object" || s.Properties == nil) {
		return v
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Default != nil:
		return s.Default
	case strings.Contains(kind, "object"):
		made := map[string]any{}
		for _, key := range s.Required {
			made[key] = d.sample(s.Properties[key], key, ids)
		}
		return made
	case strings.Contains(kind, "array"):
		if s.MinItems == 0 || s.Items == nil {
			return []any{}
		}
		return []any{d.sample(*s.Items, "", ids)}
	case strings.Contains(kind, "integer") || strings.Contains(kind, "number"):
		return max(s.Minimum, 1)
	case strings.Contains(kind, "boolean"):
		return false
	}
	return "sample"
}

// TestRolesWithBodies calls every operation in every role with a body that its schema takes and on
// records that are there, so that the handler is reached: who may not is refused for the role and
// leaves nothing behind, who may is not.
func TestRolesWithBodies(t *testing.T) {
	t.Parallel()
	data, err := json.Marshal(httpapi.Describe("test"))
	if err != nil {
		t.Fatal(err)
	}
	var d document
	if err := json.Unmarshal(data, &d); err != nil {
		t.Fatal(err)
	}
	reached := map[string]bool{}
	for _, role := range []string{"auditor", "issuer", "owner"} {
		f := start(t, true)
		ctx := t.Context()
		by := f.client
		password := demo.OwnerPassword
		if role != "owner" {
			made, err := f.client.AddOperator(ctx, role, role, nil)
			if err != nil {
				t.Fatal(err)
			}
			by = client.New(f.url, "")
			if _, err := by.SignIn(ctx, role, secret.New(made.Password)); err != nil {
				t.Fatal(err)
			}
			password = "anchor-velvet-52-pepper-rudder"
			if err := by.ChangePassword(
				ctx,
				secret.New(made.Password),
				secret.New(password),
			); err != nil {
				t.Fatal(err)
			}
		}
		by.Prove = func(bool) (secret.Text, error) { return secret.New(password), nil }
		if err := by.Confirm(ctx); err != nil {
			t.Fatal(err)
		}
		session, err := by.SignIn(
			ctx,
			map[string]string{"owner": demo.OwnerName}[role]+strings.TrimPrefix(role, "owner"),
			secret.New(password),
		)
		if err != nil {
			t.Fatal(err)
		}
		if err := by.Confirm(ctx); err != nil {
			t.Fatal(err)
		}
		ids := f.identities()
		paths := slices.Sorted(maps.Keys(d.Paths))
		for _, path := range paths {
			for _, method := range slices.Sorted(maps.Keys(d.Paths[path])) {
				op := d.Paths[path][method]
				if slices.Contains(openToAll, op.ID) ||
					slices.Contains(
						[]string{
							"sign-out",
							"change-password",
							"watch-changes",
							"remove-operator",
							"reset-operator",
							"change-operator",
							"end-session",
							"drop-factor",
							"confirm-factor",
							"offer-factor",
							"offer-passkey",
							"add-passkey",
							"remove-passkey",
						},
						op.ID,
					) {
					continue // one's own, or what would end the walk; TestRoles calls them too
				}
				may := role == "owner" ||
					role == "issuer" && !slices.Contains(ownersAlone, op.ID) ||
					slices.Contains(auditorsToo, op.ID) ||
					method == "get" && !slices.Contains(ownersAlone, op.ID) &&
						!slices.Contains(issuersToo, op.ID)
				if !may {
					f.idle() // what runs behind it would be counted
				}
				before := f.auditEntries()
				status, text := f.bodied(d, path, method, ids, session.Token, role)
				refused := status == http.StatusForbidden &&
					strings.Contains(text, "this needs the role")
				if refused == may || status >= 500 {
					t.Errorf(
						"%s by %s: %d, allowed should be %t: %.300s",
						op.ID,
						role,
						status,
						may,
						text,
					)
				}
				if !may && f.auditEntries() != before {
					t.Errorf("%s by %s is refused, and something was done", op.ID, role)
				}
				if status < 300 {
					reached[op.ID] = true
				}
			}
		}
	}
	t.Logf("%d operations were carried out with a body of the walk's own making", len(reached))
	if len(reached) < 70 {
		t.Errorf("only %d operations went well for somebody", len(reached))
	}
}

// idle waits until no job runs.
func (f *fleet) idle() {
	f.t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		page, err := f.client.Jobs(f.t.Context(), client.Query{Limit: 50})
		if err != nil {
			f.t.Fatal(err)
		}
		if !slices.ContainsFunc(
			page.Items,
			func(j api.Job) bool { return j.State == api.Running },
		) {
			return
		}
	}
	f.t.Fatal("jobs run on and on")
}

// auditEntries is how many lines the audit log has.
func (f *fleet) auditEntries() int {
	f.t.Helper()
	page, err := f.svc.Audit(f.t.Context(), store.Query{Limit: 1})
	if err != nil {
		f.t.Fatal(err)
	}
	return page.Total
}

// identities are records that are there, by the names of fields and by the first part of paths.
func (f *fleet) identities() map[string]string {
	f.t.Helper()
	ids, token := map[string]string{}, f.token()
	for noun, path := range map[string]string{
		"gateway":     "gateways",
		"person":      "people",
		"account":     "accounts",
		"device":      "devices",
		"profile":     "profiles",
		"pattern":     "patterns",
		"authority":   "authorities",
		"certificate": "certificates",
		"operator":    "operators",
	} {
		req, _ := http.NewRequestWithContext(
			f.t.Context(),
			http.MethodGet,
			f.url+"/api/v1/"+path+"?limit=1",
			nil,
		)
		req.Header.Set("Authorization", token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			f.t.Fatal(err)
		}
		var page struct {
			Items []struct {
				ID string `json:"id"`
			} `json:"items"`
		}
		err = json.NewDecoder(res.Body).Decode(&page)
		_ = res.Body.Close()
		if err != nil {
			f.t.Fatal(err)
		}
		if len(page.Items) > 0 {
			ids[noun+"_id"], ids["/"+path] = page.Items[0].ID, page.Items[0].ID
		}
	}
	ids["successor_id"] = ids["authority_id"]
	return ids
}

// bodied calls one operation.
func (f *fleet) bodied(
	d document,
	path, method string,
	ids map[string]string,
	token, role string,
) (int, string) {
	f.t.Helper()
	op := d.Paths[path][method]
	id := "xx-none"
	for prefix, one := range ids {
		if strings.HasPrefix(prefix, "/") && strings.HasPrefix(path, "/api/v1"+prefix+"/") {
			id = one
		}
	}
	at := strings.NewReplacer("{id}", id, "{rule}", "edge-space", "{name}", "none", "{noun}",
		"device", "{half}", "link", "{item}", "0", "{probe}", "latest").
		Replace(path)
	var body io.Reader
	kind := "application/json"
	for media, content := range op.Body.Content {
		kind = media
		if strings.HasPrefix(media, "multipart/") {
			var b bytes.Buffer
			w := multipart.NewWriter(&b)
			part, _ := w.CreateFormFile("files", "a.ovpn")
			_, _ = part.Write([]byte("client\nremote norrvik.skerryline.example 1194\n"))
			_ = w.Close()
			body, kind = &b, w.FormDataContentType()
			continue
		}
		made := d.sample(content.Schema, "", ids)
		if strings.Contains(media, "merge-patch") {
			made = map[string]any{}
		}
		if fields, ok := made.(map[string]any); ok && fields["name"] != nil {
			fields["name"] = "Sample " + role + " " + op.ID
		}
		data, err := json.Marshal(made)
		if err != nil {
			f.t.Fatal(err)
		}
		body = bytes.NewReader(data)
	}
	req, err := http.NewRequestWithContext(f.t.Context(), strings.ToUpper(method), f.url+at, body)
	if err != nil {
		f.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", kind)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		f.t.Fatal(err)
	}
	return res.StatusCode, string(text)
}
