// Command shots takes the pictures of docs/screenshots from a running demo: make demo in one shell, make
// screenshots in another.
package main

import (
	"context"
	"errors"
	"fmt"
	"html"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"tollgate.example/key/internal/core/results"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/test/e2e/browser"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func env(name string) (string, error) {
	text, err := os.ReadFile(".demo/env")
	if err != nil {
		return "", fmt.Errorf("run the demo first: %w", err)
	}
	for line := range strings.Lines(string(text)) {
		if v, ok := strings.CutPrefix(strings.TrimSpace(line), "export "+name+"="); ok {
			return strings.Trim(v, "'"), nil
		}
	}
	return "", fmt.Errorf(".demo/env has no %s", name)
}

func run() error {
	address, err := env("TOLLGATE_URL")
	if err != nil {
		return err
	}
	name, _ := env("DEMO_OPERATOR")
	password, _ := env("DEMO_OPERATOR_PASSWORD")
	b, err := browser.Start()
	if err != nil {
		return err
	}
	defer b.Close()
	p, err := b.NewPage()
	if err != nil {
		return err
	}
	defer p.Close()
	dir := "docs/screenshots"
	if len(os.Args) > 1 {
		dir = os.Args[1]
	}
	take := func(p *browser.Page, file string) error {
		time.Sleep(400 * time.Millisecond)
		return p.Shot(filepath.Join(dir, file))
	}
	shot := func(file string) error { return take(p, file) }
	if err := firstHour(b, take); err != nil {
		return err
	}
	if err := errors.Join(p.Open(address), p.See("Sign in"), p.Fill("Name", name), p.Fill("Password", password),
		p.Click("Sign in"), p.See("The last hour"), shot("now.png")); err != nil {
		return err
	}
	return steps(p, address, shot)
}

func steps(p *browser.Page, base string, shot func(string) error) error {
	open := func(path, text string) error { return errors.Join(p.Open(base+path), p.See(text)) }
	row := func() error {
		time.Sleep(300 * time.Millisecond)
		_, err := browser.Eval[bool](p, "(document.querySelector('tbody tr[tabindex]').click(), true)")
		return err
	}
	theme := func(name string) error {
		_, err := browser.Eval[bool](p, "(localStorage.setItem('theme', '"+name+"'), true)")
		return err
	}
	return errors.Join(
		open("/sessions", "device says"),
		shot("sessions.png"),
		open("/sessions?client=np-switch-1", "np-switch-1"),
		row(),
		p.See("Session started"),
		p.Click("Re-authenticate"),
		p.Click("Ask"),
		p.See("CoA-ACK"),
		p.Click("Close"),
		p.Click("Change pass"),
		p.See("New pass"),
		p.Choose("New pass", "contractors"),
		p.Click("Ask"),
		p.See("CoA-ACK"),
		p.Click("Close"),
		p.See("change to pass contractors"),
		shot("session.png"),
		open("/attempts?reason=policy.none", "policy.none"),
		row(),
		p.See("The same person before"),
		shot("attempt-refused.png"),
		open("/presence", "at addresses"),
		p.See("sessions"),
		shot("presence.png"),
		open("/presence/people/s.lodge", "Sightings, the newest first"),
		shot("presence-person.png"),
		open("/sources", "quay-gateway"),
		shot("presence-sources.png"),
		open("/operators", "How operators sign in"),
		shot("operators.png"),
		open("/checkup", "Look at the service account"),
		shot("checkup.png"),
		open("/nodes", "Invite a node"),
		p.See("more may die"),
		shot("nodes.png"),
		open("/journal", "Gear journal"),
		p.See("level.too-high"),
		row(),
		p.See("Everything of"),
		shot("journal.png"),
		open("/readiness", "Would be refused today"),
		shot("ready.png"),
		open("/readiness?group=Harbour%20Office", "m.haukland"),
		enrol(p, shot),
		open("/lanes", "Wired ports"),
		p.Click("8. Wired ports"),
		p.See("By department"),
		p.Click("Contractors ashore"),
		p.See("Switched on"),
		p.Click("As a form"),
		p.See("Add comparison"),
		p.Click("Cancel"),
		p.Click("Add policy"),
		p.See("Switched on"),
		p.Fill("Name", "Watch below"),
		p.Fill("Applies to people where",
			"group is Crew and client.site is heron"),
		p.Choose("Pass", "bridge"),
		p.See("Can never be reached"),
		p.Click("Save to the draft"),
		p.See("1 change"),
		p.Click("Read"),
		p.Click("Discard all changes"),
		p.Click("Discard them"),
		p.See("nothing unpublished"),
		theme("night"),
		open("/lanes", "Wired ports"),
		p.Click("8. Wired ports"),
		p.See("By department"),
		shot("lanes.png"),
		theme("light"),
		open("/passes", "contractors"),
		p.Click("contractors"),
		p.See("What the device gets"),
		p.Fill("VLAN", "61"),
		p.Click("Save to the draft"),
		p.See("1 change"),
		open("/lanes", "Wired ports"),
		p.Click("8. Wired ports"),
		p.See("By department"),
		p.Click("By department"),
		p.See("Switched on"),
		p.Click("Switched on"),
		p.Click("Save to the draft"),
		p.See("2 changes"),
		p.Click("Rehearse"),
		p.See("Attempts of"),
		p.Click("Rehearse"),
		p.See("Such as"),
		example(p),
		p.See("The whole attempt"),
		shot("rehearsal.png"),
		p.Click(
			"Read",
		),
		p.See("VLAN 60 -> 61"),
		p.Click("Discard all changes"),
		p.Click("Discard them"),
		p.See("nothing unpublished"),
		open("/audit", "signed in"),
		p.Click("Verify"),
		p.See("are as they were recorded"),
		nth(p, 2),
		p.See("hash"),
		shot("audit.png"),
		terminal(p, shot),
	)
}

