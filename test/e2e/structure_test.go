package e2e

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

func must(text string) netip.Addr { return netip.MustParseAddr(text) }

const module = "tollgate.example/key/"

// allowed says which packages of ours a package may import; a name ending in / stands for everything below it.
// What is not listed may import nothing of ours.
var allowed = map[string][]string{
	"internal/base/panics":          {},
	"internal/core/facts":           {"internal/core/reason"},
	"internal/core/calendar":        {},
	"internal/core/command":         {},
	"internal/core/config":          {"internal/core/calendar", "internal/core/command"},
	"internal/core/rule":            {"internal/core/calendar", "internal/core/config", "internal/core/facts"},
	"internal/core/pass":            {"internal/core/config", "internal/core/facts", "internal/core/rule", "internal/wire/dict"},
	"internal/core/decide":          {"internal/core/", "internal/wire/dict"},
	"internal/core/document":        {"internal/core/config"},
	"internal/base/seal":            {"internal/core/config"},
	"internal/store":                {"internal/base/ident"},
	"internal/manage/sources":       {"internal/store"},
	"internal/identity/account":     {"internal/core/", "internal/base/ident", "internal/wire/mschap", "internal/base/password", "internal/base/seal", "internal/store"},
	"internal/identity/device":      {"internal/core/", "internal/store"},
	"internal/identity/factor":      {"internal/core/", "internal/base/ident", "internal/base/seal", "internal/store"},
	"internal/identity/certificate": {"internal/core/", "internal/store"},
	"internal/wire/eap":             {"internal/wire/mschap"},
	"internal/wire/netlogon":        {"internal/wire/mschap"},
	"internal/identity/domain":      {"internal/base/seal", "internal/core/config", "internal/identity/directory", "internal/identity/failover", "internal/store", "internal/wire/"},
	"internal/eap/tunnel":           {"internal/wire/eap"},
	"internal/identity/proof":       {"internal/core/facts", "internal/core/reason"},
	"internal/eap/server":           {"internal/core/", "internal/wire/", "internal/identity/proof", "internal/eap/tunnel"},
	"internal/eap/supplicant":       {"internal/wire/", "internal/eap/tunnel"},
	"internal/manage/operator":      {"internal/base/ident", "internal/base/password", "internal/store"},
	"internal/identity/directory":   {"internal/core/", "internal/identity/lockout", "internal/identity/failover", "internal/wire/mschap"},
	"internal/gate":                 {"internal/core/", "internal/wire/", "internal/identity/account", "internal/identity/certificate", "internal/eap/server", "internal/identity/device", "internal/identity/directory", "internal/identity/domain", "internal/identity/factor", "internal/identity/lockout", "internal/session", "internal/identity/domain", "internal/base/panics", "internal/identity/proof", "internal/upstream", "internal/base/seal", "internal/store"},
	"internal/dialogue":             {"internal/core/", "internal/wire/", "internal/gate"},
	"internal/manage/revision":      {"internal/core/", "internal/gate", "internal/base/seal", "internal/store"},
	"internal/listen":               {"internal/core/", "internal/wire/", "internal/identity/certificate", "internal/gate", "internal/manage/sources", "internal/dialogue", "internal/base/panics"},
	"internal/upstream/trial":       {"internal/wire/", "internal/eap/supplicant", "internal/upstream"},
	"internal/manage/checkup":       {"internal/core/config", "internal/identity/directory", "internal/base/panics", "internal/store"},
	"internal/identity/lockout":     {},
	"internal/manage/rehearsal":     {"internal/core/", "internal/base/ident", "internal/store"},
	"internal/identity/copies":      {"internal/core/config", "internal/identity/directory", "internal/store"},
	"internal/identity/failover":    {},
	"internal/upstream":             {"internal/wire/radius"},
	"internal/session":              {"internal/core/config", "internal/store"},
	"internal/web/apitype":          {"internal/core/", "internal/identity/certificate", "internal/manage/checkup", "internal/identity/device", "internal/identity/directory", "internal/identity/lockout", "internal/upstream/trial", "internal/manage/rehearsal", "internal/identity/copies"},
	"internal/web/client":           {"internal/web/apitype"},
	"internal/web/api": {"console", "internal/identity/", "internal/base/", "internal/core/", "internal/wire/dict", "internal/web/apitype", "internal/identity/account", "internal/identity/certificate", "internal/manage/checkup", "internal/manage/sources", "internal/identity/device", "internal/identity/directory", "internal/identity/factor", "internal/gate", "internal/base/ident", "internal/session", "internal/base/live", "internal/base/panics",
		"internal/manage/operator", "internal/upstream/trial", "internal/eap/supplicant", "internal/manage/rehearsal", "internal/manage/revision", "internal/identity/copies", "internal/base/seal", "internal/store", "internal/base/tally"},
	"internal/app":     {"internal/"},
	"internal/lab":     {"internal/web/apitype", "internal/identity/certificate", "internal/web/client", "internal/identity/factor", "internal/upstream/trial", "internal/eap/supplicant", "internal/core/config", "internal/core/calendar", "internal/wire/radius", "internal/wire/tacacs"},
	"cmd/tollgated":    {"internal/app", "internal/web/api"},
	"cmd/tollgate":     {"internal/session", "internal/core/calendar", "internal/web/apitype", "internal/identity/certificate", "internal/manage/checkup", "internal/web/client", "internal/upstream/trial", "internal/eap/supplicant", "internal/core/config", "internal/core/decide", "internal/identity/directory", "internal/manage/rehearsal", "internal/identity/copies"},
	"cmd/tollgate-lab": {"internal/lab"},
	"test/shots":       {"test/e2e/browser"},
	"test/load":        {"internal/"},
	"test/e2e":         {"internal/", "test/e2e/browser"},
	"test/hostile":     {"internal/"},
}

