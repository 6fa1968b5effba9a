// Package browser drives the console in headless Chromium, by what a person sees: labels, button texts, headings.
package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/log"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/serviceworker"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
)

// Path is where Debian's package puts the browser.
const Path = "/usr/lib/chromium/chromium"

// patience is how long a page may take to show what is waited for.
const patience = 30 * time.Second

// Browser is one running browser.
type Browser struct {
	ctx    context.Context
	cancel func()
}

// Start starts a browser. It reaches nothing but loopback.
func Start() (*Browser, error) {
	if _, err := os.Stat(Path); err != nil {
		return nil, fmt.Errorf("starting the browser: chromium of Debian is not installed: %w", err)
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(Path), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("hide-scrollbars", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("force-device-scale-factor", "1"),
		chromedp.Flag("font-render-hinting", "none"), chromedp.Flag("host-resolver-rules",
			"MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE 127.0.0.2, EXCLUDE localhost"))
	allocator, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(allocator)
	if err := chromedp.Do(ctx, chromedp.Navigate("about:blank")); err != nil {
		cancel()
		stop()
		return nil, fmt.Errorf("starting the browser: %w", err)
	}
	return &Browser{ctx: ctx, cancel: func() { cancel(); stop() }}, nil
}

// Close ends the browser.
func (b *Browser) Close() { b.cancel() }

// Page is one tab with cookies of its own.
type Page struct {
	ctx    context.Context
	Close  func()
	mu     sync.Mutex
	errors []string
	worker serviceworker.RegistrationID
	key    webauthn.AuthenticatorID
}

// NewPage opens a tab.
func (b *Browser) NewPage() (*Page, error) {
	p := &Page{}
	p.ctx, p.Close = chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext(), chromedp.WithListener(p.listen))
	return p, chromedp.Do(p.ctx, chromedp.EmulateViewport(1280, 800))
}

// Size sets how large the page is shown, in CSS pixels.
func (p *Page) Size(width, height int) error {
	return chromedp.Do(p.ctx, chromedp.EmulateViewport(int64(width), int64(height)))
}

// listen collects what the page writes to the console as an error; every violation of the content security policy is.
func (p *Page) listen(ev any) {
	text := ""
	switch e := ev.(type) {
	case *cdppage.EventJavascriptDialogOpening: // somebody who goes to another address has made up their mind
		go chromedp.Do(p.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			yes := cdppage.HandleJavaScriptDialogParams{Accept: true}
			_, err := cdp.Call(ctx, t, cdppage.HandleJavaScriptDialog, yes)
			return err
		}))
	case *serviceworker.EventWorkerRegistrationUpdated:
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, r := range e.Registrations {
			p.worker = r.RegistrationID
		}
		return
	case *runtime.EventExceptionThrown:
		text = e.ExceptionDetails.Text
		if e.ExceptionDetails.Exception != nil && e.ExceptionDetails.Exception.Description != "" {
			text += " " + e.ExceptionDetails.Exception.Description
		}
	case *log.EventEntryAdded:
		// A refused call is shown on the page; the browser's own line about its status is no fault of the page.
		if e.Entry.Level == log.EntryLevelError && e.Entry.Source != log.EntrySourceNetwork {
			text = e.Entry.Text
		}
	}
	if text != "" {
		p.mu.Lock()
		p.errors = append(p.errors, text)
		p.mu.Unlock()
	}
}

// Errors are what went wrong inside the page so far.
func (p *Page) Errors() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.errors...)
}

// SecurityKey plugs a security key in, which somebody touches whenever it is asked.
func (p *Page) SecurityKey() error {
	return chromedp.Do(p.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return err
		}
		made, err := cdp.Call(ctx, t, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
			Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
				Transport: webauthn.AuthenticatorTransportUsb, HasUserVerification: true, IsUserVerified: true,
				AutomaticPresenceSimulation: true}})
		if err == nil {
			p.key = made.AuthenticatorID
		}
		return err
	}))
}

// Fingers has the security key take the finger that touches it for its owner's, or for somebody else's.
func (p *Page) Fingers(own bool) error {
	return chromedp.Do(p.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, webauthn.SetUserVerified,
			webauthn.SetUserVerifiedParams{AuthenticatorID: p.key, IsUserVerified: own})
		return err
	}))
}

