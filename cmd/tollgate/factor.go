package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var factors = kind[apitype.Factor]{
	noun: "factor", path: "/factors",
	headings: []string{"ID", "PERSON", "STORE", "DEVICE", "KIND", "STATE", "LAST USED"},
	row: func(x apitype.Factor) []string {
		return []string{x.ID, x.Person, x.Store, x.Label, x.Kind, factorState(x), factorUse(x)}
	},
	show: func(s *invocation, x apitype.Factor) {
		clock := "as ours"
		if x.ClockOff != 0 {
			clock = fmt.Sprintf("%+d s from ours", x.ClockOff)
		}
		codes := fmt.Sprintf("%d digits every %d s, %s", x.Digits, x.Period, x.Algorithm)
		if x.Period == 0 {
			codes, clock = fmt.Sprintf("%d digits at each press, %s", x.Digits, x.Algorithm), "none"
		}
		if x.TemporaryUntil != nil {
			s.fields([2]string{"temporary", "a code until " + x.TemporaryUntil.Local().Format("2006-01-02 15:04")})
		}
		kind := [][2]string{{"codes", codes}, {"clock", clock}}
		switch x.Kind {
		case "phone":
			kind = [][2]string{{"kind", "approves sign-ins"}}
			if x.Keyed {
				kind[0][1] += ", with a security key alone"
			}
		case "key":
			kind = [][2]string{{"kind", "security key"}}
		}
		s.fields(append([][2]string{{"person", x.Person + " (" + x.Store + ")"}, {"device", x.Label},
			{"state", factorState(x)}}, kind...)...)
		s.fields([2]string{"recovery", many(x.Recovery, "code") + " left"}, [2]string{"last used", factorUse(x)},
			[2]string{"enrolled", x.MadeAt.Local().Format("2006-01-02 15:04") + " by " + x.MadeBy})
	},
}

func factorState(x apitype.Factor) string {
	switch {
	case x.Kind == "temporary":
		return "temporary code until " + x.TemporaryUntil.Local().Format("2006-01-02 15:04")
	case !x.Confirmed:
		return "not confirmed"
	case x.Alarm:
		return "said: this is not me"
	case x.PausedUntil != nil:
		return "phone not asked until " + x.PausedUntil.Local().Format("15:04:05")
	case x.LockedUntil != nil:
		return "too many wrong codes, until " + x.LockedUntil.Local().Format("15:04:05")
	case x.Wrong > 0:
		return many(x.Wrong, "wrong code")
	}
	return "in use"
}

func factorUse(x apitype.Factor) string {
	if x.UsedAt == nil {
		return ""
	}
	return x.UsedAt.Local().Format("2006-01-02 15:04") + " on " + x.UsedOn
}

