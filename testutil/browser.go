package testutil

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// actTime bounds one thing that a page does, and one wait for it: a page may be
// looked at for as long as its test takes.
const actTime = time.Minute

// Browser is a headless Chromium, shared by the pages of a test.
type Browser struct{ ctx context.Context }

// NewBrowser starts Chromium and stops it after the test.
func NewBrowser(tb testing.TB) *Browser {
	tb.Helper()
	opts := append(slices.Clone(chromedp.DefaultExecAllocatorOptions[:]),
		chromedp.Flag("headless", "new"), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("disable-dev-shm-usage", true),
		chromedp.UserDataDir(filepath.Join(Dir(tb), "chromium")))
	alloc, stopAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, stop := chromedp.NewContext(alloc)
	tb.Cleanup(func() {
		stop()
		stopAlloc()
	})
	if err := chromedp.Do(ctx); err != nil {
		tb.Fatalf("Chromium does not start (make setup installs it): %v", err)
	}
	return &Browser{ctx}
}

// Page is one tab. Errors in its console fail the test.
type Page struct {
	tb   testing.TB
	ctx  context.Context
	base string

	mu     sync.Mutex
	errors []string
}

// Page opens a tab with cookies of its own. base stands before every address.
func (b *Browser) Page(tb testing.TB, base string) *Page {
	tb.Helper()
	ctx, stop := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	p := &Page{tb: tb, ctx: ctx, base: base}
	tb.Cleanup(func() {
		stop()
		for _, e := range p.Errors() {
			tb.Errorf("the page's console: %s", e)
		}
	})
	// The first action makes the tab, which lives as long as the context of that action.
	p.check(chromedp.Do(p.ctx, chromedp.EmulateViewport(1280, 800)))
	if err := chromedp.Listen(ctx, p.listen); err != nil {
		tb.Fatal(err)
	}
	_, err := chromedp.Call(ctx, log.Enable, cdp.Empty{})
	p.check(err)
	return p
}

// act is the time limit of one thing that the page does.
func (p *Page) act() (context.Context, context.CancelFunc) {
	return context.WithTimeout(p.ctx, actTime)
}

// listen keeps what the browser complains of: errors of scripts and of the
// content policy. Answers of 4xx are the API's normal way of saying no.
func (p *Page) listen(ev any) {
	text := ""
	switch e := ev.(type) {
	case *log.EventEntryAdded:
		if e.Entry.Level == log.EntryLevelError &&
			!strings.Contains(e.Entry.Text, "the server responded with a status of 4") {
			text = e.Entry.Text + " " + e.Entry.URL
		}
	case *runtime.EventExceptionThrown:
		text = e.ExceptionDetails.Text
		if e.ExceptionDetails.Exception != nil {
			text += " " + e.ExceptionDetails.Exception.Description
		}
	}
	if text != "" {
		p.mu.Lock()
		p.errors = append(p.errors, text)
		p.mu.Unlock()
	}
}

// Errors are the complaints so far; reading them clears them.
func (p *Page) Errors() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := p.errors
	p.errors = nil
	return out
}

func (p *Page) check(err error) {
	p.tb.Helper()
	if err == nil {
		return
	}
	if errors.Is(err, context.DeadlineExceeded) {
		p.tb.Fatalf("the page took too long; it shows: %.700s", p.text())
	}
	p.tb.Fatal(err)
}

func (p *Page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.tb.Helper()
	ctx, cancel := p.act()
	defer cancel()
	p.check(chromedp.Do(ctx, steps...))
}

// text is what the page shows, asked for with a time limit of its own.
func (p *Page) text() string {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(p.ctx), 3*time.Second)
	defer cancel()
	text, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("(document.body?.innerText ?? '')"))
	return text
}

// Open goes to an address.
func (p *Page) Open(path string) {
	p.tb.Helper()
	p.do(chromedp.Navigate(p.base + path))
}

// Size sets the window.
func (p *Page) Size(width, height int64) { p.do(chromedp.EmulateViewport(width, height)) }

// Dark makes the system prefer dark colours, or not.
func (p *Page) Dark(on bool) {
	value := "light"
	if on {
		value = "dark"
	}
	ctx, cancel := p.act()
	defer cancel()
	_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia,
		emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme",
			Value: value}}})
	p.check(err)
}

// Click clicks with the mouse on the first element that fits, once it is there
// and keeps its place.
func (p *Page) Click(css string) {
	p.tb.Helper()
	where := fmt.Sprintf("(() => { const e = document.querySelector(%q); if (!e) return ''; const r = e.getBoundingClientRect(); return [r.x, r.y, r.width].join() })()", css)
	last := ""
	for deadline := time.Now().Add(actTime); ; {
		now := p.EvalText("new Promise((f) => setTimeout(() => f(" + where + "), 60))")
		if now != "" && now == last {
			break
		}
		if time.Now().After(deadline) {
			p.tb.Fatalf("%s is not there, or never at rest; the page shows: %.700s", css, p.text())
		}
		last = now
	}
	p.do(chromedp.Click(chromedp.CSS(css), chromedp.NodeVisible))
}

// Type puts text into a field in place of what is there, key by key.
func (p *Page) Type(css, text string) {
	p.tb.Helper()
	p.do(chromedp.Focus(chromedp.CSS(css), chromedp.NodeVisible))
	p.Eval(fmt.Sprintf("(document.querySelector(%q).select(), true)", css))
	p.do(chromedp.KeyEvent(text))
}

