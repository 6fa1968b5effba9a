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

// allowed says which packages of ours a package may import; a name ending in / stands for everything below it, on both
// sides, and the longest that fits counts. What is not listed may import nothing of ours.
var allowed = map[string][]string{
	"internal/base/":     {},
	"internal/base/seal": {"internal/core/config"},

	"internal/core/":        {},
	"internal/core/facts":   {"internal/core/reason"},
	"internal/core/results": {"internal/core/config", "internal/core/facts", "internal/core/reason"},
	"internal/core/config":  {"internal/core/calendar", "internal/core/command", "internal/core/presence"},
	"internal/core/rule": {"internal/core/calendar", "internal/core/config", "internal/core/facts",
		"internal/core/reason", "internal/core/results"},
	"internal/core/pass": {"internal/core/config", "internal/core/facts", "internal/core/results",
		"internal/core/rule", "internal/wire/dict"},
	"internal/core/decide":   {"internal/core/", "internal/wire/dict"},
	"internal/core/document": {"internal/core/config"},
	"internal/core/kind":     {"internal/core/config", "internal/core/facts", "internal/core/presence"},

	"internal/wire/":         {},
	"internal/wire/eap":      {"internal/wire/mschap"},
	"internal/wire/netlogon": {"internal/wire/mschap"},

	"internal/store":        {"internal/base/ident", "internal/core/chain", "internal/store/"},
	"internal/store/record": {"internal/base/ident", "internal/base/live", "internal/store/sqlite"},
	"internal/store/sqlite": {},
	"internal/mirror":       {"internal/base/ident", "internal/store/record"},

	"internal/eap/tunnel":     {"internal/wire/eap"},
	"internal/eap/supplicant": {"internal/eap/tunnel", "internal/wire/"},
	"internal/eap/server": {"internal/base/tlsversion", "internal/core/facts", "internal/core/reason",
		"internal/eap/tunnel",
		"internal/identity/proof", "internal/wire/"},

	"internal/identity/": {"internal/base/", "internal/core/", "internal/identity/sheet", "internal/store",
		"internal/wire/mschap"},
	"internal/identity/sheet":    {"internal/core/results"},
	"internal/identity/failover": {},
	"internal/identity/lockout":  {"internal/core/results"},
	"internal/identity/proof":    {"internal/core/facts", "internal/core/reason"},
	"internal/identity/directory": {"internal/base/resolve", "internal/core/", "internal/identity/failover",
		"internal/identity/lockout",
		"internal/wire/mschap"},
	"internal/identity/copies": {"internal/core/config", "internal/core/results", "internal/identity/directory",
		"internal/store"},
	"internal/identity/domain": {"internal/base/seal", "internal/core/", "internal/identity/directory",
		"internal/identity/failover",
		"internal/store", "internal/wire/"},

	"internal/session": {"internal/base/ident", "internal/core/config", "internal/core/facts", "internal/store",
		"internal/store/record"},
	"internal/upstream": {"internal/base/datagram", "internal/base/outlet", "internal/wire/dict",
		"internal/wire/radius"},
	"internal/upstream/trial": {"internal/core/results", "internal/eap/supplicant", "internal/upstream",
		"internal/wire/"},

	"internal/gate/snapshot": {
		"internal/base/seal",
		"internal/core/",
		"internal/eap/server",
		"internal/identity/",
		"internal/session",
		"internal/upstream",
		"internal/wire/radius",
	},
	// No packets of RADIUS and TACACS+: the fronts read and write them.
	"internal/gate": {"internal/base/", "internal/core/", "internal/eap/server", "internal/gate/snapshot",
		"internal/identity/",
		"internal/session", "internal/store", "internal/upstream", "internal/wire/dict", "internal/wire/mschap"},

	"internal/front/radius/access": {"internal/core/", "internal/eap/server", "internal/gate",
		"internal/gate/snapshot", "internal/upstream",
		"internal/wire/"},
	"internal/front/radius/accounting": {
		"internal/core/",
		"internal/session",
		"internal/store",
		"internal/wire/",
	},
	"internal/front/": {"internal/base/", "internal/core/", "internal/front/radius/access",
		"internal/front/radius/accounting", "internal/front/secure", "internal/gate", "internal/gate/snapshot",
		"internal/identity/certificate",
		"internal/manage/sources", "internal/session", "internal/wire/"},

	"internal/presence": {"internal/base/ident", "internal/core/config", "internal/core/facts",
		"internal/core/kind", "internal/core/presence", "internal/store",
		"internal/store/record"},
	"internal/front/reports": {"internal/core/config", "internal/core/facts", "internal/core/presence",
		"internal/presence",
		"internal/wire/dhcp", "internal/wire/syslog"},
	"internal/web/feed": {"internal/core/config", "internal/core/presence", "internal/presence"},
	"internal/web/portal": {"internal/base/push", "internal/base/seal", "internal/core/config", "internal/core/facts",
		"internal/core/reason", "internal/identity/approval",
		"internal/identity/securitykey", "internal/identity/factor"},
	"internal/web/phone": {"internal/identity/approval"},
	"internal/reporter":  {"internal/core/presence"},

	"internal/manage/pushing": {"internal/core/config", "internal/core/presence", "internal/core/results",
		"internal/presence", "internal/upstream/trial"},
	"internal/manage/sources": {"internal/store"},
	"internal/manage/change": {
		"internal/base/ident",
		"internal/core/",
		"internal/gate",
		"internal/gate/snapshot",
		"internal/session",
		"internal/store",
		"internal/upstream",
		"internal/wire/dict",
		"internal/wire/radius",
	},
	"internal/manage/onward": {
		"internal/base/ident",
		"internal/core/",
		"internal/gate/snapshot",
		"internal/manage/audit",
		"internal/store",
		"internal/store/record",
		"internal/upstream",
	},
	"internal/manage/readiness": {"internal/core/config", "internal/core/facts", "internal/core/reason",
		"internal/store"},
	"internal/manage/audit": {"internal/base/", "internal/core/chain", "internal/core/config", "internal/store",
		"internal/store/record"},
	"internal/manage/operator": {"internal/base/", "internal/core/config", "internal/core/reason",
		"internal/identity/factor", "internal/identity/securitykey", "internal/store"},
	"internal/manage/provider":  {"internal/base/seal", "internal/core/config", "internal/manage/operator"},
	"internal/manage/rehearsal": {"internal/base/ident", "internal/core/", "internal/store"},
	"internal/manage/attention": {"internal/core/config", "internal/core/results", "internal/identity/account",
		"internal/identity/certificate",
		"internal/manage/checkup", "internal/manage/host", "internal/manage/revision", "internal/manage/sources",
		"internal/store/record"},
	"internal/manage/host":      {},
	"internal/manage/backup":    {"internal/base/archive", "internal/store/sqlite"},
	"internal/manage/firsthour": {"internal/core/config"},
	"internal/manage/fleet":     {"internal/core/config", "internal/core/results", "internal/identity/sheet"},
	"internal/manage/checkup": {"internal/base/panics", "internal/core/config", "internal/core/results",
		"internal/identity/directory", "internal/store"},
	"internal/manage/revision": {"internal/base/seal", "internal/core/", "internal/front/radius/access",
		"internal/gate", "internal/manage/audit", "internal/store", "internal/wire/"},

	"internal/cluster": {
		"internal/base/seal",
		"internal/cluster/engine",
		"internal/core/config",
		"internal/store",
	},
	"internal/cluster/engine": {},
	"internal/cluster/etcd":   {"internal/cluster/engine"},

	"internal/web/apitype": {
		"internal/core/chain",
		"internal/core/calendar",
		"internal/core/config",
		"internal/core/facts",
		"internal/core/results",
	},
	"internal/web/client": {"internal/web/apitype"},
	"internal/web/api": {
		"console",
		"internal/base/",
		"internal/cluster",
		"internal/core/",
		"internal/eap/supplicant",
		"internal/gate",
		"internal/identity/",
		"internal/manage/",
		"internal/presence",
		"internal/session",
		"internal/store",
		"internal/store/record",
		"internal/upstream/trial",
		"internal/web/apitype",
		"internal/web/feed",
		"internal/web/portal",
		"internal/wire/dict",
		"internal/wire/pskc",
	},

	"internal/app": {"internal/"},
	"internal/lab": {"internal/core/config", "internal/core/calendar", "internal/core/results",
		"internal/eap/supplicant", "internal/identity/certificate",
		"internal/identity/factor", "internal/upstream", "internal/upstream/trial", "internal/web/apitype",
		"internal/identity/approval", "internal/web/client", "internal/web/phone",
		"internal/wire/radius",
		"internal/wire/tacacs"},

	"cmd/tollgated": {"internal/app", "internal/cluster", "internal/cluster/etcd", "internal/web/api"},
	"cmd/tollgate": {
		"internal/base/archive",
		"internal/core/chain",
		"internal/core/calendar",
		"internal/core/config",
		"internal/core/results",
		"internal/eap/supplicant",
		"internal/upstream/trial",
		"internal/web/apitype",
		"internal/web/client",
	},
	"cmd/tollgate-lab":      {"internal/lab"},
	"cmd/tollgate-reporter": {"internal/core/presence", "internal/reporter"},

	"test/shots":   {"internal/core/results", "internal/upstream/trial", "test/e2e/browser", "internal/lab"},
	"test/load":    {"internal/"},
	"test/e2e":     {"internal/", "test/e2e/browser"},
	"test/hostile": {"internal/"},
}

