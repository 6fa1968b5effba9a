package lab

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"tollgate.example/key/internal/identity/approval"
	"tollgate.example/key/internal/upstream/trial"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
	"tollgate.example/key/internal/web/phone"
)

// habit is what somebody does when the phone asks.
type habit string

const (
	approves habit = "approves"
	refuses  habit = "refuses"
	ignores  habit = "ignores"
)

// approvers have phones that approve sign-ins, in place of one-time codes.
var approvers = []struct {
	user string
	does habit
}{{"h.lehtola", approves}, {"d.ashdown", refuses}, {"e.prydderch", ignores}}

// keptPhone is a phone as it lies in the directory of the demo, for whoever wants to press its buttons.
type keptPhone struct {
	URL    string `json:"url"`
	Device string `json:"device"`
	Key    []byte `json:"key"`
}

func phonesFile(dir string) string { return filepath.Join(dir, "phones.json") }

// pairPhones invites those who approve on a phone, and pairs their phones, as they would.
func pairPhones(ctx context.Context, c *client.Client, dir string) (map[string]*phone.Phone, error) {
	out, kept := map[string]*phone.Phone{}, map[string]keptPhone{}
	for _, a := range approvers {
		var made apitype.Invitations
		if err := c.Do(ctx, http.MethodPost, "/factor-invitations", apitype.InvitationInput{Store: NetBIOS,
			Person: a.user}, &made); err != nil {
			return nil, fmt.Errorf("inviting %s: %w", a.user, err)
		}
		p, err := phone.Enrol(ctx, nil, made.Items[0].Link, "harbour-"+a.user, "phone that "+string(a.does))
		if err != nil {
			return nil, fmt.Errorf("pairing the phone of %s: %w", a.user, err)
		}
		key, err := p.Private()
		if err != nil {
			return nil, err
		}
		out[a.user], kept[a.user] = p, keptPhone{p.URL, p.Device, key}
	}
	text, err := json.MarshalIndent(kept, "", "  ")
	if err == nil {
		err = os.WriteFile(phonesFile(dir), text, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the phones of the demo: %w", err)
	}
	return out, nil
}

// PhoneSays presses a button on the phone of somebody of the running demo: the number that is shown at the sign-in
// approves, refuse and alarm are words. Without one, it says what waits.
func PhoneSays(ctx context.Context, dir, person, said string) (string, error) {
	text, err := os.ReadFile(phonesFile(dir))
	kept := map[string]keptPhone{}
	if err == nil {
		err = json.Unmarshal(text, &kept)
	}
	if err != nil {
		return "", fmt.Errorf("reading the phones of the demo: %w", err)
	}
	k, ok := kept[strings.ToLower(person)]
	if !ok {
		var names []string
		for name := range kept {
			names = append(names, name)
		}
		slices.Sort(names)
		return "", fmt.Errorf("%s has no phone that approves; these have: %s", person, strings.Join(names, ", "))
	}
	p := &phone.Phone{URL: k.URL, Device: k.Device}
	if err := p.Restore(k.Key); err != nil {
		return "", err
	}
	list, err := p.Asks(ctx)
	if err != nil {
		return "", err
	}
	if len(list) == 0 {
		return "nothing waits", nil
	}
	ask := list[len(list)-1]
	for _, a := range list {
		if !strings.HasPrefix(a.From, home) { // that one is of whoever watches the demo
			ask = a
		}
	}
	what := "the sign-in at " + ask.Client
	if ask.From != "" {
		what += " from " + ask.From
	}
	verdict, number := approval.Verdict(said), 0
	switch verdict {
	case "":
		return fmt.Sprintf("%s waits until %s", what, ask.Until.Local().Format("15:04:05")), nil
	case approval.Refused, approval.Alarm:
	default:
		if number, err = strconv.Atoi(said); err != nil {
			return "", errors.New("say the number that is shown at the sign-in, refuse or alarm")
		}
		verdict = approval.Approved
	}
	came, err := p.Answer(ctx, ask.ID, verdict, number)
	return fmt.Sprintf("%s: %s", came, what), err
}

// home is where those who approve on a phone sign in from, each from a place of their own.
const home = "198.51.100.8"

var numberShown = regexp.MustCompile(`[1-9][0-9]`)

// Approvals has those who approve on a phone sign in to their desks, one after the other.
func Approvals(ctx context.Context, server string, phones map[string]*phone.Phone, every time.Duration) {
	desk := station("hh-desk-1")
	for n := 0; ctx.Err() == nil; n++ {
		a := approvers[n%len(approvers)]
		from := home + strconv.Itoa(n%len(approvers))
		one, cancel := context.WithTimeout(ctx, 15*time.Second)
		told := func(message string) {
			number, _ := strconv.Atoi(numberShown.FindString(message)) // none is refused
			list, err := phones[a.user].Asks(one)
			at := slices.IndexFunc(list, func(ask approval.Ask) bool { return ask.From == from })
			switch {
			case err != nil || at < 0: // somebody else signs in with that name
			case a.does == approves:
				_, err = phones[a.user].Answer(one, list[at].ID, approval.Approved, number)
			case a.does == refuses:
				_, err = phones[a.user].Answer(one, list[at].ID, approval.Refused, 0)
			case a.does == ignores:
				cancel()
			}
			if err != nil {
				cancel()
			}
		}
		desk.Ask(one, server, trial.Request{Method: "pap", User: a.user, Password: "harbour-" + a.user, Phone: true,
			Told: told}, from, 1, "")
		cancel()
		select {
		case <-ctx.Done():
		case <-time.After(every):
		}
	}
}
