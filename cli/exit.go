package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"strings"
	"syscall"

	"wardicon/api"
	"wardicon/client"
)

// Exit codes.
const (
	exitFine        = 0
	exitFindings    = 1 // findings, or refused
	exitUsage       = 2
	exitUnreachable = 3
	exitNotFound    = 4
)

// usageError is a wrong use of a command.
type usageError struct{ err error }

func (e *usageError) Error() string { return e.err.Error() }

func (e *usageError) Unwrap() error { return e.err }

func usage(format string, args ...any) error { return &usageError{fmt.Errorf(format, args...)} }

// missing says that there is no such thing.
func missing(format string, args ...any) error {
	return &api.Problem{
		Type:   "urn:wardicon:problem:not-found",
		Title:  http.StatusText(http.StatusNotFound),
		Status: http.StatusNotFound,
		Detail: fmt.Sprintf(format, args...),
	}
}

// failure is an error as "-o json" prints it: the problem document of the service (RFC 9457) where
// it sent one, else what the command itself found.
type failure struct {
	*api.Problem
	ExitCode int `json:"exit_code"`
}

// exit prints an error, and returns the exit code that tells its kind.
func (a *app) exit(err error) int {
	code, p := classify(err)
	switch {
	case p == nil:
	case a.output == "json":
		enc := json.NewEncoder(a.Err)
		enc.SetIndent("", "  ")
		_ = enc.Encode(failure{p, code})
	default:
		a.explainProblem(p)
	}
	return code
}

// classify finds the exit code of an error, and the problem to print; none where all is said
// already.
func classify(err error) (int, *api.Problem) {
	var problem *api.Problem
	var unreachable *client.UnreachableError
	var wrong *usageError
	own := func(kind string) *api.Problem {
		return &api.Problem{
			Type:   "urn:wardicon:problem:" + kind,
			Title:  strings.ReplaceAll(kind, "-", " "),
			Detail: plainly(err),
		}
	}
	switch {
	case err == nil:
		return exitFine, nil
	case errors.Is(err, errFindings):
		return exitFindings, nil
	case errors.As(err, &unreachable):
		return exitUnreachable, own("not-reached")
	case errors.As(err, &problem) && problem.Status == http.StatusNotFound:
		return exitNotFound, problem
	case errors.As(err, &problem):
		return exitFindings, problem
	case errors.As(err, &wrong):
		return exitUsage, own("usage")
	}
	for _, framework := range []string{"unknown command", " arg(s)", "flags in the group"} {
		if strings.Contains(err.Error(), framework) {
			return exitUsage, own("usage")
		}
	}
	return exitFindings, own("refused")
}

// plainly words what the system says of a file.
func plainly(err error) string {
	var at *fs.PathError
	if !errors.As(err, &at) {
		return err.Error()
	}
	said := at.Err.Error()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		said = "there is no file or folder of this name"
	case errors.Is(err, fs.ErrExist):
		said = "there is one of this name already"
	case errors.Is(err, fs.ErrPermission):
		said = "you have no permission for it"
	case errors.Is(err, syscall.EISDIR):
		said = "found a folder, expected a file"
	}
	return strings.Replace(err.Error(), at.Error(), at.Path+": "+said, 1)
}

func (a *app) explainProblem(p *api.Problem) {
	a.complain("%s", p.Detail)
	for _, e := range p.Errors {
		a.complain("  %s", e)
	}
	for _, f := range p.Findings {
		a.complain("  %s: %s: %s. %s", f.Severity, f.Title, f.Found, f.Fix)
	}
	if p.Status == http.StatusUnauthorized {
		a.complain("  sign in with wardicon me sign-in")
	}
	if p.Status >= http.StatusInternalServerError {
		a.complain("  the service's log has more under %s", p.Instance)
	}
}
