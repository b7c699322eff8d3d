// Command minimal is a service of a user's own: it greets recipients at a locker's door
// and decides in process whether the door opens by itself.
//
//	export GREENLEVER_URL=http://127.0.0.1:8090 GREENLEVER_KEY=gls_...
//	go run .
//	curl 'localhost:8099/door?recipient=recipient-17&site=site-12'
//
// With GREENLEVER_FILE=flags.json instead of the two, it decides from that file alone.
package main

import (
	"context"
	"fmt"
	"log"
	"net/http"
	"os"
	"os/signal"

	greenlever "greenlever.example/client"
)

func main() {
	if err := run(); err != nil {
		log.Fatal(err)
	}
}

func run() error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	flags, err := greenlever.Open(ctx, greenlever.Options{Application: "minimal"})
	if err != nil {
		return err
	}
	defer flags.Close()

	http.HandleFunc("GET /door", func(w http.ResponseWriter, r *http.Request) {
		unit := greenlever.Unit(r.FormValue("recipient"), greenlever.String("site.id", r.FormValue("site")))
		if flags.Bool(r.Context(), "one-touch-open", unit, false) {
			fmt.Fprintln(w, "The door opens as you come near.")
			return
		}
		fmt.Fprintln(w, "Please type your code.")
	})
	http.HandleFunc("GET /state", func(w http.ResponseWriter, _ *http.Request) {
		s := flags.State()
		fmt.Fprintf(w, "deciding from %s, revision %d, connected %t\n", s.Source, s.Revision, s.Connected)
	})
	address := os.Getenv("LISTEN")
	if address == "" {
		address = "127.0.0.1:8099"
	}
	server := &http.Server{Addr: address}
	go func() { <-ctx.Done(); server.Close() }()
	if err := server.ListenAndServe(); err != http.ErrServerClosed {
		return err
	}
	return nil
}