// Select chooses an option by its value, as a person does: the page hears of it.
func (p *Page) Select(css, value string) {
	p.tb.Helper()
	p.Eval(fmt.Sprintf(`(() => { const s = document.querySelector(%q); const o = [...s.options].find((o) => o.value === %[2]q || o.text === %[2]q);
		s.value = o.value; o.selected = true; s.dispatchEvent(new Event('change', {bubbles: true})); return true })()`,
		css, value))
}

// Eval runs an expression that gives true or false.
func (p *Page) Eval(js string) bool {
	p.tb.Helper()
	ctx, cancel := p.act()
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[bool](js))
	p.check(err)
	return v
}

// EvalText runs an expression that gives text.
func (p *Page) EvalText(js string) string {
	p.tb.Helper()
	ctx, cancel := p.act()
	defer cancel()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[string](js, chromedp.EvalAwaitPromise))
	p.check(err)
	return v
}

// Wait waits until an expression is true.
func (p *Page) Wait(what, js string) {
	p.tb.Helper()
	deadline := time.Now().Add(actTime)
	tick := time.NewTicker(30 * time.Millisecond)
	defer tick.Stop()
	for !p.Eval("!!(" + js + ")") {
		if time.Now().After(deadline) {
			p.tb.Fatalf("waited for %s; the page shows: %.700s", what, p.text())
		}
		<-tick.C
	}
}

// WaitText waits until the page shows a text.
func (p *Page) WaitText(text string) {
	p.tb.Helper()
	p.Wait("the text "+text, fmt.Sprintf("(document.body?.innerText ?? '').includes(%q)", text))
}

// Has reports whether an element that fits is there.
func (p *Page) Has(css string) bool {
	p.tb.Helper()
	return p.Eval(fmt.Sprintf("!!document.querySelector(%q)", css))
}

// Shot writes a picture of the window.
func (p *Page) Shot(file string) {
	p.tb.Helper()
	ctx, cancel := p.act()
	defer cancel()
	res, err := chromedp.Call(ctx, page.CaptureScreenshot, page.CaptureScreenshotParams{})
	p.check(err)
	if err := os.WriteFile(file, res.Data, 0o644); err != nil {
		p.tb.Fatal(err)
	}
}

// Axe fails the test for every serious or critical finding of axe-core.
func (p *Page) Axe(where string) {
	p.tb.Helper()
	p.axe(where, "resultTypes: ['violations']")
}

// AxeColours looks at colours alone: whether what is read stands out enough.
func (p *Page) AxeColours(where string) {
	p.tb.Helper()
	p.axe(where, "resultTypes: ['violations'], runOnly: ['color-contrast']")
}

func (p *Page) axe(where, options string) {
	p.tb.Helper()
	script, err := os.ReadFile(filepath.Join(Root(), "console/node_modules/axe-core/axe.min.js"))
	if err != nil {
		p.tb.Fatal(err)
	}
	ctx, cancel := p.act()
	defer cancel()
	there, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("typeof axe !== 'undefined'"))
	p.check(err)
	if !there {
		_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](string(script)+"\n;true"))
		p.check(err)
	}
	// Colours that are still on their way to others are not judged.
	text, err := chromedp.Run(ctx,
		chromedp.Evaluate[string](`Promise.allSettled(document.getAnimations().filter((a) => a.effect.getComputedTiming().endTime !== Infinity).map((a) => a.finished))
		.then(() => axe.run(document, {`+options+`})).then((r) => JSON.stringify(r.violations.map((v) =>
		({id: v.id, impact: v.impact, help: v.help, nodes: v.nodes.slice(0, 3).map((n) => n.html + ' ' + n.failureSummary)}))))`, chromedp.EvalAwaitPromise))
	p.check(err)
	var found []struct {
		ID, Impact, Help string
		Nodes            []string
	}
	if err := json.Unmarshal([]byte(text), &found); err != nil {
		p.tb.Fatal(err)
	}
	for _, f := range found {
		if f.Impact == "serious" || f.Impact == "critical" {
			p.tb.Errorf("%s: axe finds %s (%s): %s", where, f.ID, f.Help, strings.Join(f.Nodes, "\n  "))
		}
	}
}

// SignIn signs in to the console.
func (p *Page) SignIn(name, password string) {
	p.tb.Helper()
	p.Open("/")
	p.Type("input[name=name]", name)
	p.Type("input[name=password]", password)
	p.Click("main form button")
	p.Wait("the fleet", "document.querySelector('nav')")
}

// Press presses a key, or types a text, wherever the focus is.
func (p *Page) Press(keys string) {
	p.tb.Helper()
	p.do(chromedp.KeyEvent(keys))
}

// maxTabs bounds how far the focus is moved on in search of something.
const maxTabs = 250

// TabTo moves the focus on with the Tab key until it is on what fits.
func (p *Page) TabTo(css string) {
	p.tb.Helper()
	p.Wait(css, fmt.Sprintf("document.querySelector(%q)", css))
	for range maxTabs {
		if p.Eval(fmt.Sprintf("document.activeElement.matches(%q)", css)) {
			return
		}
		p.Press(kb.Tab)
	}
	p.tb.Fatalf("the Tab key never comes to %s; the page shows: %.700s", css, p.text())
}
