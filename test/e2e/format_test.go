package e2e

import (
	"go/scanner"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// maxColumns is how long lines of Go may be; a tab counts as four.
const maxColumns = 120

// Lines of Go have at most 120 columns. Raw strings are as long as what they hold, and struct tags cannot be broken.
func TestLinesAreShort(t *testing.T) {
	cmd := exec.Command("git", "ls-files", "--cached", "--others", "--exclude-standard", "*.go")
	cmd.Dir = root()
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	files := 0
	for name := range strings.Lines(string(out)) {
		name = strings.TrimSpace(name)
		src, err := os.ReadFile(filepath.Join(root(), name))
		if err != nil {
			continue // moved, but not committed yet
		}
		files++
		raw := rawLines(src)
		for i, line := range strings.Split(string(src), "\n") {
			if n := columns(line); n > maxColumns && !raw[i+1] {
				t.Errorf("%s:%d has %d columns", name, i+1, n)
			}
		}
	}
	if files < 200 {
		t.Errorf("only %d files were looked at", files)
	}
}

func columns(line string) int {
	n := 0
	for _, r := range line {
		if n++; r == '\t' {
			n += 3 - (n-1)%4
		}
	}
	return n
}

// rawLines are the numbers of the lines that hold a raw string, or a part of one.
func rawLines(src []byte) map[int]bool {
	out := map[int]bool{}
	set := token.NewFileSet()
	file := set.AddFile("", set.Base(), len(src))
	var s scanner.Scanner
	s.Init(file, src, nil, 0)
	for {
		pos, kind, text := s.Scan()
		if kind == token.EOF {
			return out
		}
		if kind != token.STRING || text[0] != '`' {
			continue
		}
		first := file.Line(pos)
		for i := range strings.Count(text, "\n") + 1 {
			out[first+i] = true
		}
	}
}

// The sources of the console import each other in one direction.
func TestConsoleHasNoCircles(t *testing.T) {
	src := filepath.Join(root(), "console", "src")
	imports := map[string][]string{}
	err := filepath.WalkDir(src, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".ts") && !strings.HasSuffix(path, ".tsx") {
			return err
		}
		text, err := os.ReadFile(path)
		imports[path] = []string{}
		for _, m := range regexp.MustCompile(`(?m)from "(\.[^"]+)";$`).FindAllStringSubmatch(string(text), -1) {
			imports[path] = append(imports[path], filepath.Join(filepath.Dir(path), m[1]))
		}
		return err
	})
	if err != nil || len(imports) < 40 {
		t.Fatalf("%d sources, %v", len(imports), err)
	}
	state := map[string]int{} // 1 on the way, 2 done
	var visit func(path string, way []string)
	visit = func(path string, way []string) {
		state[path] = 1
		for _, to := range imports[path] {
			for _, end := range []string{".ts", ".tsx"} {
				switch next := to + end; {
				case imports[next] == nil || state[next] == 2:
				case state[next] == 1:
					t.Errorf("a circle of imports: %v, %s", way, next)
				default:
					visit(next, append(way, next))
				}
			}
		}
		state[path] = 2
	}
	for path := range imports {
		if state[path] == 0 {
			visit(path, []string{path})
		}
	}
}
