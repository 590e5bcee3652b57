package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"innerladder/internal/client"
)

// login is what `innerladder login` remembers.
type login struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

const usualServer = "http://127.0.0.1:7400"

// connect defines the options of commands that call the service.
func (c *call) connect() {
	c.connects = true
	c.server = c.flags.String("server", "", "`URL` of the service; that of the last login, else "+usualServer)
	c.tokenFile = c.flags.String("token-file", "",
		"`FILE` with a token; else INNERLADDER_TOKEN, else that of the last login")
	c.json = c.flags.Bool("json", false, "print JSON for machines")
}

// client makes a client from the options, the environment, and the last login, in this
// order.
func (c *call) client() (*client.Client, error) {
	remembered, err := c.readLogin()
	if err != nil {
		return nil, err
	}
	server, token := *c.server, ""
	if server == "" {
		server = remembered.Server
	}
	if server == "" {
		server = usualServer
	}
	if !strings.HasPrefix(server, "http://") && !strings.HasPrefix(server, "https://") {
		return nil, wrongUse("%q is not the address of a service; write http://HOST:PORT", server)
	}
	switch fromEnv, ok := c.Env("INNERLADDER_TOKEN"); {
	case *c.tokenFile != "":
		b, err := os.ReadFile(*c.tokenFile)
		if err != nil {
			return nil, fmt.Errorf("reading the token: %w", err)
		}
		token = strings.TrimSpace(string(b))
	case ok && fromEnv != "":
		token = strings.TrimSpace(fromEnv)
	case remembered.Server == server:
		token = remembered.Token // a token is never sent to another server than it is for
	}
	if token == "" {
		return nil, fmt.Errorf("there is no token for %s; sign in with: innerladder login -server %s -token-file FILE",
			server, server)
	}
	return client.New(server, token), nil
}

// loginFile is where a login is remembered.
func (c *call) loginFile() (string, error) {
	if dir, ok := c.Env("XDG_CONFIG_HOME"); ok && dir != "" {
		return filepath.Join(dir, "innerladder", "login.json"), nil
	}
	home, ok := c.Env("HOME")
	if !ok || home == "" {
		return "", errors.New("neither HOME nor XDG_CONFIG_HOME is set; give -token-file")
	}
	return filepath.Join(home, ".config", "innerladder", "login.json"), nil
}

func (c *call) readLogin() (login, error) {
	var l login
	file, err := c.loginFile()
	if err != nil {
		return l, nil // without a home directory a sign-in cannot be remembered; the command goes on without
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, fmt.Errorf("reading the last login: %w", err)
	}
	if err := json.Unmarshal(b, &l); err != nil {
		return l, fmt.Errorf("reading the last login: %s: %w; remove it and sign in again", file, err)
	}
	return l, nil
}

// writeLogin remembers a login in a file that only its owner can read.
func (c *call) writeLogin(l login) (file string, err error) {
	if file, err = c.loginFile(); err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	b, err := json.Marshal(l)
	if err != nil {
		return "", err
	}
	// A new file, so that an old one's looser permissions do not stay.
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	return file, os.WriteFile(file, append(b, '\n'), 0o600)
}