// kept says what programs must not link, directly or through anything they import: what talks to the database and to
// directories belongs into the service.
var kept = map[string][]string{
	"cmd/tollgate-reporter": {"database/sql", "modernc.org/", "github.com/go-chi/", "internal/store/", "internal/web/"},
	"cmd/tollgate": {"database/sql", "github.com/jmoiron/", "github.com/pressly/", "modernc.org/",
		"github.com/go-ldap/", "internal/gate", "internal/store", "internal/identity/", "internal/manage/"},
	"internal/web/apitype": {"database/sql", "github.com/", "internal/core/decide", "internal/core/rule",
		"internal/wire/", "internal/base/"},
	"internal/core/decide": {"database/sql", "net/http", "os/exec", "internal/store", "internal/base/"},
	"internal/gate": {"internal/wire/tacacs", "internal/front/", "internal/manage/", "internal/web/",
		"net/http/httputil"},
	"internal/eap/server": {"internal/store", "internal/identity/directory", "internal/gate", "database/sql"},
	"internal/store":      {"go.etcd.io/", "internal/cluster"},
	"internal/app":        {"go.etcd.io/etcd/server/", "internal/cluster/etcd"},
}

func TestWhatProgramsLink(t *testing.T) {
	for from, banned := range kept {
		cmd := exec.Command("go", "list", "-deps", "./"+from)
		cmd.Dir = root()
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Fields(string(out))
		if len(lines) < 20 {
			t.Errorf("%s: only %d packages were looked at", from, len(lines))
		}
		for _, line := range lines {
			line = strings.TrimPrefix(line, module)
			for _, b := range banned {
				if line == b || strings.HasSuffix(b, "/") && strings.HasPrefix(line, b) {
					t.Errorf("%s links %s", from, line)
				}
			}
		}
	}
}