// Pushed has the worker of the page get a message, as a push service brings it, and returns what the phone then tells.
func (p *Page) Pushed(origin, text string) (string, error) {
	granted := cdpbrowser.SetPermissionParams{Permission: &cdpbrowser.PermissionDescriptor{Name: "notifications"},
		Setting: cdpbrowser.PermissionSettingGranted, Origin: origin}
	if c := chromedp.FromContext(p.ctx); c != nil {
		granted.BrowserContextID = c.BrowserContextID
	}
	err := chromedp.Do(p.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, cdpbrowser.SetPermission, granted); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, t, serviceworker.Enable, cdp.Empty{})
		return err
	}))
	if err != nil {
		return "", err
	}
	var id serviceworker.RegistrationID
	for end := time.Now().Add(patience); id == "" && time.Now().Before(end); time.Sleep(40 * time.Millisecond) {
		p.mu.Lock()
		id = p.worker
		p.mu.Unlock()
	}
	const told = `navigator.serviceWorker.ready.then((r) => r.getNotifications()).then((l) => l.map((n) => n.title +
		": " + n.body).join("; "))`
	for end := time.Now().Add(patience); ; time.Sleep(500 * time.Millisecond) {
		// brought again, since a worker that is only just installed misses it
		err := chromedp.Do(p.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, serviceworker.DeliverPushMessage,
				serviceworker.DeliverPushMessageParams{Origin: origin, RegistrationID: id, Data: text})
			return err
		}))
		if err != nil {
			return "", fmt.Errorf("bringing a message to worker %q: %w", id, err)
		}
		time.Sleep(200 * time.Millisecond)
		if shown, err := Eval[string](p, told); err != nil || shown != "" || time.Now().After(end) {
			return shown, err
		}
	}
}

// Open goes to an address.
// A page that is about to leave by itself, as after signing out, can take the place of this navigation; then it is
// tried anew.
func (p *Page) Open(url string) error {
	for tries := 1; ; tries++ {
		err := chromedp.Do(p.ctx, chromedp.Navigate(url))
		if err == nil || tries == 3 || !strings.Contains(err.Error(), "net::ERR_ABORTED") {
			return err
		}
	}
}

// Eval evaluates JavaScript to a value.
func Eval[T any](p *Page, script string) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
}

// Until evaluates a script until it is true.
func (p *Page) Until(what, script string) error {
	deadline := time.Now().Add(patience)
	for {
		ok, err := Eval[bool](p, script)
		if ok {
			return nil
		}
		if time.Now().After(deadline) {
			text, _ := p.Text()
			return fmt.Errorf("waited for %s (%v); the page says:\n%s", what, err, text)
		}
		time.Sleep(40 * time.Millisecond)
	}
}

// Text is everything that is visible.
func (p *Page) Text() (string, error) { return Eval[string](p, "document.body.innerText") }

// See waits until a text is visible.
func (p *Page) See(text string) error {
	return p.Until(fmt.Sprintf("%q", text), fmt.Sprintf("document.body.innerText.includes(%s)", quote(text)))
}

// Unsee waits until a text is gone.
func (p *Page) Unsee(text string) error {
	return p.Until(fmt.Sprintf("%q to go", text), fmt.Sprintf("!document.body.innerText.includes(%s)", quote(text)))
}

func quote(text string) string {
	out, _ := json.Marshal(text)
	return string(out)
}

// find is a function of the page that finds a visible element by role and name: the text of a button or link, the
// label of a field. The last one wins, since a dialog comes after the page it lies on.
const find = `(role, name) => {
  const shown = (e) => e.getClientRects().length > 0 && getComputedStyle(e).visibility !== "hidden";
  const kinds = {
    click: "button, a, summary, input[type=checkbox], [role=option], [role=checkbox], [role=combobox], label, tr[tabindex]",
    field: "input, textarea, select, [role=combobox]",
  };
  const label = (e) => e.getAttribute("aria-label") || (e.id && document.querySelector('label[for="' + CSS.escape(e.id) + '"]')?.innerText) || "";
  const all = [...document.querySelectorAll(kinds[role])].filter(shown);
  const text = (e) => (role === "field" ? label(e) : e.getAttribute("aria-label") || e.innerText).trim();
  const exact = all.filter((e) => text(e) === name || (role === "field" && e.placeholder === name));
  const hits = exact.length ? exact : all.filter((e) => text(e).startsWith(name));
  return hits.at(-1);
}`

func (p *Page) centre(role, name string) (x, y float64, err error) {
	script := fmt.Sprintf(
		`(() => { const e = (%s)(%q, %s); if (!e) return null; e.scrollIntoView({block: "nearest"}); const r = e.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()`,
		find,
		role,
		quote(name),
	)
	deadline := time.Now().Add(patience)
	var before []float64
	for {
		at, err := Eval[[]float64](p, script)
		if err == nil && len(at) == 2 && slices.Equal(at, before) { // what comes in late may still move it
			return at[0], at[1], nil
		}
		before = at
		if time.Now().After(deadline) {
			text, _ := p.Text()
			return 0, 0, fmt.Errorf("there is no %s %q; the page says:\n%s", role, name, text)
		}
		time.Sleep(40 * time.Millisecond)
	}
}

// Click clicks a button, link or row by its text.
func (p *Page) Click(name string) error {
	x, y, err := p.centre("click", name)
	if err != nil {
		return err
	}
	return chromedp.Do(p.ctx, chromedp.MouseClickXY(x, y))
}

