package main

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

var factors = kind[apitype.Factor]{
	noun: "factor", path: "/factors",
	headings: []string{"ID", "PERSON", "STORE", "DEVICE", "STATE", "LAST USED"},
	row: func(x apitype.Factor) []string {
		return []string{x.ID, x.Person, x.Store, x.Label, factorState(x), factorUse(x)}
	},
	show: func(s *invocation, x apitype.Factor) {
		clock := "as ours"
		if x.ClockOff != 0 {
			clock = fmt.Sprintf("%+d s from ours", x.ClockOff)
		}
		s.fields([2]string{"person", x.Person + " (" + x.Store + ")"}, [2]string{"device", x.Label},
			[2]string{"state", factorState(x)}, [2]string{"codes", fmt.Sprintf("%d digits every %d s, %s", x.Digits,
				x.Period, x.Algorithm)}, [2]string{"clock", clock},
			[2]string{"recovery", many(x.Recovery, "code") + " left"}, [2]string{"last used", factorUse(x)},
			[2]string{"enrolled", x.MadeAt.Local().Format("2006-01-02 15:04") + " by " + x.MadeBy})
	},
}

func factorState(x apitype.Factor) string {
	switch {
	case !x.Confirmed:
		return "not confirmed"
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
	s.say("Recovery codes, each good once in place of a code, shown only here:")
	for i := 0; i < len(codes); i += 4 {
		s.say("  %s", strings.Join(codes[i:min(i+4, len(codes))], "  "))
	}
}

func factorCommands() []command {
	// act is a call about one second factor that returns nothing.
	act := func(verb, short, method, path, done string) command {
		return command{"factor", verb, "PERSON", short, func(*flag.FlagSet) func(*invocation, []string) error {
			return func(s *invocation, args []string) error {
				id, err := s.factor(args)
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
		command{"factor", "enrol", "PERSON", "enrol a person: a device for one-time codes",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				in := apitype.FactorInput{}
				f.StringVar(&in.Store, "store", "", "the person's directory, or local; default: look in all")
				f.StringVar(&in.Label, "label", "", "what the device is called")
				f.StringVar(&in.Seed, "seed", "", "seed of a device that already has one, in base32")
				f.StringVar(&in.Algorithm, "algorithm", "SHA1", "SHA1, SHA256 or SHA512; most phones know only SHA1")
				f.IntVar(&in.Digits, "digits", 6, "digits of a code")
				f.IntVar(&in.Period, "period", 30, "seconds that a code is shown")
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
					id, err := s.factor(args[:1])
					if err != nil {
						return err
					}
					return s.confirmFactor(id, args[1])
				}
			}},
		command{"factor", "recovery", "PERSON", "make new recovery codes, printed once",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					id, err := s.factor(args)
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
			"Codes are accepted again."),
		act("remove", "remove a second factor, at once", http.MethodDelete, "",
			"The second factor is removed; the person is refused wherever a code is asked for."))
}

// factor finds a second factor by its person, by what the device is called, or by its identifier.
func (s *invocation) factor(args []string) (string, error) {
	arg, err := one(args, "person")
	if err != nil {
		return "", err
	}
	list, err := client.All[apitype.Factor](s.ctx, s.api, "/factors", url.Values{"q": {arg}})
	if err != nil {
		return "", err
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
