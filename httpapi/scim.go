package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
	"github.com/go-chi/chi/v5"
	filter "github.com/scim2/filter-parser/v2"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// scimPath is where clients of SCIM 2.0 (RFC 7644) find people and groups.
const scimPath = "/scim/v2"

// provisioning answers to clients of SCIM. They sign in with a token of an operator.
func (a *handlers) provisioning(r chi.Router) {
	users, groups := schema.CoreUserSchema(), schema.CoreGroupSchema()
	server, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{
			SupportFiltering: true, SupportPatch: true, MaxResults: 500,
			AuthenticationSchemes: []scim.AuthenticationScheme{{
				Type: scim.AuthenticationTypeOauthBearerToken, Name: "Token of an operator",
				Description: "A token that an operator with the role issuer has made",
				SpecURI:     optional.NewString("https://www.rfc-editor.org/rfc/rfc6750"),
				Primary:     true,
			}},
		},
		ResourceTypes: []scim.ResourceType{
			{
				ID: optional.NewString("User"), Name: "User", Endpoint: "/Users", Schema: users,
				Description: optional.NewString("A person"), Handler: scimUsers{a, users},
			},
			{
				ID: optional.NewString("Group"), Name: "Group", Endpoint: "/Groups", Schema: groups,
				Description: optional.NewString(
					"A group of people",
				), Handler: scimGroups{a, groups},
			},
		},
	})
	if err != nil {
		panic(err) // it depends on nothing but the lines above
	}
	r.Handle(scimPath+"/*", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		role := service.RoleIssuer
		if r.Method == http.MethodGet {
			role = service.RoleAuditor
		}
		// No cookie: another site's page could send it.
		session, err := a.session(r.Context(), bearer(r.Header.Get("Authorization"), ""),
			r.Header.Get("User-Agent"), map[string]any{roleNeeded: role})
		if err == nil && session.Operator.Confined != nil {
			err = service.ErrRole
		}
		if err != nil {
			p, _ := a.answer(r.Context(), err).(*api.Problem)
			w.Header().Set("Content-Type", "application/scim+json")
			if p.Status == http.StatusUnauthorized {
				w.Header().Set("WWW-Authenticate", "Bearer")
			}
			w.WriteHeader(p.Status)
			_ = json.NewEncoder(w).Encode(scimerrors.ScimError{Status: p.Status, Detail: p.Detail})
			return
		}
		r = r.WithContext(service.AsRole(r.Context(), session.Operator.Name, session.Role))
		http.StripPrefix("/scim", server).ServeHTTP(w, r)
	}))
}

// scimProblem turns an error of the service into one of SCIM (RFC 7644 §3.12).
func (a *handlers) scimProblem(ctx context.Context, id string, err error) error {
	var missing *store.NotFoundError
	var taken *store.TakenError
	var wrong *vpn.Problems
	var known scimerrors.ScimError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &known):
		return known
	case errors.As(err, &missing) && missing.ID != id:
		return scimerrors.ScimError{
			Status: http.StatusBadRequest, ScimType: scimerrors.ScimTypeInvalidValue,
			Detail: "there is no user " + missing.ID,
		}
	case errors.As(err, &missing):
		return scimerrors.ScimErrorResourceNotFound(missing.ID)
	case errors.As(err, &taken):
		return scimerrors.ScimErrorUniqueness
	case errors.As(err, &wrong):
		return scimerrors.ScimError{
			Status: http.StatusBadRequest, ScimType: scimerrors.ScimTypeInvalidValue,
			Detail: wrong.Error(),
		}
	}
	p, _ := a.answer(ctx, err).(*api.Problem)
	return scimerrors.ScimError{Status: p.Status, Detail: p.Detail}
}

type scimUsers struct {
	a      *handlers
	schema schema.Schema
}

// userResource is a person as a resource: what the client sent, and the groups as they are.
func userResource(p api.Provisioned) scim.Resource {
	attributes := scim.ResourceAttributes{}
	if err := json.Unmarshal([]byte(p.Attributes), &attributes); err != nil {
		attributes = scim.ResourceAttributes{}
	}
	delete(attributes, "externalId")
	attributes["userName"], attributes["active"] = p.UserName, p.Active
	groups := []any{}
	for _, g := range p.Person.Groups {
		groups = append(groups, map[string]any{"display": g})
	}
	if attributes["groups"] = groups; len(groups) == 0 {
		delete(attributes, "groups")
	}
	return resource(p.Person.ID, p.External, attributes, p.Person.Created, p.Person.Changed)
}

func resource(
	id, external string,
	attributes scim.ResourceAttributes,
	created, changed time.Time,
) scim.Resource {
	r := scim.Resource{
		ID: id, Attributes: attributes,
		Meta: scim.Meta{Created: &created, LastModified: &changed},
	}
	if external != "" {
		r.ExternalID = optional.NewString(external)
	}
	return r
}

func (h scimUsers) Create(r *http.Request, a scim.ResourceAttributes) (scim.Resource, error) {
	p, err := h.a.svc.PutSCIMUser(r.Context(), "", service.UserAttributes(a))
	return userResource(p), h.a.scimProblem(r.Context(), "", err)
}

func (h scimUsers) Get(r *http.Request, id string) (scim.Resource, error) {
	p, err := h.a.svc.SCIMUser(r.Context(), id)
	return userResource(p), h.a.scimProblem(r.Context(), id, err)
}

