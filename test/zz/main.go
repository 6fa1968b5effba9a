package main

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"tollgate.example/key/test/e2e/browser"
)

func main() {
	text, _ := os.ReadFile(".demo/env")
	get := func(name string) string {
		for line := range strings.Lines(string(text)) {
			if v, ok := strings.CutPrefix(strings.TrimSpace(line), "export "+name+"="); ok {
				return strings.Trim(v, "'")
			}
		}
		return ""
	}
	b, err := browser.Start()
	if err != nil {
		panic(err)
	}
	defer b.Close()
	p, _ := b.NewPage()
	base := get("TOLLGATE_URL")
	fmt.Println(errors.Join(p.Open(base), p.See("Sign in"), p.Fill("Name", get("DEMO_OPERATOR")), p.Fill("Password", get("DEMO_OPERATOR_PASSWORD")), p.Click("Sign in"), p.See("The last hour")))
	for i, path := range os.Args[1:] {
		path, click, _ := strings.Cut(path, "#")
		fmt.Println(p.Open(base + path))
		time.Sleep(1500 * time.Millisecond)
		if click == "row" {
			browser.Eval[bool](p, "(document.querySelector('tbody tr[tabindex]').click(), true)")
			time.Sleep(time.Second)
		} else if click != "" {
			for _, c := range strings.Split(click, "|") {
				fmt.Println(p.Click(c))
				time.Sleep(700 * time.Millisecond)
			}
		}
		p.Shot(fmt.Sprintf("/tmp/shot%d.png", i))
	}
}
