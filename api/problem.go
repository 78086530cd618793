package api

import (
	"strings"

	"wraithology/core/fault"
)

// Problem is an error answer of the service: a problem details object (RFC 9457). Type is the code
// of a fault.Kind.
type Problem struct {
	Type      string   `json:"type"`
	Title     string   `json:"title"`
	Status    int      `json:"status"`
	Detail    string   `json:"detail"`
	Remedy    string   `json:"remedy,omitempty"`
	RequestID string   `json:"requestID,omitempty" doc:"the log has it too"`
	Errors    []Detail `json:"errors,omitempty"`
}

// Detail is one of several faults of a request.
type Detail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
}

// Error implements error.
func (p *Problem) Error() string {
	what := p.Detail
	if what == "" {
		what = p.Title
	}
	for _, e := range p.Errors {
		what += "; " + strings.TrimPrefix(e.Location+": ", ": ") + e.Message
	}
	return what
}

// GetStatus returns the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType returns the media type of a problem.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Fault returns the problem as an error that wraps its fault.Kind.
func (p *Problem) Fault() error {
	kind := fault.ByCode(p.Type)
	if kind == nil {
		kind = KindOf(p.Status)
	}
	return kind.New(p.Remedy, "%s", p.Error())
}

// KindOf returns the kind of an error of which only the HTTP status is known.
func KindOf(status int) *fault.Kind {
	for _, k := range []*fault.Kind{fault.NotSignedIn, fault.PermissionDenied, fault.NotFound, fault.MethodNotAllowed, fault.TooLarge, fault.TooMany} {
		if k.Status == status {
			return k
		}
	}
	if status >= 500 {
		return fault.Unavailable
	}
	return fault.InvalidRequest
}
