// Package browse drives the console in headless Chromium as a person would: by what is
// written on the page.
//
// Its nouns are a [Browser] and a [Window] in it. The smallest use:
//
//	b, err := browse.Start()
//	defer b.Close()
//	w, err := b.Window(1280, 800)
//	w.Go(url).Fill("E-mail", "ida.holm@pinecrest.example").Click("Sign in").See("Board")
//	err = w.Err()
package browse

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

//go:embed page.js
var pageScript string

// ErrNoChromium is returned where there is no Chromium on this machine.
var ErrNoChromium = errors.New("there is no Chromium: install it (apt-get install chromium)")

// Patience is how long a window waits for something to appear.
const Patience = 25 * time.Second

// Browser is a running headless Chromium with a profile of its own.
type Browser struct {
	ctx     context.Context
	cancels []func()
	dir     string
}

// OtherHost is this machine under a name that browsers trust no more than any other.
const OtherHost = "console.pinecrest.example"

// Start starts a browser.
func Start() (*Browser, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, ErrNoChromium
	}
	dir, err := os.MkdirTemp("", "gl-chromium-")
	if err != nil {
		return nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.UserDataDir(dir),
		chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("host-resolver-rules", "MAP "+OtherHost+" 127.0.0.1"))
	for _, name := range []string{"disable-quic", "disable-background-networking", "disable-component-update",
		"disable-sync", "no-first-run", "disable-dev-shm-usage"} {
		options = append(options, chromedp.Flag(name, true))
	}
	allocator, end := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, close_ := chromedp.NewContext(allocator, chromedp.WithErrorf(func(string, ...any) {}))
	b := &Browser{ctx: ctx, dir: dir, cancels: []func(){close_, end}}
	if err := chromedp.Do(ctx); err != nil {
		b.Close()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	return b, nil
}

// Close ends the browser and removes its profile.
func (b *Browser) Close() {
	for _, c := range b.cancels {
		c()
	}
	for range 50 { // its processes may still write for a moment
		if os.RemoveAll(b.dir) == nil {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Window is one window with cookies of its own. Its methods do nothing once one of them
// failed; [Window.Err] tells what did.
type Window struct {
	ctx    context.Context
	cancel func()
	err    error
}

// Window opens a window of a size in pixels.
func (b *Browser) Window(width, height int) (*Window, error) {
	ctx, cancel := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	w := &Window{ctx: ctx, cancel: cancel}
	if w.err = chromedp.Do(ctx); w.err != nil { // the tab lives as long as the context that opens it
		return w, w.err
	}
	// A page that asks whether it may be left is told that it may.
	if w.err = chromedp.Listen(ctx, w.mayLeave); w.err != nil {
		return w, w.err
	}
	w.do("open a window", chromedp.EmulateViewport(int64(width), int64(height)))
	return w, w.err
}

func (w *Window) mayLeave(ev any) {
	if _, is := ev.(*page.EventJavascriptDialogOpening); !is {
		return
	}
	go func() { // the listener itself may not ask
		_ = chromedp.Do(w.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{Accept: true})
			return err
		})) // a window that is gone has no dialog
	}()
}

// Close closes the window.
func (w *Window) Close() { w.cancel() }

// Err is what failed first.
func (w *Window) Err() error { return w.err }

func (w *Window) do(what string, steps ...chromedp.Action[chromedp.Void]) *Window {
	if w.err != nil {
		return w
	}
	ctx, cancel := context.WithTimeout(w.ctx, Patience)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		w.err = fmt.Errorf("%s: %w", what, err)
	}
	return w
}

// Dark makes the window ask for dark pages.
func (w *Window) Dark() *Window {
	return w.do("ask for dark", chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia,
			emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme",
				Value: "dark"}}})
		return err
	}))
}

// Zone has the window be in a time zone, such as Pacific/Honolulu.
func (w *Window) Zone(name string) *Window {
	return w.do("be in "+name, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetTimezoneOverride,
			emulation.SetTimezoneOverrideParams{TimezoneID: name})
		return err
	}))
}

// Go opens an address.
func (w *Window) Go(url string) *Window { return w.do("open "+url, chromedp.Navigate(url)) }

// page calls a function of page.js until it gives something, and returns that.
func (w *Window) page(what, call string, args ...any) string {
	if w.err != nil {
		return ""
	}
	list := ""
	for i, a := range args {
		raw, err := json.Marshal(a)
		if err != nil {
			w.err = err
			return ""
		}
		if i > 0 {
			list += ","
		}
		list += string(raw)
	}
	expression := fmt.Sprintf("(() => { %s; return %s(%s); })()", pageScript, call, list)
	ctx, cancel := context.WithTimeout(w.ctx, Patience+time.Second)
	defer cancel()
	ask := chromedp.Poll[string](expression, chromedp.WithPollingInterval(20*time.Millisecond),
		chromedp.WithPollingTimeout(Patience))
	out, err := chromedp.Run(ctx, ask)
	for err != nil && ctx.Err() == nil && loadedAnew(err) {
		out, err = chromedp.Run(ctx, ask)
	}
	if err != nil {
		short, stop := context.WithTimeout(w.ctx, 2*time.Second)
		defer stop()
		seen, _ := chromedp.Run(short, chromedp.Evaluate[string](
			"`(${document.title} ${document.visibilityState}, at ${location.pathname + location.search})\n${document.body.innerText}`"))
		w.err = fmt.Errorf("%s: %w; the page says:\n%s", what, err, seen)
	}
	return out
}

// loadedAnew is whether a call failed only because the page was left for another one.
func loadedAnew(err error) bool {
	return strings.Contains(err.Error(), "navigated") || strings.Contains(err.Error(), "Cannot find context")
}

