package sim

import (
	"net"
	"net/http"
	"sync"
	"time"

	"greenlever.example/greenlever/internal/identity"
	"greenlever.example/greenlever/internal/identity/standin"
)

// company stands in for the identity provider of Pinecrest: one may sign in as anybody there. Per Lund is new, and of
// the crew that mends doors.
func company(listen string, running *sync.WaitGroup) (*http.Server, identity.Config, error) {
	p := &standin.Provider{Client: "greenlever", Now: time.Now}
	for _, who := range []struct{ key, name, group string }{{"per.lund", "Per Lund", "door-crew"}, {"ida.holm",
		"Ida Holm",
		"office"}, {"noor.berg", "Noor Berg", "door-crew"}, {"juno.lind", "Juno Lind", "planners"}} {
		p.People = append(p.People, standin.Person{Subject: who.key, Email: who.key + "@pinecrest.example",
			Name:   who.name,
			Groups: []string{who.group}})
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, identity.Config{}, err
	}
	p.Issuer = "http://" + l.Addr().String()
	there := &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second}
	running.Go(func() { _ = there.Serve(l) })
	return there, identity.Config{Providers: []identity.Settings{{Key: "company", Title: "Pinecrest", Issuer: p.Issuer,
		Client: "greenlever", Groups: "groups", Teams: map[string]string{"door-crew": "doors",
			"planners": "rounds"}}}}, nil
}