// pure packages decide and encode; they may not reach the outside world.
var pure = []string{"internal/core/", "internal/wire/"}

var outside = []string{"os", "net", "net/http", "database/sql", "log/slog", "os/exec", "io/ioutil", "syscall",
	"math/rand", "math/rand/v2"}

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
			if strings.HasPrefix(imported, "go.etcd.io/") && !strings.HasPrefix(from, "internal/cluster") {
				t.Errorf("%s knows the engine, which is the business of internal/cluster", from)
			}
			for _, p := range pure {
				if strings.HasPrefix(from, p) {
					for _, o := range outside {
						// only to split host and port
						if imported == o && !(from == "internal/core/config" && o == "net") {
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
	covers := func(rule, path string) bool {
		return path == rule || strings.HasSuffix(rule, "/") && strings.HasPrefix(path, rule)
	}
	rule := ""
	for r := range allowed {
		if covers(r, from) && len(r) > len(rule) {
			rule = r
		}
	}
	return slices.ContainsFunc(allowed[rule], func(a string) bool { return covers(a, to) })
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
		`\.Finish(`: {"internal/eap/server/", "internal/gate/visit.go", "internal/gate/leave.go",
			"internal/identity/proof/"},
		`\.Right()`: {"internal/gate/prover.go", "internal/gate/visit.go", "internal/gate/leave.go",
			"internal/identity/proof/"},
		`proof\.Suppose(`: {"internal/gate/visit.go", "internal/gate/leave.go", "internal/gate/dryrun.go",
			"internal/gate/again.go"},
		`[fF]\(acts\)\?\.\(Person\|Machine\)\( = \|, .* = \)`: {"internal/core/", "internal/identity/proof/"},
	}
	for pattern, allowed := range places {
		cmd := exec.Command(
			"git",
			"grep",
			"--untracked",
			"-n",
			"-e",
			pattern,
			"--",
			"internal/*.go",
			"cmd/*.go",
			":!*_test.go",
		)
		cmd.Dir = root()
		out, _ := cmd.Output()
		if len(out) == 0 {
			t.Errorf("nothing matches %s; has it been renamed?", pattern)
		}
		for line := range strings.Lines(string(out)) {
			if !slices.ContainsFunc(
				allowed,
				func(place string) bool { return strings.HasPrefix(line, place) },
			) {
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
	cmd := exec.Command(
		"git",
		"grep",
		"--untracked",
		"-h",
		"-o",
		"-e",
		"^func Test[A-Za-z0-9]*(",
		"--",
		"*_test.go",
	)
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

// Problems are made by one function, which asks for a code.
func TestProblemsHaveCodes(t *testing.T) {
	cmd := exec.Command("git", "grep", "--untracked", "-n", "-E", `(config\.|\b)Problem\{[A-Z]`, "--",
		"internal/core/*.go", "internal/manage/*.go", ":!*_test.go")
	cmd.Dir = root()
	out, _ := cmd.Output()
	for line := range strings.Lines(string(out)) {
		if !strings.HasPrefix(line, "internal/core/config/problem.go:") && !strings.HasPrefix(line,
			"internal/manage/sources/") {
			t.Errorf("a problem without a code: %s", line)
		}
	}
	// What is shown is told by codes, and never by words in a sentence.
	cmd = exec.Command("git", "grep", "--untracked", "-n", "-E",
		`\.(message|detail|sentence|remedy|title)\.(includes|startsWith|endsWith|match)`, "--", "console/src")
	cmd.Dir = root()
	if out, _ := cmd.Output(); len(out) > 0 {
		t.Errorf("pages look for words in a sentence:\n%s", out)
	}
}