// Click clicks the button, link or box that is labelled so: with the mouse, where a person would. What is
// covered, disabled or out of reach can't be clicked.
func (w *Window) Click(label string) *Window {
	w.hit("click "+label, "place", label)
	return w
}

// hit clicks where a function of page.js aims, and aims again if it moved away before the click came, as what
// stands below something that is still being read may.
func (w *Window) hit(what, aim, label string) {
	for range 10 {
		at := w.page(what, aim, label)
		var x, y float64
		if w.err != nil {
			return
		}
		if _, err := fmt.Sscanf(at, "%g %g", &x, &y); err != nil {
			w.err = fmt.Errorf("%s: no place: %q", what, at)
			return
		}
		w.do(what, chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x, y), chromedp.MouseClickXY(x, y))
		if w.err != nil || w.landed() {
			return
		}
	}
	w.err = fmt.Errorf("%s: it moves away from every click", what)
}

// landed is whether the click hit what was aimed at. A page that was left for another one was hit.
func (w *Window) landed() bool {
	ctx, cancel := context.WithTimeout(w.ctx, Patience)
	defer cancel()
	out, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf("(() => { %s; return landed(); })()",
		pageScript)))
	return err != nil || out == "hit"
}

// Fill types into the field that is labelled so, in place of what is there.
func (w *Window) Fill(label, text string) *Window {
	what := "fill " + label
	kind := w.page(what, "field", label)
	if w.err != nil {
		return w
	}
	switch kind {
	case "list", "set": // the browser's own pickers are no part of the page
		w.page(what, "set", label, text)
		return w
	case "combobox":
		return w.pick(what, label, text)
	}
	w.hit(what, "fieldPlace", label)
	w.page(what, "selectAll")
	if text == "" {
		return w.Press("Backspace")
	}
	// What does not come from one key is put in at once, as by pasting.
	typed := chromedp.KeyEvent(text)
	if len(text) > 60 || strings.ContainsFunc(text, func(r rune) bool { return r > 126 || r < 32 }) {
		typed = chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, input.InsertText, input.InsertTextParams{Text: text})
			return err
		})
	}
	w.do(what, typed)
	w.page(what, "holds", label, text)
	return w
}

// pick opens a list that one types into, and takes what is found.
func (w *Window) pick(what, label, option string) *Window {
	w.hit(what, "fieldPlace", label)
	w.page(what, "field", "find: "+label)
	if w.err == nil {
		w.do(what, chromedp.KeyEvent(option))
	}
	w.page(what, "holds", "find: "+label, option)
	return w.Click(option)
}

// Choose picks an option of the list that is labelled so.
func (w *Window) Choose(label, option string) *Window { return w.Fill(label, option) }

// keys are those that have no letter.
var keys = map[string]string{"Enter": kb.Enter, "Escape": kb.Escape, "Tab": kb.Tab, "Backspace": kb.Backspace,
	"ArrowLeft": kb.ArrowLeft, "ArrowRight": kb.ArrowRight, "ArrowUp": kb.ArrowUp, "ArrowDown": kb.ArrowDown}

// Press presses a key, such as Tab, with the modifiers that stand before it: Ctrl+k, Shift+Tab.
func (w *Window) Press(key string) *Window {
	var options []chromedp.KeyOption
	for {
		before, after, is := strings.Cut(key, "+")
		if !is || after == "" {
			break
		}
		modifier, known := map[string]chromedp.Modifier{"Ctrl": chromedp.ModifierCtrl, "Shift": chromedp.ModifierShift,
			"Alt": chromedp.ModifierAlt}[before]
		if !known {
			break
		}
		options, key = append(options, chromedp.KeyModifiers(modifier)), after
	}
	if named, is := keys[key]; is {
		key = named
	}
	return w.do("press "+key, chromedp.KeyEvent(key, options...))
}

// Focused is the accessible name of what has the focus, or its text.
func (w *Window) Focused() string { return w.page("what has the focus", "focused") }

// See waits until the text stands on the page.
func (w *Window) See(text string) *Window {
	w.page("see "+text, "see", text)
	return w
}

// SeeIn waits until the text stands in the part of the page that is labelled or headed so.
func (w *Window) SeeIn(label, text string) *Window {
	w.page("see "+text+" in "+label, "seeIn", label, text)
	return w
}

// Gone waits until the text stands nowhere on the page.
func (w *Window) Gone(text string) *Window {
	w.page("no more "+text, "gone", text)
	return w
}

// Text gives the text of the element with a test id.
func (w *Window) Text(testID string) string {
	return w.page("read "+testID, "text", testID)
}

// ScriptTime is how long the page's scripts have run since it was opened, in seconds.
func (w *Window) ScriptTime() (float64, error) {
	if w.err != nil {
		return 0, w.err
	}
	var seconds float64
	err := chromedp.Do(w.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, performance.Enable, performance.EnableParams{}); err != nil {
			return err
		}
		got, err := cdp.Call(ctx, t, performance.GetMetrics, cdp.Empty{})
		if err != nil {
			return err
		}
		for _, m := range got.Metrics {
			if m.Name == "ScriptDuration" {
				seconds = m.Value
			}
		}
		return nil
	}))
	return seconds, err
}

// Shot takes a picture of what the window shows, as PNG.
func (w *Window) Shot() ([]byte, error) {
	if w.err != nil {
		return nil, w.err
	}
	return chromedp.Run(w.ctx, chromedp.CaptureScreenshot())
}

// Eval evaluates an expression of JavaScript that gives text.
func (w *Window) Eval(expression string) string {
	if w.err != nil {
		return ""
	}
	out, err := chromedp.Run(w.ctx, chromedp.Evaluate[string](expression))
	if err != nil {
		w.err = fmt.Errorf("evaluate: %w", err)
	}
	return out
}
