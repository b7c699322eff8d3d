package greenlever

import (
	"net/http"

	"greenlever.example/core/flag"
)

// Middleware gives each request a [Scope] of its own: unit makes its context from the
// request, and the override "see it as" is taken from the request's header or cookie.
func (c *Client) Middleware(unit func(*http.Request) Context) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			scope := c.Scope(r.Context(), c.SeeAs(unit(r), seeAsToken(r)))
			next.ServeHTTP(w, r.WithContext(WithScope(r.Context(), scope)))
		})
	}
}

func seeAsToken(r *http.Request) string {
	if token := r.Header.Get(flag.SeeAsHeader); token != "" {
		return token
	}
	if cookie, err := r.Cookie(flag.SeeAsCookie); err == nil {
		return cookie.Value
	}
	return ""
}

// Route is an address that exists only where a flag says so.
type Route struct {
	Pattern string // as of http.ServeMux, without a method: "/desk/photos", "/rounds/{id}/night"
	Flag    string // boolean; or a flag of another type, with Variant
	Variant string // that the flag must give; empty: the value true
}

// Guard hides routes: where the flag does not open one, a request for it is answered as one
// for an address that does not exist, byte for byte, whatever its method. It stands before
// the application's own routing and behind [Client.Middleware], whose scope it decides in;
// without a scope, without a ruleset and on any error the route does not exist. unknown is
// the application's own answer to unknown addresses; nil is that of http.ServeMux.
func (c *Client) Guard(routes []Route, unknown http.Handler) func(http.Handler) http.Handler {
	if unknown == nil {
		unknown = http.NotFoundHandler()
	}
	hidden := http.NewServeMux()
	for _, route := range routes {
		hidden.Handle(route.Pattern, guarded{route, unknown})
	}
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if shut(hidden, r) {
				unknown.ServeHTTP(w, r)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// guarded is a guarded route in the mux that finds it.
type guarded struct {
	Route
	http.Handler
}

// shut tells whether the request is for a route that its flag does not open. A request that
// the mux would redirect to such a route is one too: a redirect would give it away.
func shut(hidden *http.ServeMux, r *http.Request) bool {
	h, pattern := hidden.Handler(r)
	if pattern == "" {
		return false
	}
	g, ok := h.(guarded)
	if !ok {
		to := *r.URL
		to.Path += "/"
		again := *r
		again.URL = &to
		if h, _ = hidden.Handler(&again); h == nil {
			return true
		}
		if g, ok = h.(guarded); !ok {
			return true
		}
	}
	a := ScopeOf(r.Context()).Answer(g.Flag)
	if g.Variant != "" {
		return a.Variant != g.Variant
	}
	open, ok := Value[bool](a)
	return !ok || !open
}
