package httpapi

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A token permits what its scope says, and nothing because of how a path is written.
func TestScopes(t *testing.T) {
	t.Parallel()
	for request, want := range map[[2]string]string{
		{"GET", "/api/cases"}:                          "read write",
		{"POST", "/api/cases"}:                         "write",
		{"GET", "/api/cases/fog/evidence"}:             "read write",
		{"PUT", "/api/cases/fog/evidence/run"}:         "write ingest",
		{"GET", "/api/cases/fog/evidence/run"}:         "read write ingest",
		{"DELETE", "/api/cases/fog/evidence/run"}:      "write",
		{"PUT", "/api/cases/fog/artifacts/binary"}:     "write ingest",
		{"GET", "/api/cases/fog/evidence/run/content"}: "read write",
		{"POST", "/api/cases/fog/evidence/run/index"}:  "write",
		{"POST", "/api/cases/fog/evidence/run/ledger"}: "read write",
		{"POST", "/api/cases/fog/exhibits"}:            "write",
		{"PUT", "/api/cases/fog/members/Ines"}:         "write",
		{"POST", "/api/me/password"}:                   "write",
		{"PATCH", "/api/me"}:                           "write",
		{"DELETE", "/api/me/sessions"}:                 "write",
		{"GET", "/"}:                                   "read write",
		{"POST", "/x/cases/fog/evidence/run/index"}:    "write",
	} {
		got := ""
		for _, scope := range []string{"read", "write", "ingest", "unknown"} {
			if permits(scope, request[0], request[1]) {
				got += " " + scope
			}
		}
		assert.Equal(t, " "+want, got, "%s", request)
	}
}
