package main

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
)

func TestNothingFromTheNetworkDrivesTheTerminal(t *testing.T) {
	hostile := "ann\x1b]0;owned\x07\x1b[2J\x9b31m\u009b1A\r\u202egnp.exe\u2028x\x00"
	var out bytes.Buffer
	s := &invocation{out: &terminal{&out}, err: &terminal{&out}, colour: true}
	s.say("%s signs in, %s", hostile, s.verdict("admitted"))
	s.table([]string{"NAME", "STATE"}, [][]string{{hostile + "\nforged  line", "refused"}})
	s.fields([2]string{"name", hostile + "\nforged  line"})
	_ = s.print(map[string]string{"name": hostile}, func() {})
	s.json = true
	before := out.Len()
	if err := s.print(map[string]string{"name": hostile}, nil); err != nil {
		t.Fatal(err)
	}
	var back map[string]string
	if err := json.Unmarshal(out.Bytes()[before:], &back); err != nil || back["name"] != strings.ToValidUTF8(hostile,
		"\ufffd") {
		t.Errorf("as JSON %q: %v", back, err)
	}
	text := out.String()
	text = strings.NewReplacer(escape+"[32m", "", escape+"[2m", "", escape+"[0m", "").Replace(text)
	for _, r := range text {
		if r != '\n' && harmful(r) {
			t.Errorf("%q gets through in %q", r, text)
		}
	}
	if !strings.Contains(out.String(), escape+"[32m/ admitted"+escape+"[0m") {
		t.Error("our own colours do not get through")
	}
	if strings.Contains(text, "\nforged") {
		t.Error("a name makes a line of a table of its own")
	}
}

func TestOnlyColoursAreColours(t *testing.T) {
	for _, text := range []string{ink + "[2J", ink + "]0;x\x07m", ink + "m", ink + "[12345678m", ink, ink + "[31"} {
		var out bytes.Buffer
		(&terminal{&out}).Write([]byte(text))
		if strings.Contains(out.String(), escape) {
			t.Errorf("%q comes out as %q", text, out.String())
		}
	}
}