// pure packages decide and encode; they may not reach the outside world.
var pure = []string{"internal/core/", "internal/wire/"}

var outside = []string{"os", "net", "net/http", "database/sql", "log/slog", "os/exec", "io/ioutil", "syscall", "math/rand", "math/rand/v2"}

func TestDependenciesPointInward(t *testing.T) {
	cmd := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "./...")
	cmd.Dir = root()
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		parts := strings.Fields(line)
		from := strings.TrimPrefix(parts[0], module)
		seen++
		for _, imported := range parts[1:] {
			if to, ours := strings.CutPrefix(imported, module); ours && !permitted(from, to) {
				t.Errorf("%s imports %s", from, to)
			}
			for _, p := range pure {
				if strings.HasPrefix(from, p) {
					for _, o := range outside {
						if imported == o && !(from == "internal/core/config" && o == "net") { // only to split host and port
							t.Errorf("%s, which is pure, imports %s", from, imported)
						}
					}
				}
			}
		}
	}
	if seen < 20 {
		t.Errorf("only %d packages were looked at", seen)
	}
}

func permitted(from, to string) bool {
	for _, a := range allowed[from] {
		if to == a || strings.HasSuffix(a, "/") && strings.HasPrefix(to, a) {
			return true
		}
	}
	return false
}

func TestFilesAreShort(t *testing.T) {
	cmd := exec.Command("git", "ls-files", "*.go", "*.ts", "*.tsx")
	cmd.Dir = root()
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	for file := range strings.Lines(string(out)) {
		file = strings.TrimSpace(file)
		count, err := exec.Command("sh", "-c", fmt.Sprintf("wc -l < '%s/%s'", root(), file)).Output()
		if err != nil {
			continue // moved, but not committed yet
		}
		var n int
		fmt.Sscan(string(count), &n)
		if n > 450 && !strings.HasSuffix(file, "_test.go") {
			t.Errorf("%s has %d lines; split it", file, n)
		}
	}
}

// Proofs are made where a method ends, and people become facts by a proof alone.
func TestProofsAreMadeWhereMethodsEnd(t *testing.T) {
	places := map[string][]string{
		`\.Finish(`:       {"internal/eap/server/", "internal/gate/visit.go", "internal/identity/proof/"},
		`\.Right()`:       {"internal/gate/prove.go", "internal/gate/visit.go", "internal/identity/proof/"},
		`proof\.Suppose(`: {"internal/gate/visit.go", "internal/gate/foretell.go"},
		`[fF]\(acts\)\?\.\(Person\|Machine\)\( = \|, .* = \)`: {"internal/core/", "internal/identity/proof/"},
	}
	for pattern, allowed := range places {
		cmd := exec.Command("git", "grep", "--untracked", "-n", "-e", pattern, "--", "internal/*.go", "cmd/*.go", ":!*_test.go")
		cmd.Dir = root()
		out, _ := cmd.Output()
		if len(out) == 0 {
			t.Errorf("nothing matches %s; has it been renamed?", pattern)
		}
		for line := range strings.Lines(string(out)) {
			if !slices.ContainsFunc(allowed, func(place string) bool { return strings.HasPrefix(line, place) }) {
				t.Errorf("%s", line)
			}
		}
	}
}

// A table that names a test which does not exist says that something is protected when nobody looks.
func TestTheTestsOfTheSecurityPageExist(t *testing.T) {
	page, err := os.ReadFile(filepath.Join(root(), "docs", "SECURITY.md"))
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("git", "grep", "--untracked", "-h", "-o", "-e", "^func Test[A-Za-z0-9]*(", "--", "*_test.go")
	cmd.Dir = root()
	out, _ := cmd.Output()
	named := regexp.MustCompile("`(Test[A-Za-z0-9]+)`").FindAllStringSubmatch(string(page), -1)
	if len(named) < 50 {
		t.Errorf("only %d tests are named", len(named))
	}
	for _, name := range named {
		if !strings.Contains(string(out), "func "+name[1]+"(") {
			t.Errorf("docs/SECURITY.md names %s, which does not exist", name[1])
		}
	}
}
