package httpapi

import "github.com/go-chi/chi/v5"

// Rights of the table, for tests: what an operation needs, and what it needs for what belongs to others.
const (
	Anybody = anybody
	Person  = person
	MayLook = mayLook
	MayLead = mayLead
)

// RightsOf returns what an operation needs, what it needs for what belongs to others, and the scopes of tokens that permit it.
func RightsOf(name string) (needs, full right, tokens []string) {
	x := accessOf(name)
	return x.needs, x.full, x.tokens
}

// ShowsSecrets reports whether an operation needs the right to see what is masked.
func ShowsSecrets(name string) bool { return accessOf(name).secrets }

// RightOf returns the right of a role.
func RightOf(role string) right { return rights[role] }

// Operations are those with an entry of their own in the table.
func Operations() (names []string) {
	for name := range accesses {
		names = append(names, name)
	}
	return names
}

// Routes returns the routes of the API.
func Routes() chi.Routes {
	r := chi.NewRouter()
	(&server{}).routes(r)
	return r
}
