// Package client calls the API of one service as one person, or as a robot. It is the client that the command line is
// made of, with names that others can write.
package client

import (
	"context"

	inner "innerladder/internal/client"
)

// New makes a client of the service at an address such as http://127.0.0.1:7400, with a token.
func New(server, token string) *Client { return inner.New(server, token) }

// CodeOf returns the code of the problem in err, or "".
func CodeOf(err error) string { return inner.Code(err) }

// SignIn makes a token with a name and a password; it lasts for a duration such as 720h.
func SignIn(ctx context.Context, server, name, password, title, lasts string) (MadeToken, error) {
	return inner.SignIn(ctx, server, name, password, title, lasts)
}

// Artifacts are local files that are the files of a version.
func Artifacts(paths ...string) []LocalFile { return inner.Artifacts(paths...) }
