// Package browser drives headless Chromium for the tests of the console and
// for the pictures in the documentation.
package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
)

// Browser is one headless Chromium with one page.
type Browser struct {
	ctx    context.Context
	cancel []context.CancelFunc
	dir    string
}

// stepTimeout bounds each thing that the browser is asked to do.
const stepTimeout = 20 * time.Second

// Start starts Chromium with an empty profile.
func Start(ctx context.Context) (*Browser, error) {
	dir, err := os.MkdirTemp("", "ferry-browser-")
	if err != nil {
		return nil, err
	}
	path := os.Getenv("CHROMIUM")
	if path == "" {
		path = "/usr/bin/chromium"
	}
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx,
		chromedp.ExecPath(path), chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("hide-scrollbars", true), chromedp.UserDataDir(dir), chromedp.WindowSize(1280, 800))
	page, stopPage := chromedp.NewContext(allocator)
	b := &Browser{ctx: page, cancel: []context.CancelFunc{stopPage, stopAllocator}, dir: dir}
	if err := chromedp.Do(page); err != nil {
		b.Close()
		return nil, fmt.Errorf("start %s: %w", path, err)
	}
	return b, nil
}

// Close ends Chromium.
func (b *Browser) Close() {
	for _, stop := range b.cancel {
		stop()
	}
	os.RemoveAll(b.dir)
}

func (b *Browser) step() (context.Context, context.CancelFunc) {
	return context.WithTimeout(b.ctx, stepTimeout)
}

// Open goes to a page and waits until it is loaded.
func (b *Browser) Open(url string) error {
	ctx, cancel := b.step()
	defer cancel()
	return chromedp.Do(ctx, chromedp.Navigate("about:blank"), chromedp.Navigate(url))
}

// Size sets the size of the window's inside.
func (b *Browser) Size(width, height int) error {
	ctx, cancel := b.step()
	defer cancel()
	return chromedp.Do(ctx, chromedp.EmulateViewport(int64(width), int64(height)))
}

// Run runs JavaScript and drops its value.
func (b *Browser) Run(script string) error {
	return b.Eval("(() => {"+script+"; return null})()", nil)
}

// Eval evaluates an expression, which may be a promise, and reads its JSON
// value into out.
func (b *Browser) Eval(expression string, out any) error {
	ctx, cancel := b.step()
	defer cancel()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string]("Promise.resolve("+expression+").then(v => JSON.stringify(v === undefined ? null : v))", chromedp.EvalAwaitPromise))
	if err != nil {
		return fmt.Errorf("%s: %w", expression, err)
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal([]byte(text), out)
}

// Picture returns a PNG of what is visible.
func (b *Browser) Picture() ([]byte, error) {
	ctx, cancel := b.step()
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}

// Type sends keys to what has the focus.
func (b *Browser) Type(keys string) error {
	ctx, cancel := b.step()
	defer cancel()
	return chromedp.Do(ctx, chromedp.KeyEvent(keys))
}

// Wait waits until an expression is true.
func (b *Browser) Wait(expression string) error {
	deadline := time.Now().Add(stepTimeout)
	for {
		var ok bool
		err := b.Eval("!!("+expression+")", &ok)
		if err == nil && ok {
			return nil
		}
		if time.Now().After(deadline) {
			var text string
			b.Eval("document.body.innerText", &text)
			return fmt.Errorf("not true in time: %s (%v); the page says: %s", expression, err, text)
		}
		time.Sleep(50 * time.Millisecond)
	}
}