// qr draws a QR code with half blocks, two rows in a line of text; dark squares are left out, since terminals are dark.
func qr(rows []string) string {
	dark := func(y, x int) bool { return y < len(rows) && rows[y][x] == '1' }
	var b strings.Builder
	for y := 0; y < len(rows); y += 2 {
		for x := range rows[y] {
			b.WriteString([]string{"█", "▀", "▄",
				" "}[map[bool]int{true: 2}[dark(y, x)]+map[bool]int{true: 1}[dark(y+1, x)]])
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func (s *invocation) recovery(codes []string) {
	if len(codes) == 0 {
		s.say("The recovery codes from before stay good.")
		return
	}
	s.say("Recovery codes, each good once in place of a code, shown only here:")
	for i := 0; i < len(codes); i += 4 {
		s.say("  %s", strings.Join(codes[i:min(i+4, len(codes))], "  "))
	}
}

func factorCommands() []command {
	// act is a call about one second factor that returns nothing.
	act := func(verb, short, method, path, done string, whole bool) command {
		return command{"factor", verb, "PERSON", short, func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				id, err := s.factor(args, whole)
				if err != nil {
					return err
				}
				if err := s.api.Do(s.ctx, method, "/factors/"+url.PathEscape(id)+path, nil, nil); err != nil {
					return err
				}
				return s.print(struct{}{}, func() { s.say("%s", done) })
			}
		}}
	}
	return append(factors.commands()[:2],
		readyCommand(), rollOutCommand(), reportCommand(), inviteCommand(), importFactorsCommand(), temporaryCommand(),
		command{"factor", "enrol", "PERSON", "enrol a person: a device for one-time codes",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				in := apitype.FactorInput{}
				f.StringVar(&in.Store, "store", "", "the person's directory, or local; default: look in all")
				f.StringVar(&in.Label, "label", "", "what the device is called")
				f.StringVar(&in.Seed, "seed", "", "seed of a device that already has one, in base32")
				f.StringVar(&in.Algorithm, "algorithm", "SHA1", "SHA1, SHA256 or SHA512; most phones know only SHA1")
				f.IntVar(&in.Digits, "digits", 6, "digits of a code")
				f.IntVar(&in.Period, "period", 30, "seconds that a code is shown")
				f.BoolVar(&in.Replace, "replace", false, "it counts in place of the other devices, not beside them")
				later := f.Bool("later", false, "do not ask for the code now; confirm it with factor confirm")
				return func(s *invocation, args []string) error {
					var err error
					if in.Person, err = one(args, "person"); err != nil {
						return err
					}
					var out apitype.FactorOffer
					if err := s.api.Do(s.ctx, http.MethodPost, "/factors", in, &out); err != nil {
						return err
					}
					if err := s.print(out, func() {
						s.say("%s\n%s\n", qr(out.QR), out.URI)
						s.say("Ask %s to scan the QR code with an authenticator, or to enter the seed %s.",
							out.Factor.Person,
							out.Seed)
					}); err != nil || *later || s.json {
						return err
					}
					code, err := s.secret("The code that it shows now")
					if err != nil {
						return err
					}
					return s.confirmFactor(out.Factor.ID, code)
				}
			}},
		command{"factor", "confirm", "PERSON CODE", "confirm an enrolment with the code that the device shows",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					if len(args) != 2 {
						return usageError("give the person, and the code that the device shows")
					}
					id, err := s.factor(args[:1], false)
					if err != nil {
						return err
					}
					return s.confirmFactor(id, args[1])
				}
			}},
		command{"factor", "recovery", "PERSON", "make new recovery codes, printed once",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					id, err := s.factor(args, true)
					if err != nil {
						return err
					}
					var out apitype.FactorRecovery
					if err := s.api.Do(s.ctx, http.MethodPost, "/factors/"+url.PathEscape(id)+"/recovery", nil,
						&out); err != nil {
						return err
					}
					return s.print(out, func() { s.recovery(out.Codes) })
				}
			}},
		act("release", "unlock after too many wrong codes", http.MethodPost, "/release",
			"Codes are accepted again.", true),
		act("end-temporary", "take a temporary code back", http.MethodDelete, "/temporary",
			"The temporary code is good no more.", true),
		act("remove", "remove a second factor, at once", http.MethodDelete, "",
			"The second factor is removed; a person without another one is refused wherever one is asked for.", false))
}

// factor finds a second factor by its person, by what the device is called, or by its identifier. Where all of the
// person's are meant, any of them will do.
func (s *invocation) factor(args []string, whole bool) (string, error) {
	arg, err := one(args, "person")
	if err != nil {
		return "", err
	}
	list, err := client.All[apitype.Factor](s.ctx, s.api, "/factors", url.Values{"q": {arg}})
	if err != nil {
		return "", err
	}
	if whole && len(list) > 0 && !slices.ContainsFunc(list, func(f apitype.Factor) bool {
		return !strings.EqualFold(f.Person, arg) || f.Store != list[0].Store
	}) {
		return list[0].ID, nil
	}
	return pick(list, "second factors", arg, func(f apitype.Factor) (string, []string) {
		return f.ID, []string{f.Person, f.Label, f.Person + "/" + f.Label}
	})
}

func (s *invocation) confirmFactor(id, code string) error {
	var out apitype.FactorRecovery
	if err := s.api.Do(s.ctx, http.MethodPost, "/factors/"+url.PathEscape(id)+"/confirm",
		apitype.FactorCode{Code: code}, &out); err != nil {
		return err
	}
	return s.print(out, func() {
		s.say("It counts from now on.")
		s.recovery(out.Codes)
	})
}

