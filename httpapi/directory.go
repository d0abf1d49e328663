package httpapi

import (
	"context"
	"net/http"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/service"
)

type directoryInput struct {
	SeenInput
	Body struct {
		vpn.Directory
		// Remove the stored password.
		RemovePassword bool `json:"remove_password" required:"false"`
	}
}

type readingInput struct {
	Body struct {
		// Only show what would be added and changed.
		DryRun bool `json:"dry_run" required:"false"`
	}
}

// directory are the operations on the directory that people come from.
func (a *handlers) directory() {
	const tag = "directory"
	handle(
		a,
		operation(
			http.MethodGet,
			"/directory",
			"show-directory",
			"Show the directory settings",
			tag,
		),
		func(ctx context.Context, _ *none) (vpn.Directory, error) { return a.svc.Directory(ctx) },
	)
	handle(
		a,
		by(service.RoleOwner, operation(http.MethodPut, "/directory", "change-directory",
			"Change the directory settings (owners only)", tag)),
		func(ctx context.Context, in *directoryInput) (zero vpn.Directory, err error) {
			version, err := in.version("directory configuration", true)
			if err != nil {
				return zero, err
			}
			in.Body.Version = version
			keep := in.Body.Password == nil && !in.Body.RemovePassword
			return a.svc.SetDirectory(ctx, in.Body.Directory, keep)
		},
	)
	handle(
		a,
		operation(http.MethodGet, "/directory/state", "show-directory-state",
			"Show what came of the last reading", tag),
		func(ctx context.Context, _ *none) (api.DirectoryState, error) {
			return a.svc.DirectoryState(ctx)
		},
	)
	handle(
		a,
		operation(http.MethodPost, "/directory/readings", "read-directory",
			"Read the directory, and begin to import what differs", tag),
		func(ctx context.Context, in *readingInput) (api.DirectoryReading, error) {
			return a.svc.ReadDirectory(ctx, in.Body.DryRun)
		},
	)
}
