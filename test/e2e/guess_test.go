package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"tollgate.example/key/internal/web/apitype"
)

// signInFrom signs in from an address of this machine with a cookie, and returns what came back: the status, the code
// of the problem, and the cookies.
func (w *world) signInFrom(from, cookie string, in apitype.SignInInput) (int, string, []*http.Cookie) {
	w.t.Helper()
	c := http.Client{Transport: &http.Transport{DialContext: (&net.Dialer{
		LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).DialContext, DisableKeepAlives: true}}
	body, _ := json.Marshal(in)
	req, err := http.NewRequestWithContext(w.context(), http.MethodPost, w.app.URL+"/api/v1/sign-in",
		strings.NewReader(string(body)))
	if err != nil {
		w.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if cookie != "" {
		req.Header.Set("Cookie", cookie)
	}
	resp, err := c.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	var p apitype.Problem
	json.Unmarshal(text, &p)
	return resp.StatusCode, p.Code, resp.Cookies()
}

// Very many places guess at the password of one operator: that ends, and the operator signs in all the same, with the
// browser from before.
func TestGuessesAtOneNameFromEverywhere(t *testing.T) {
	t.Parallel()
	w := start(t)
	w.operator("e.marsh", "engineer")
	right := apitype.SignInInput{Name: "e.marsh", Password: "lantern-demo-2026"}
	wrong := apitype.SignInInput{Name: "e.marsh", Password: "harbour-and-rope"}
	status, _, cookies := w.signInFrom("127.0.77.1", "", right)
	if status != http.StatusOK || len(cookies) != 2 {
		t.Fatalf("%d, %+v", status, cookies)
	}
	kept := cookies[1]
	if kept.Name != "tollgate_browser" || !kept.HttpOnly || !kept.Secure || kept.SameSite != http.SameSiteStrictMode ||
		kept.Path != "/api/v1/sign-in" || kept.MaxAge < int((300*24*time.Hour).Seconds()) {
		t.Errorf("%+v", kept)
	}
	last, code := 0, ""
	for i := 0; i < 130 && code == ""; i++ {
		last, code, _ = w.signInFrom(fmt.Sprintf("127.0.78.%d", 1+i), "", wrong)
	}
	if last != http.StatusTooManyRequests || code != "name.guessed" {
		t.Errorf("in the end: %d %s", last, code)
	}
	w.audits("who=e.marsh&result=refused", "too many wrong passwords were given for this name")
	if status, code, _ := w.signInFrom("127.0.79.1", "", right); code != "name.guessed" {
		t.Errorf("the right password from anywhere: %d %s", status, code)
	}
	if status, code, _ := w.signInFrom("127.0.77.1", "", right); status != http.StatusOK {
		t.Errorf("from the address of before: %d %s", status, code)
	}
	cookie := kept.Name + "=" + kept.Value
	if status, code, more := w.signInFrom("127.0.79.2", cookie, right); status != http.StatusOK || len(more) != 1 {
		t.Errorf("with the browser of before: %d %s, %d cookies", status, code, len(more))
	}
	if status, code, _ := w.signInFrom("127.0.79.3", cookie[:len(cookie)-3], right); code != "name.guessed" {
		t.Errorf("with a made-up one: %d %s", status, code)
	}
	// What the browser keeps opens nothing by itself.
	if status, _ := w.bareBody(kept.Value, http.MethodGet, "/clients", ""); status != http.StatusUnauthorized {
		t.Errorf("as a token: %d", status)
	}
	if status, _, _ := w.signInFrom("127.0.79.4", cookie, wrong); status != http.StatusUnauthorized {
		t.Errorf("with a wrong password: %d", status)
	}
}
