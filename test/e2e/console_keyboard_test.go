package e2e

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"tollgate.example/key/test/e2e/browser"
)

// watchFocus notes where the focus goes, and what Tab has to reach in the page.
const watchFocus = `(() => {
	const main = document.querySelector("[role=dialog]") ?? document.querySelector("main");
	main.querySelectorAll("details").forEach((d) => (d.open = true));
	const tabbable = (e) => e.tabIndex >= 0 && !e.disabled && !e.closest("[inert], [aria-hidden=true]") &&
		e.checkVisibility() && !(e.type === "radio" && !e.checked && e.form === null &&
			document.querySelector('input[type=radio][name="' + e.name + '"]:checked'));
	window.toReach = () => [...main.querySelectorAll("a[href], button, input, select, textarea, summary, [tabindex]")]
		.filter(tabbable);
	window.reached = []; window.badly = [];
	const name = (e) => e.ariaLabel || (e.id && document.querySelector('label[for="' + e.id + '"]')?.innerText) ||
		e.innerText?.slice(0, 40) || e.tagName;
	window.nameOf = name;
	document.addEventListener("focusin", (ev) => {
		const e = ev.target;
		if (!main.contains(e)) return;
		reached.push(e);
		requestAnimationFrame(() => {
			if (document.activeElement !== e) return;
			const box = e.getBoundingClientRect(), look = getComputedStyle(e);
			if (box.bottom <= 0 || box.top >= innerHeight) badly.push(name(e) + " is out of sight");
			if (look.outlineStyle === "none" && look.boxShadow === "none" && !e.matches("[class*=focus]"))
				badly.push(name(e) + " does not show that it has the focus");
		});
	});
	return true;
})()`

// missedFocus tells what Tab did not reach, and what it reached in another order than it stands there.
const missedFocus = `new Promise((ok) => setTimeout(() => {
	const wanted = toReach(), out = [...badly];
	for (const e of wanted) if (!reached.includes(e)) out.push(nameOf(e) + " is not reached");
	const first = [...new Set(reached)].filter((e) => e.isConnected);
	// the focus may begin in the middle, so once it starts over
	let over = false;
	for (let i = 1; i < first.length; i++)
		if (first[i - 1].compareDocumentPosition(first[i]) & Node.DOCUMENT_POSITION_PRECEDING &&
			(over || !(over = true)))
			out.push(nameOf(first[i]) + " comes after " + nameOf(first[i - 1]));
	ok([...new Set(out)].join("; "));
}, 60))`

// Every form is gone through by Tab alone: each field and button is reached, in its order, in sight, and seen to have
// the focus; nothing takes it back.
func TestEveryFormByTabAlone(t *testing.T) {
	w := lantern(t)
	p := pageSteps{signedIn(t, w)}
	for path, text := range map[string]string{"/clients/new": "Shared secret", "/clients/hh-firewall-1": "Addresses",
		"/directories/new": "Test now", "/expectations/new": "Name sent", "/overrides/new": "Gets the pass",
		"/remotes/new": "Shared secret", "/feeds/new": "What is sent", "/command-lists/operators": "Type commands",
		"/people/harbour.emergency": "Seal with", "/pools/new": "One per line", "/calendars/new": "Holidays",
		"/vendors/new": "Enterprise number", "/lanes/new": "Methods, the preferred",
		"/passes/new":      "What the device gets",
		"/factors?enrol=x": "Show QR code", "/realms/new": "Lookup order", "/devices/new": "MAC address or prefix",
		"/certificates/new": "Where it comes from", "/authorities/new": "Where it comes from",
		"/trusts/new": "Revocation lists", "/try": "Nothing tried yet", "/try?protocol=tacacs": "Comes from",
		"/operators": "How operators sign in", "/you": "Tokens",
		"/sources/new": "Reports by", "/scopes/new": "leaves out what fits", "/subscribers/new": "Told of groups",
		"/device-kinds/new": "one line has to fit"} {
		if err := errors.Join(p.Open(w.app.URL+path), p.See(text)); err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		count, err := browser.Eval[int](p.Page, watchFocus+` && toReach().length`)
		if err != nil || count < 3 {
			t.Errorf("%s: %d fields, %v", path, count, err)
			continue
		}
		var missed string
		for range 4 { // the navigation comes before the page
			if err := p.Press(strings.Repeat("\t", 30)); err != nil {
				t.Fatal(err)
			}
			if missed, err = browser.Eval[string](p.Page, missedFocus); err != nil || missed == "" {
				break
			}
		}
		if err = errors.Join(err, fault(missed)); err != nil {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func fault(text string) error {
	if text == "" {
		return nil
	}
	return fmt.Errorf("%s", text)
}
