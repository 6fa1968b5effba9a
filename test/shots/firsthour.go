package main

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"tollgate.example/key/internal/lab"
	"tollgate.example/key/test/e2e/browser"
)

// firstHour takes the picture of an empty service that is led to its first client, with the directory of the demo.
func firstHour(b *browser.Browser, shot func(p *browser.Page, file string) error) error {
	ldaps, err := env("DEMO_LDAPS")
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "first-hour")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	none := "127.0.0.1:0"
	service := exec.Command("bin/tollgated", "-data", filepath.Join(dir, "data"), "-http", none, "-radius", none,
		"-accounting", none, "-radius-tls", "", "-radius-dtls", "", "-tacacs", none, "-tacacs-tls", "")
	out, err := service.StdoutPipe()
	if err != nil {
		return err
	}
	if err := service.Start(); err != nil {
		return err
	}
	defer func() {
		_ = service.Process.Signal(os.Interrupt) // the directory goes with it, whatever it says
		_ = service.Wait()
	}()
	address := ""
	for lines := bufio.NewScanner(out); address == "" && lines.Scan(); {
		if _, after, found := strings.Cut(lines.Text(), "Console"); found {
			address = strings.TrimSpace(after)
		}
	}
	if address == "" {
		return fmt.Errorf("the service for the first hour did not start")
	}
	code, err := os.ReadFile(filepath.Join(dir, "data", "setup-code"))
	if err != nil {
		return err
	}
	p, err := b.NewPage()
	if err != nil {
		return err
	}
	defer p.Close()
	for _, step := range []func() error{
		func() error { return p.Open(address) },
		func() error { return p.See("Create the first operator") },
		func() error { return p.Fill("Setup code", strings.TrimSpace(string(code))) },
		func() error { return p.Fill("Name", "o.brandt") },
		func() error { return p.Fill("Password", lab.OperatorPassword) },
		func() error { return p.Click("Create and sign in") },
		func() error { return p.Click("Later") },
		func() error { return p.Fill("Domain or server", ldaps) },
		func() error { return p.Fill("Service account", lab.ServiceName) },
		func() error { return p.Fill("Its password", lab.ServicePassword) },
		func() error { return p.Click("Find it") },
		func() error { return p.Click("Trust this authority") },
		func() error { return p.See("let in") },
		func() error { return p.Click("Connect it") },
		func() error { return p.See("Name of the realm") },
		func() error { return p.Click("Make it") },
		func() error { return p.See("DNS name of this server") },
		func() error { return p.Click("Make it") },
		func() error { return p.See("wired ports") },
		func() error { return p.Fill("Group 1", "Ticketing") },
		func() error { return p.Fill("VLAN 1", "20") },
		func() error { return p.Click("Another group") },
		func() error { return p.Fill("Group 2", "Deck Officers") },
		func() error { return p.Fill("VLAN 2", "30") },
		func() error { return shot(p, "first-hour.png") },
	} {
		if err := step(); err != nil {
			return fmt.Errorf("the first hour: %w", errors.Join(err, shot(p, "first-hour.png")))
		}
	}
	return nil
}
