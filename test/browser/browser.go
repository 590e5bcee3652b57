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

// Browser is a Chromium that runs.
type Browser struct {
	ctx  context.Context
	stop func()
}

// Start starts a browser with an empty profile in dir. It ends with ctx or by Stop.
func Start(ctx context.Context, dir string) (*Browser, error) {
	path, err := Find()
	if err != nil {
		return nil, err
	}
	options := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(path), chromedp.UserDataDir(dir), chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("hide-scrollbars", true), chromedp.WindowSize(1280, 800),
		// Tabs that are behind others go on as if they were in front.
		chromedp.Flag("disable-background-timer-throttling", true),
		chromedp.Flag("disable-renderer-backgrounding", true),
		chromedp.Flag("disable-backgrounding-occluded-windows", true),
	}
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	first, stopFirst := chromedp.NewContext(allocator)
	b := &Browser{ctx: first, stop: func() {
		closing, cancel := context.WithTimeout(first, 10*time.Second)
		defer cancel()
		_ = chromedp.Cancel(closing)
		stopFirst()
		stopAllocator()
	}}
	if err := chromedp.Do(first, chromedp.Navigate("about:blank")); err != nil {
		b.Stop()
		return nil, fmt.Errorf("starting Chromium: %w", err)
	}
	return b, nil
}

// Stop ends the browser and waits for that.
func (b *Browser) Stop() { b.stop() }

// Tab opens a page with cookies and storage of its own; stop closes it, as the end of ctx does. What is done in it must
// happen within two minutes, or it fails.
func (b *Browser) Tab(ctx context.Context) (_ context.Context, stop func(), err error) {
	tab, stopTab := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	limited, stopLimit := context.WithTimeout(tab, 2*time.Minute)
	forget := context.AfterFunc(ctx, stopLimit)
	stop = func() {
		forget()
		stopLimit()
		stopTab()
	}
	if err := chromedp.Do(limited, chromedp.Navigate("about:blank")); err != nil {
		stop()
		return nil, nil, fmt.Errorf("opening a tab: %w", err)
	}
	return limited, stop, nil
}

// Action is something done in the browser.
type Action = chromedp.Action[chromedp.Void]

// pace is how often the page is asked for what is waited for: the library's own pace keeps a processor busy.
const pace = 50 * time.Millisecond

// Visible waits until an element can be seen.
func Visible[S chromedp.Selectable](sel S) Action {
	return chromedp.WaitVisible(sel, chromedp.RetryInterval(pace))
}

// Gone waits until an element is not there.
func Gone[S chromedp.Selectable](sel S) Action {
	return chromedp.WaitNotPresent(sel, chromedp.RetryInterval(pace))
}

// Click clicks an element once it can be seen.
func Click[S chromedp.Selectable](sel S) Action {
	return chromedp.Click(sel, chromedp.RetryInterval(pace))
}

// SignIn signs someone in with a password and waits until the console shows the first
// page.
func SignIn(server, name, password string) Action {
	return chromedp.Steps(chromedp.Navigate(server+"/sign-in"),
		Visible(chromedp.CSS(`input[name="name"]`)),
		Type(chromedp.CSS(`input[name="name"]`), name),
		Type(chromedp.CSS(`input[name="password"]`), password),
		Click(Text("button", "Sign in")), Visible(Text("h1", "Now")))
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
	return chromedp.Steps(Visible(field), chromedp.Focus(field), chromedp.KeyEvent(text))
}
