// Command shots takes pictures of the console of a service that runs, for docs and for
// looking at.
//
//	go run ./test/shots -server http://127.0.0.1:7400 -name NAME -password-file FILE \
//		-out DIR NAME=PATH[,dark][,WIDTHxHEIGHT][,click BUTTON] …
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

func main() {
	server := flag.String("server", "http://127.0.0.1:7400", "`URL` of the service")
	name := flag.String("name", "tove", "`NAME` of who looks")
	passwordFile := flag.String("password-file", "", "`FILE` with the password")
	out := flag.String("out", "docs/screenshots", "`DIR` for the pictures")
	settle := flag.Duration("settle", 2500*time.Millisecond, "`DURATION` to wait for each page")
	files := flag.String("files", "", "`FILES`, separated by commas, to choose in the page's file field")
	flag.Parse()
	if err := run(*server, *name, *passwordFile, *out, *settle, *files, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(server, name, passwordFile, out string, settle time.Duration, files string, pages []string) error {
	password, err := os.ReadFile(passwordFile)
	if err != nil {
		return err
	}
	profile, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	chromium, err := browser.Start(context.Background(), profile)
	if err != nil {
		return err
	}
	defer chromium.Stop()
	ctx, stop, err := chromium.Tab(context.Background())
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Do(ctx, browser.SignIn(server, name, strings.TrimSpace(string(password)))); err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	for _, page := range pages {
		picture, rest, _ := strings.Cut(page, "=")
		path, options, _ := strings.Cut(rest, ",")
		width, height := int64(1280), int64(800)
		var clicks []string
		for _, o := range strings.Split(options, ",") {
			var w, h int64
			if n, _ := fmt.Sscanf(o, "%dx%d", &w, &h); n == 2 {
				width, height = w, h
			}
			if button, is := strings.CutPrefix(o, "click "); is {
				clicks = append(clicks, button)
			}
		}
		if err := chromedp.Do(ctx, chromedp.EmulateViewport(width, height),
			browser.Dark(strings.Contains(options, "dark")),
			chromedp.Navigate(server+path), chromedp.Sleep(settle)); err != nil {
			return fmt.Errorf("%s: %w", picture, err)
		}
		for _, button := range clicks {
			if err := chromedp.Do(ctx, browser.Click(browser.Text("button", button)),
				chromedp.Sleep(settle)); err != nil {
				return fmt.Errorf("%s: pressing %s: %w", picture, button, err)
			}
		}
		if files != "" {
			if err := chromedp.Do(ctx, chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`),
				strings.Split(files, ",")), chromedp.Sleep(settle)); err != nil {
				return fmt.Errorf("%s: choosing files: %w", picture, err)
			}
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", picture, err)
		}
		if err := os.WriteFile(filepath.Join(out, picture+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}