func (h scimUsers) GetAll(r *http.Request, q scim.ListRequestParams) (scim.Page, error) {
	list, err := h.a.svc.SCIMUsers(r.Context(), wantedName(q))
	if err != nil {
		return scim.Page{}, h.a.scimProblem(r.Context(), "", err)
	}
	all := make([]scim.Resource, len(list))
	for i, p := range list {
		all[i] = userResource(p)
	}
	return pageOf(all, q), nil
}

// wantedName is the user name of the one filter that clients send before they add anybody: userName
// eq "…". Others are looked through.
func wantedName(q scim.ListRequestParams) string {
	if q.FilterValidator == nil {
		return ""
	}
	e, ok := q.FilterValidator.GetFilter().(*filter.AttributeExpression)
	if !ok || e.Operator != filter.EQ ||
		!strings.EqualFold(e.AttributePath.AttributeName, "userName") {
		return ""
	}
	name, _ := e.CompareValue.(string)
	return name
}

// pageOf selects what a filter fits, and of that a page (RFC 7644 §3.4.2).
func pageOf(all []scim.Resource, q scim.ListRequestParams) scim.Page {
	fits := all
	if q.FilterValidator != nil {
		fits = []scim.Resource{}
		for _, one := range all {
			whole := map[string]any{"id": one.ID, "externalId": one.ExternalID.Value()}
			for key, value := range one.Attributes {
				whole[key] = value
			}
			if q.FilterValidator.PassesFilter(whole) == nil {
				fits = append(fits, one)
			}
		}
	}
	from := min(max(q.StartIndex, 1)-1, len(fits))
	to := min(from+max(q.Count, 0), len(fits))
	return scim.Page{TotalResults: len(fits), Resources: fits[from:to]}
}

func (h scimUsers) Replace(
	r *http.Request,
	id string,
	a scim.ResourceAttributes,
) (scim.Resource, error) {
	p, err := h.a.svc.PutSCIMUser(r.Context(), id, service.UserAttributes(a))
	return userResource(p), h.a.scimProblem(r.Context(), id, err)
}

func (h scimUsers) Delete(r *http.Request, id string) error {
	return h.a.scimProblem(r.Context(), id, h.a.svc.RemoveSCIMUser(r.Context(), id))
}

func (h scimUsers) Patch(
	r *http.Request,
	id string,
	operations []scim.PatchOperation,
) (scim.Resource, error) {
	before, err := h.Get(r, id)
	if err != nil {
		return scim.Resource{}, err
	}
	attributes, err := patchedOf(before, operations, h.schema)
	if err != nil {
		return scim.Resource{}, err
	}
	return h.Replace(r, id, attributes)
}

type scimGroups struct {
	a      *handlers
	schema schema.Schema
}

func groupResource(g service.SCIMGroup) scim.Resource {
	members := []any{}
	for _, p := range g.Members {
		members = append(members, map[string]any{
			"value": p.ID, "display": p.Name, "type": "User",
		})
	}
	attributes := scim.ResourceAttributes{"displayName": g.Name}
	if len(members) > 0 {
		attributes["members"] = members
	}
	return resource(g.ID, g.External, attributes, g.Created, g.Changed)
}

// put keeps a group as its attributes say.
func (h scimGroups) put(
	r *http.Request,
	id string,
	a scim.ResourceAttributes,
) (scim.Resource, error) {
	name, _ := a["displayName"].(string)
	external, _ := a["externalId"].(string)
	g := store.Group{ID: id, Name: strings.TrimSpace(name), External: external}
	if err := (&vpn.Person{Name: "somebody", Groups: []string{g.Name}}).Validate(); err != nil {
		return scim.Resource{}, h.a.scimProblem(r.Context(), id, err)
	}
	var members []string
	list, _ := a["members"].([]any)
	for _, item := range list {
		member, _ := item.(map[string]any)
		value, _ := member["value"].(string)
		members = append(members, value)
	}
	done, err := h.a.svc.PutSCIMGroup(r.Context(), g, members)
	return groupResource(done), h.a.scimProblem(r.Context(), id, err)
}

func (h scimGroups) Create(r *http.Request, a scim.ResourceAttributes) (scim.Resource, error) {
	return h.put(r, "", a)
}

func (h scimGroups) Get(r *http.Request, id string) (scim.Resource, error) {
	g, err := h.a.svc.SCIMGroupOf(r.Context(), id)
	return groupResource(g), h.a.scimProblem(r.Context(), id, err)
}

func (h scimGroups) GetAll(r *http.Request, q scim.ListRequestParams) (scim.Page, error) {
	list, err := h.a.svc.SCIMGroups(r.Context())
	if err != nil {
		return scim.Page{}, h.a.scimProblem(r.Context(), "", err)
	}
	all := make([]scim.Resource, len(list))
	for i, g := range list {
		all[i] = groupResource(g)
	}
	return pageOf(all, q), nil
}

func (h scimGroups) Replace(
	r *http.Request,
	id string,
	a scim.ResourceAttributes,
) (scim.Resource, error) {
	return h.put(r, id, a)
}

func (h scimGroups) Delete(r *http.Request, id string) error {
	return h.a.scimProblem(r.Context(), id, h.a.svc.RemoveSCIMGroup(r.Context(), id))
}

func (h scimGroups) Patch(
	r *http.Request,
	id string,
	operations []scim.PatchOperation,
) (scim.Resource, error) {
	before, err := h.Get(r, id)
	if err != nil {
		return scim.Resource{}, err
	}
	attributes, err := patchedOf(before, operations, h.schema)
	if err != nil {
		return scim.Resource{}, err
	}
	return h.put(r, id, attributes)
}
