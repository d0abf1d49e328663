package httpapi

import (
	"context"
	"fmt"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
)

// mostOfQuery bounds the parameters of a kept filter, in bytes.
const mostOfQuery = 4_000

type listViewInput struct {
	Body api.ListView
}

func (a *handlers) listViews() {
	handle(a, by(service.RoleAuditor, operation(http.MethodGet, "/list-views", "list-views",
		"List how you have set up the lists of the console", "me")),
		func(ctx context.Context, _ *struct{}) (api.Items[api.ListView], error) {
			return items(a.svc.ListViews(ctx, here(ctx).Operator.ID))
		})
	quiet(a, by(service.RoleAuditor, operation(http.MethodPut, "/list-views", "keep-list-view",
		"Keep how you have set up a list of the console", "me")),
		func(ctx context.Context, in *listViewInput) error {
			for i, f := range in.Body.Filters {
				size := 0
				for key, value := range f.Query {
					size += len(key) + len(value)
				}
				if size > mostOfQuery {
					return &vpn.Problems{Object: "list", List: []vpn.Problem{{
						Pointer:  fmt.Sprintf("/filters/%d/query", i),
						Found:    fmt.Sprintf("%d bytes", size),
						Expected: fmt.Sprintf("%d bytes at most", mostOfQuery),
						Fix:      "use a shorter search",
					}}}
				}
			}
			return a.svc.PutListView(ctx, here(ctx).Operator.ID, in.Body)
		})
}
