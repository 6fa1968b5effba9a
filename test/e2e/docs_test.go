package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// The map says where behaviours live; each link leads to a file that holds what stands behind it.
func TestTheMapIsTrue(t *testing.T) {
	page, err := os.ReadFile(filepath.Join(root(), "docs", "ARCHITECTURE.md"))
	if err != nil {
		t.Fatal(err)
	}
	links := regexp.MustCompile("\\]\\(\\.\\./([^)]+)\\) `([^`]+)`").FindAllStringSubmatch(string(page), -1)
	if len(links) < 20 {
		t.Errorf("only %d links name what they lead to", len(links))
	}
	for _, link := range links {
		text, err := os.ReadFile(filepath.Join(root(), filepath.FromSlash(link[1])))
		if err != nil {
			t.Errorf("the map leads to %s: %v", link[1], err)
			continue
		}
		name := regexp.QuoteMeta(link[2])
		made := regexp.MustCompile(`(?m)^\s*(func (\([^)]*\) )?|type |const |var |export function |export const )?` +
			name + `\b`)
		if !made.Match(text) {
			t.Errorf("%s holds no %s", link[1], link[2])
		}
	}
}

// Links of the guides lead somewhere, within the pages and to files.
func TestLinksOfTheGuides(t *testing.T) {
	pages, err := filepath.Glob(filepath.Join(root(), "docs", "*.md"))
	if err != nil || len(pages) < 5 {
		t.Fatalf("%d pages, %v", len(pages), err)
	}
	pages = append(pages, filepath.Join(root(), "README.md"), filepath.Join(root(), "CONTRIBUTING.md"))
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, link := range regexp.MustCompile(`\]\(([^)\s]+)\)`).FindAllStringSubmatch(string(text), -1) {
			to, _, _ := strings.Cut(link[1], "#")
			if to == "" || strings.Contains(to, "://") {
				continue
			}
			if _, err := os.Stat(filepath.Join(filepath.Dir(page), filepath.FromSlash(to))); err != nil {
				t.Errorf("%s leads to %s, which does not exist", filepath.Base(page), link[1])
			}
		}
	}
}
