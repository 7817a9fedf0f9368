// Package browsertest starts headless Chromium for the tests of the console and for the pictures in docs.
package browsertest

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"time"

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

// Click clicks what a CSS selector or an XPath finds, as a person does: when it is there, may be clicked, stands still and nothing
// covers it. A click that the page moved away under, so that it reached something else or nothing, is made again.
func Click(selector string) chromedp.Action[chromedp.Void] {
	watch := chromedp.Evaluate[chromedp.Void](`(() => { ` + find(selector) + `
		window.clickReached = false;
		document.addEventListener('click', e => { window.clickReached = all().some(one => one.contains(e.target)) }, {capture: true, once: true});
	})()`)
	return whenReady(selector, func(ctx context.Context, t *chromedp.Target, at place) (bool, error) {
		if _, err := watch(ctx, t); err != nil {
			return false, nil
		}
		if _, err := chromedp.MouseClickXY(at.X, at.Y)(ctx, t); err != nil {
			return false, err
		}
		missed, err := chromedp.Evaluate[bool](`window.clickReached === false`)(ctx, t)
		return !missed || err != nil, nil // an error: the click left the page
	})
}

// Type types a text into what a selector finds.
func Type(selector, text string) chromedp.Action[chromedp.Void] {
	focus := chromedp.Evaluate[bool](`(() => { ` + find(selector) + `
		all()[0]?.focus();
		return all()[0] === document.activeElement;
	})()`)
	return whenReady(selector, func(ctx context.Context, t *chromedp.Target, _ place) (bool, error) {
		if has, err := focus(ctx, t); err != nil || !has {
			return false, nil
		}
		_, err := chromedp.KeyEvent(text)(ctx, t)
		return true, err
	})
}

// place is where an element is seen, or why it can't be used yet.
type place struct {
	X, Y float64
	Not  string
}

// whenReady does an act where a selector's element is, again until it is done.
func whenReady(selector string, act func(context.Context, *chromedp.Target, place) (bool, error)) chromedp.Action[chromedp.Void] {
	look := chromedp.Evaluate[place](`(async () => { `+find(selector)+`
		const frame = () => new Promise(done => requestAnimationFrame(done));
		const element = all()[0];
		if (!element) return {Not: 'is not there'};
		if (element.disabled) return {Not: 'is disabled'};
		element.scrollIntoView({block: 'nearest', inline: 'nearest'});
		const was = element.getClientRects()[0];
		await frame();
		await frame();
		const is = element.getClientRects()[0];
		if (!is || was.x !== is.x || was.y !== is.y) return {Not: 'does not stand still'};
		// What is taller than its pane is used at a place that is seen.
		const left = Math.max(is.left, 0), right = Math.min(is.right, innerWidth);
		const top = Math.max(is.top, 0), bottom = Math.min(is.bottom, innerHeight);
		for (const part of [1/2, 1/4, 3/4, 1/16]) {
			const X = left + (right - left) * part, Y = top + (bottom - top) * part;
			if (element.contains(document.elementFromPoint(X, Y))) return {X, Y};
		}
		return {Not: 'is covered'};
	})()`, chromedp.EvalAwaitPromise)
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		why := "is never drawn"
		for {
			at, err := look(ctx, t)
			if err == nil && at.Not == "" {
				if done, err := act(ctx, t, at); done || err != nil {
					return err
				}
				at.Not = "moves away"
			}
			if err == nil {
				why = at.Not
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("%s %s: %w", selector, why, ctx.Err())
			case <-time.After(20 * time.Millisecond):
			}
		}
	})
}

// find is JavaScript: all() gives the elements of a selector that are drawn.
func find(selector string) string {
	quoted, _ := json.Marshal(selector)
	return `const all = () => {
		const selector = ` + string(quoted) + `, found = [];
		if (/^[(/]/.test(selector)) {
			const each = document.evaluate(selector, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE);
			for (let i = 0; i < each.snapshotLength; i++) found.push(each.snapshotItem(i));
		} else found.push(...document.querySelectorAll(selector));
		return found.filter(one => one.getClientRects().length > 0);
	};`
}
