// Package browser drives the console in a headless Chromium, as a person would.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/chromedp"
)

// names are what Chromium's program is called.
var names = []string{"chromium", "chromium-browser", "google-chrome"}

// ErrMissing is returned when there is no Chromium.
var ErrMissing = errors.New("no Chromium was found; install Debian's package chromium, or name one in CHROMIUM")

// Find finds Chromium.
func Find() (string, error) {
	if named := os.Getenv("CHROMIUM"); named != "" {
		return named, nil
	}
	for _, n := range names {
		if path, err := exec.LookPath(n); err == nil {
			return path, nil
		}
	}
	return "", ErrMissing
}

// Start starts a browser with an empty profile in dir; stop ends it. Everything must
// happen within a minute or two, or it fails.
func Start(ctx context.Context, dir string) (_ context.Context, stop func(), err error) {
	path, err := Find()
	if err != nil {
		return nil, nil, err
	}
	options := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(path), chromedp.UserDataDir(dir), chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("hide-scrollbars", true), chromedp.WindowSize(1280, 800),
	}
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(allocator)
	limited, stopLimit := context.WithTimeout(tab, 2*time.Minute)
	stop = func() {
		stopLimit()
		stopTab()
		stopAllocator()
	}
	if err := chromedp.Do(limited, chromedp.Navigate("about:blank")); err != nil {
		stop()
		return nil, nil, fmt.Errorf("starting Chromium: %w", err)
	}
	return limited, stop, nil
}

// Action is something done in the browser.
type Action = chromedp.Action[chromedp.Void]

// SignIn signs someone in with a password and waits until the console shows the first
// page.
func SignIn(server, name, password string) Action {
	return chromedp.Steps(chromedp.Navigate(server+"/sign-in"),
		chromedp.WaitVisible(chromedp.CSS(`input[name="name"]`)),
		Type(chromedp.CSS(`input[name="name"]`), name),
		Type(chromedp.CSS(`input[name="password"]`), password),
		chromedp.Click(Text("button", "Sign in")), chromedp.WaitVisible(Text("h1", "Now")))
}

// Text finds elements of a kind whose text begins with something.
func Text(kind, begins string) chromedp.Search {
	return chromedp.Search(fmt.Sprintf(`//%s[starts-with(normalize-space(.), %q)]`, kind, begins))
}

// Dark chooses dark or light colours for the pages opened from now on.
func Dark(dark bool) Action {
	theme := map[bool]string{true: "dark", false: "light"}[dark]
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](`localStorage.setItem("innerladder-theme", "`+theme+`")`)(ctx, t)
		return err
	})
}

// Type types into a field once it can be seen. The library's own SendKeys reads the field's
// attributes without its lock, which the race detector reports when the page changes meanwhile.
func Type[S chromedp.Selectable](field S, text string) Action {
	return chromedp.Steps(chromedp.WaitVisible(field), chromedp.Focus(field), chromedp.KeyEvent(text))
}
