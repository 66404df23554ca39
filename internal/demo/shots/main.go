// Command shots photographs the console of a running demo for docs/screenshots:
//
//	go run ./internal/demo/shots HOME FOLDER [PAGE...]
//
// A page is name=address, name=address@dark, name=address@narrow as on a phone, or name=text:FILE for what a command printed.
package main

import (
	"context"
	"fmt"
	"html"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Flags are how Chromium is started where there is no screen and no network.
var flags = append(chromedp.DefaultExecAllocatorOptions[:],
	chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
	chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
	chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
	chromedp.WindowSize(1280, 800))

func main() {
	if len(os.Args) < 4 {
		fmt.Fprintln(os.Stderr, "usage: shots HOME FOLDER NAME=ADDRESS...")
		os.Exit(2)
	}
	if err := shoot(os.Args[1], os.Args[2], os.Args[3:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func shoot(home, folder string, pages []string) error {
	address, err := os.ReadFile(filepath.Join(home, "address"))
	if err != nil {
		return err
	}
	token, err := os.ReadFile(filepath.Join(home, "owner.token"))
	if err != nil {
		return err
	}
	base := strings.TrimSpace(string(address))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), flags...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	if err := chromedp.Do(ctx); err != nil { // the browser lives as long as this context
		return err
	}
	err = chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventConsoleAPICalled:
			for _, a := range e.Args {
				fmt.Fprintf(os.Stderr, "console %s: %s\n", e.Type, a.Value)
			}
		case *runtime.EventExceptionThrown:
			fmt.Fprintln(os.Stderr, "console:", e.ExceptionDetails.Text)
		}
	})
	if err != nil {
		return err
	}
	err = chromedp.Do(ctx,
		chromedp.Navigate(base+"/sign-in"),
		chromedp.Click(`a[href="#"]`),
		chromedp.SendKeys(`input[aria-label=Token]`, strings.TrimSpace(string(token))+"\n"),
		chromedp.WaitVisible(`header nav`),
	)
	if err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	ctx, cancel = context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	for _, p := range pages {
		name, to, _ := strings.Cut(p, "=")
		if file, ok := strings.CutPrefix(to, "text:"); ok {
			if err := terminal(ctx, file, filepath.Join(folder, name+".png")); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			continue
		}
		if err := page(ctx, base, to, filepath.Join(folder, name+".png")); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// page photographs a page of the console, as on a phone where its path ends in @narrow, dark where the rest ends in @dark.
func page(ctx context.Context, base, path, picture string) error {
	path, narrow := strings.CutSuffix(path, "@narrow")
	width, height := int64(1280), int64(800)
	if narrow {
		width, height = 390, 844
	}
	path, dark := strings.CutSuffix(path, "@dark")
	theme := "light"
	if dark {
		theme = "dark"
	}
	err := chromedp.Do(ctx,
		chromedp.Evaluate[chromedp.Void](`localStorage.setItem('theme', '`+theme+`')`),
		chromedp.EmulateViewport(width, height),
		chromedp.Navigate(base+path),
		chromedp.WaitVisible(`main .panel`),
		chromedp.Sleep(1500*time.Millisecond), // charts and tables settle
	)
	if err != nil {
		return err
	}
	bytes, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(picture, bytes, 0o644)
}

// terminal photographs a text as a terminal shows it.
func terminal(ctx context.Context, file, picture string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	page := `<body style="margin:0;background:#161b18;color:#dfe7de"><pre style="font:11px/1.45 'DejaVu Sans Mono',monospace;padding:14px;margin:0">` + html.EscapeString(string(text))
	err = chromedp.Do(ctx, chromedp.EmulateViewport(1600, 800),
		chromedp.Navigate("data:text/html;charset=utf-8,"+url.PathEscape(page)))
	if err != nil {
		return err
	}
	shot, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(picture, shot, 0o644)
}