// temporaryCommand gives a code to somebody whose device is not at hand.
func temporaryCommand() command {
	return command{"factor", "temporary", "PERSON", "make a code for somebody whose device is not at hand",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			in := apitype.TemporaryInput{}
			f.StringVar(&in.Store, "store", "", "the person's directory, or local; default: look in all")
			f.IntVar(&in.Hours, "hours", 24, "for how long it is good, up to 336")
			f.BoolVar(&in.Once, "once", false, "it is good once only")
			return func(s *invocation, args []string) error {
				var err error
				if in.Person, err = one(args, "person"); err != nil {
					return err
				}
				var out apitype.TemporaryCode
				if err := s.api.Do(s.ctx, http.MethodPost, "/temporary-codes", in, &out); err != nil {
					return err
				}
				return s.print(out, func() {
					s.say("%s", out.Code)
					often := "as often as needed"
					if out.Once {
						often = "once"
					}
					s.say("Good for %s %s, until %s; shown only here.", out.Person, often,
						out.Until.Local().Format("2006-01-02 15:04"))
				})
			}
		}}
}

func (s *invocation) ready(r *apitype.Readiness, group []string) {
	if len(group) == 1 {
		var rows [][]string
		for _, p := range r.People {
			rows = append(rows, []string{p.Person, p.Display, p.Store, readyState(&p)})
		}
		s.table([]string{"PERSON", "NAME", "STORE", "SECOND FACTOR"}, rows)
		return
	}
	var rows [][]string
	for _, g := range append([]apitype.ReadyGroup{r.Everybody}, r.Groups...) {
		rows = append(rows, []string{or(g.Group, "(everybody)"), fmt.Sprint(g.People), fmt.Sprint(g.Enrolled),
			fmt.Sprint(g.Without), fmt.Sprint(g.Graced), fmt.Sprint(g.Failing)})
	}
	s.table([]string{"GROUP", "PEOPLE", "READY", "WITHOUT", "IN GRACE", "FAILING"}, rows)
	s.say("\nWho signed in since %s, or has an account. Without: would be refused today if it were asked of them.",
		r.BackTo.Local().Format("2006-01-02 15:04"))
}

func readyState(p *apitype.ReadyPerson) string {
	switch {
	case p.Locked:
		return "locked: too many wrong codes"
	case p.Failed > 0:
		return fmt.Sprintf("refused %d times in 7 days", p.Failed)
	case p.Enrolled:
		return "ready"
	case p.Graced != nil:
		return "none, admitted without since " + p.Graced.Local().Format(time.DateOnly)
	}
	return "none"
}

// inviteCommand makes links by which people enrol by themselves.
func inviteCommand() command {
	return command{"factor", "invite", "[PERSON]", "make a link by which a person sets up a second factor",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			in := apitype.InvitationInput{}
			f.StringVar(&in.Group, "group", "", "those of this group who signed in lately and have no second factor")
			f.StringVar(&in.Store, "store", "", "the person's directory, or local; default: look in all")
			f.IntVar(&in.Hours, "hours", 72, "how long the links are good")
			f.BoolVar(&in.Mail, "mail", false, "send each link by mail, in place of printing it")
			f.BoolVar(&in.Replace, "replace", false, "the new device counts in place of those that were lost")
			return func(s *invocation, args []string) error {
				if len(args) > 1 || (len(args) == 1) == (in.Group != "") {
					return usageError("give one person, or -group")
				}
				in.Person = strings.Join(args, "")
				var out apitype.Invitations
				if err := s.api.Do(s.ctx, http.MethodPost, "/factor-invitations", in, &out); err != nil {
					return err
				}
				return s.print(out, func() {
					for _, i := range out.Items {
						note := ""
						switch {
						case i.Has && in.Replace:
							note = " (replaces the devices that there are)"
						case i.Has:
							note = " (adds to the devices that there are)"
						}
						switch {
						case i.Problem != "":
							s.say("%s%s\n  not sent: %s", i.Person, note, i.Problem)
						case i.Mailed != "":
							s.say("%s%s\n  sent to %s", i.Person, note, i.Mailed)
						default:
							s.say("%s%s\n  %s", i.Person, note, i.Link)
						}
					}
					if in.Mail {
						s.say("\nEach is good once, until %s, with the password of its person.",
							out.Until.Local().Format("2006-01-02 15:04"))
						return
					}
					s.say("\nEach is good once, until %s, with the password of its person; shown only here.",
						out.Until.Local().Format("2006-01-02 15:04"))
				})
			}
		}}
}