// nth opens a row of a table.
func nth(p *browser.Page, n int) error {
	_, err := browser.Eval[bool](
		p,
		fmt.Sprintf("(document.querySelectorAll('tbody tr[tabindex]')[%d].click(), true)", n),
	)
	return err
}

// example opens the roads of one attempt of a difference.
func example(p *browser.Page) error {
	_, err := browser.Eval[bool](p, "(document.querySelector('tbody button[aria-expanded]').click(), true)")
	return err
}

// terminal pictures what the command line prints.
func terminal(p *browser.Page, shot func(string) error) error {
	token, err := env("TOLLGATE_TOKEN")
	if err != nil {
		return err
	}
	service, err := env("TOLLGATE_URL")
	if err != nil {
		return err
	}
	text := ""
	for _, args := range [][]string{{"attempt", "list", "-limit", "6"}, {"attempt", "explain"}} {
		cmd := exec.Command("bin/tollgate", args...)
		cmd.Env = append(os.Environ(), "TOLLGATE_URL="+service, "TOLLGATE_TOKEN="+token)
		out, err := cmd.Output()
		if err != nil {
			return err
		}
		text += "$ tollgate " + strings.Join(args, " ") + "\n" + string(out) + "\n"
	}
	return screen(p, text, "terminal.png", shot)
}

// screen pictures what a terminal shows.
func screen(p *browser.Page, text, file string, shot func(string) error) error {
	page := "<body style='background:#0f1715;color:#e4ebe8;margin:16px'><pre style='font:13.5px/18px monospace'>" +
		html.EscapeString(text) + "</pre>"
	return errors.Join(p.Open("data:text/html;charset=utf-8,"+url.PathEscape(page)), shot(file))
}

// enrol follows the invitation of somebody on a phone.
func enrol(p *browser.Page, shot func(string) error) error {
	if err := errors.Join(p.Click("Invite"), p.See("Shown only here")); err != nil {
		return err
	}
	link, err := browser.Eval[string](p, "document.querySelector('[data-secret]').innerText")
	if err != nil {
		return err
	}
	who, err := browser.Eval[string](p, "document.querySelector('[role=dialog] td .mono').innerText")
	if err != nil {
		return err
	}
	return errors.Join(
		p.Click("Save as a file"),
		p.Size(420, 800),
		p.Open(link),
		p.See("First your password"),
		p.Fill(
			"Password",
			"harbour-"+who,
		),
		p.Click("Next"),
		p.See("Approve sign-ins on your phone"),
		shot("enrol.png"),
		p.Click("This is the phone"),
		p.See("Use this phone"),
		p.Click("Use this phone"),
		p.See("recovery codes"),
		p.Click(
			"Go on",
		),
		p.See("Nothing waits"),
		signIn(who),
		p.See("Number shown at the sign-in"),
		shot("approve.png"),
		p.Size(1280, 800),
	)
}

// signIn begins a sign-in at the gateway of remote desktops, which nobody goes on with.
func signIn(who string) error {
	secret, err := env("DEMO_CODE_CLIENT_SECRET")
	if err != nil {
		return err
	}
	from, _ := env("DEMO_CODE_CLIENT_ADDR")
	server, _ := env("DEMO_RADIUS")
	addr, err := netip.ParseAddr(from)
	if err != nil {
		return err
	}
	_, err = trial.Send(context.Background(), trial.Request{Server: server, From: addr, Secret: secret, User: who,
		Password: "harbour-" + who, Timeout: 5 * time.Second, Tries: 1, Attributes: []results.Attribute{
			{Name: "Calling-Station-Id", Value: "198.51.100.24"}}})
	return err
}
