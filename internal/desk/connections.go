package desk

import (
	"context"
	"slices"
	"strings"

	"ambertray/internal/config"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/phrase"
)

// A ConnectionsRequest lists databases that have a name.
type ConnectionsRequest struct {
	Known *config.Config
	Names []string
	// Try connects to each.
	Try bool
	// At is the database of a name.
	At func(name string) DatabaseRequest
}

// A ConnectionsAnswer is what there is.
type ConnectionsAnswer struct {
	Document
	Connections []ConnectionAnswer `json:"connections"`
}

// A ConnectionAnswer is one of them.
type ConnectionAnswer struct {
	Name string `json:"name"`
	URL  string `json:"url"`
	File string `json:"file"`
	// Facts are what the database says of itself, where it was tried; Error is why not.
	Facts []string `json:"facts"`
	Error string   `json:"error"`
}

// Outcome is what it comes to.
func (a *ConnectionsAnswer) Outcome() Outcome {
	if slices.ContainsFunc(a.Connections, func(c ConnectionAnswer) bool { return c.Error != "" }) {
		return Unknown
	}
	return Done
}

// Connections lists them, and tries them if that is wanted.
func (d *Desk) Connections(ctx context.Context, r ConnectionsRequest) (*ConnectionsAnswer, error) {
	a := &ConnectionsAnswer{Document: document("connections"), Connections: []ConnectionAnswer{}}
	for _, name := range r.Names {
		x := r.Known.Connections[name]
		if x == nil {
			hint := phrase.Meant(name, r.Known.Names())
			if hint == "" {
				hint = "there are " + strings.Join(r.Known.Names(), ", ")
			}
			return nil, need("no connection is called %q\n  %s", name, hint)
		}
		c := ConnectionAnswer{Name: name, URL: connect.Redact(x.URL), File: x.From, Facts: []string{}}
		if r.Try {
			facts, err := d.tried(ctx, r.At(name))
			if c.Facts = list(facts); err != nil {
				c.Error = err.Error()
			}
		}
		a.Connections = append(a.Connections, c)
	}
	return a, nil
}

// tried connects, and asks what the database is.
func (d *Desk) tried(ctx context.Context, at DatabaseRequest) ([]string, error) {
	conn, err := d.connect(ctx, at, toRead)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	facts := []string{conn.Dialect().Title}
	if t, is := conn.(db.Teller); is {
		facts, err = t.Tell(ctx)
	}
	if g, is := conn.(db.Guarded); is && err == nil {
		if p, err := g.Protection(ctx); err == nil {
			facts = append(facts, p.String())
		}
	}
	return facts, err
}
