// Package browsertest starts headless Chromium for the tests of the console and for the pictures in docs.
package browsertest

import (
	"context"
	"fmt"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Width and Height are the size of the page: the smallest that the console is made for.
const (
	Width  = 1280
	Height = 800
)

// Start opens a browser with an empty profile. It looks for nothing outside this machine. cancel closes it.
func Start(parent context.Context) (ctx context.Context, cancel func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, fmt.Errorf("chromium is not installed; \"make setup-test\" installs Debian's: %w", err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(Width, Height), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("lang", "en"))
	alloc, stopAlloc := chromedp.NewExecAllocator(parent, options...)
	ctx, stop := chromedp.NewContext(alloc)
	cancel = func() { stop(); stopAlloc() }
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(Width, Height)); err != nil {
		cancel()
		return nil, nil, fmt.Errorf("start chromium: %w", err)
	}
	return ctx, cancel, nil
}