// Fill replaces the value of a field by its label.
func (p *Page) Fill(label, value string) error {
	x, y, err := p.centre("field", label)
	if err != nil {
		return err
	}
	return chromedp.Do(p.ctx, chromedp.MouseClickXY(x, y),
		chromedp.Evaluate[chromedp.Void]("document.activeElement.select?.()"),
		chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			if value == "" {
				return chromedp.Do(p.ctx, chromedp.KeyEvent("\b"))
			}
			_, err := cdp.Call(ctx, t, input.InsertText, input.InsertTextParams{Text: value})
			return err
		}))
}

// Choose picks an option of a list by its label.
func (p *Page) Choose(label, option string) error {
	x, y, err := p.centre("field", label)
	if err != nil {
		return err
	}
	native, err := Eval[bool](p,
		fmt.Sprintf(`(() => { const e = (%s)("field", %s); if (e.tagName !== "SELECT") return false;
	  const o = [...e.options].find((o) => o.text.startsWith(%s)); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(e, o.value);
	  e.dispatchEvent(new Event("change", {bubbles: true})); return true; })()`, find, quote(label), quote(option)))
	if err != nil || native {
		return err
	}
	if err := chromedp.Do(p.ctx, chromedp.MouseClickXY(x, y)); err != nil {
		return err
	}
	if err := p.Until("the list", `!!document.querySelector("[role=option]")`); err != nil {
		return err
	}
	return p.takes(func() error { return p.Click(option) })
}

// takes takes an option until the list closes: it takes nothing while it is still being placed, and a person would try
// again.
func (p *Page) takes(option func() error) error {
	for deadline := time.Now().Add(patience); ; {
		if err := option(); err != nil {
			return err
		}
		for range 25 {
			if closed, err := Eval[bool](p, `!document.querySelector("[role=option]")`); closed || err != nil {
				return err
			}
			time.Sleep(40 * time.Millisecond)
		}
		if time.Now().After(deadline) {
			return p.Until("the list to close", `!document.querySelector("[role=option]")`)
		}
	}
}

// Pick opens the list that has the focus by Enter, and takes an option by typing its name: what is typed with a pause
// of a second between two letters finds something else, so it is typed again until the option stands out.
func (p *Page) Pick(option string) error {
	if err := p.Press("\r"); err != nil {
		return err
	}
	if err := p.Until("the list", `!!document.querySelector("[role=option]")`); err != nil {
		return err
	}
	stands := fmt.Sprintf(`document.querySelector("[role=option][data-highlighted]")?.innerText.startsWith(%s)`,
		quote(option))
	for deadline := time.Now().Add(patience); ; {
		if err := p.Press(option); err != nil {
			return err
		}
		time.Sleep(300 * time.Millisecond)
		if there, err := Eval[bool](p, stands+" ?? false"); there || err != nil {
			break
		}
		if time.Now().After(deadline) {
			return p.Until("the option "+option+" to stand out", stands+" ?? false")
		}
		time.Sleep(time.Second)
	}
	return p.takes(func() error { return p.Press("\r") })
}

// Press sends keys to whatever has the focus.
func (p *Page) Press(keys string) error { return chromedp.Do(p.ctx, chromedp.KeyEvent(keys)) }

// Focus puts the focus on a button or field by its name, until it stays there: a list that is still closing takes it
// back.
func (p *Page) Focus(name string) error {
	script := fmt.Sprintf(
		`(async () => { const find = %s; const e = find("click", %s) ?? find("field", %s); if (!e) return false; e.focus();
	  await new Promise((ok) => setTimeout(ok, 120)); return document.activeElement === e; })()`,
		find,
		quote(name),
		quote(name),
	)
	return p.Until("something to focus called "+name, script)
}

// Shot takes a picture of what is visible, after fonts and two frames.
func (p *Page) Shot(file string) error {
	if _, err := Eval[bool](p,
		`document.fonts.ready.then(() => new Promise((ok) => requestAnimationFrame(() => requestAnimationFrame(() => ok(true)))))`); err != nil {
		return err
	}
	png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}

// Axe runs rules of axe-core on the page, all that there are if none is named, and returns their serious findings.
func (p *Page) Axe(source string, rules ...string) ([]string, error) {
	if _, err := Eval[bool](p, source+"; true"); err != nil {
		return nil, err
	}
	only := ""
	if len(rules) > 0 {
		names, _ := json.Marshal(rules)
		only = ", runOnly: {type: \"rule\", values: " + string(names) + "}"
	}
	text, err := Eval[string](p, `axe.run(document, {resultTypes: ["violations"]`+only+`}).then((r) => r.violations
		.filter((v) => v.impact === "serious" || v.impact === "critical")
		.map((v) => v.id + ": " + v.help + " " +
			v.nodes.slice(0, 3).map((n) => n.html + " " + (n.any[0]?.message ?? "")).join(" | ")).join("\n"))`)
	if text == "" {
		return nil, err
	}
	return strings.Split(text, "\n"), err
}
