// Command load measures the service: attempts per second by PAP for local accounts with every attempt recorded,
// beside the floor in the same run, which is a responder that only checks and signs; and EAP conversations beside bare
// TLS handshakes. It ends by itself.
//
// Load and service share the machine, as in the numbers of docs/PERFORMANCE.md.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"runtime/pprof"
	"slices"
	"time"

	"tollgate.example/key/internal/app"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

const (
	secret   = "load-and-measure-24"
	people   = 50
	devices  = 5 * people // each that of one person
	password = "gangway-and-rope"
)

func main() {
	seconds := flag.Duration("for", 4*time.Second, "how long each measurement takes")
	rounds := flag.Int("rounds", 7, "how often floor and service are measured in turn")
	profile := flag.String("profile", "", "write a CPU profile of the measurements to this file")
	only := flag.Bool("throughput", false, "measure only the attempts per second")
	tunnelled := flag.Bool("eap", false, "measure only EAP conversations")
	gear := flag.Bool("gear", false, "measure only TACACS+")
	held, at := flag.Int("hold", 0, "only open so many TACACS+ connections and let them rest; the measurement calls "+
		"itself with it"), flag.String("at", "", "where to")
	published := flag.Bool("publish", false, "measure only publishing among 10,000 clients and 1,000 policies")
	retained := flag.Int("retention", 0, "record so many old attempts, and measure only attempts beside their removal")
	large := flag.Bool("large", false, "measure only a configuration of 100,000 clients and 10,000 policies")
	rehearsed := flag.Int("rehearse", 0, "record so many attempts, and measure only their rehearsal, alone and "+
		"under load")
	accounting := flag.Bool("accounting", false, "measure only accounting and sessions")
	streams := flag.Bool("streams", false, "measure only RADIUS over TLS beside UDP, and forwarding")
	records := flag.Int("records", 0, "record so many attempts, and measure only searches through them")
	nodes := flag.Bool("nodes", false, "measure only one node alone and among others")
	challenged := flag.Bool("challenge", false, "measure only sign-ins that are asked for a code")
	present := flag.Int("presence", 0, "report so many people at addresses, and measure only presence")
	again := flag.String("presence-again", "", "only read what was reported in this directory; the measurement calls "+
		"itself with it")
	flag.Parse()
	if *profile != "" {
		f, err := os.Create(*profile)
		if err != nil {
			fmt.Fprintln(os.Stderr, "load:", err)
			os.Exit(1)
		}
		defer f.Close()
		pprof.StartCPUProfile(f)
		defer pprof.StopCPUProfile()
	}
	if *held > 0 {
		if err := hold(*at, *held); err != nil {
			fmt.Fprintln(os.Stderr, "load:", err)
			os.Exit(1)
		}
		return
	}
	slog.SetDefault(slog.New(slog.DiscardHandler))
	var err error
	switch {
	case *challenged:
		err = challengesOnly(*seconds, min(*rounds, 5))
	case *present > 0:
		err = presenceOnly(*present)
	case *again != "":
		err = presenceAgain(*again)
	case *nodes:
		err = nodesOnly(*seconds, min(*rounds, 5))
	case *published:
		err = publishOnly()
	case *retained > 0:
		err = retaining(*retained, 12_000)
	case *large:
		err = largeOnly(100_000, 20, 500)
	case *accounting:
		err = accountingOnly(*seconds, min(*rounds, 5), *only)
	case *streams:
		err = streamsOnly(*seconds, min(*rounds, 5))
	case *records > 0:
		err = recording(*records)
	default:
		err = run(*seconds, *rounds, *only, *tunnelled, *gear, *rehearsed)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "load:", err)
		os.Exit(1)
	}
}

// service is a service in a scratch directory.
type service struct {
	*app.App
	api *client.Client
	dir string
}

func start() (*service, error) {
	dir, err := os.MkdirTemp("", "tollgate-load")
	if err != nil {
		return nil, err
	}
	s := &service{dir: dir}
	s.App, err = app.Start(context.Background(), app.Options{Data: dir, HTTP: "127.0.0.1:0",
		RADIUS: []string{"127.0.0.1:0"}, Accounting: []string{"127.0.0.1:0"}, RADIUSTLS: []string{"127.0.0.1:0"},
		TACACS: []string{"127.0.0.1:0"}, NodeAddress: "127.0.0.1:0", Engine: []string{program, app.EngineFlag}})
	if err != nil {
		return nil, err
	}
	s.api = &client.Client{URL: s.URL}
	var signed apitype.SignedIn
	err = errors.Join(s.do(http.MethodPost, "/setup", apitype.SetupInput{Code: s.SetupCode, Name: "load",
		Password: "load-and-measure"}, nil),
		s.do(http.MethodPost, "/sign-in", apitype.SignInInput{Name: "load", Password: "load-and-measure",
			TokenName: "load"}, &signed))
	s.api.Token = signed.Token
	return s, err
}

func (s *service) do(method, path string, in, out any, options ...client.Option) error {
	return s.api.Do(context.Background(), method, path, in, out, options...)
}

func (s *service) end() {
	s.Stop()
	os.RemoveAll(s.dir)
}

// configure adds a client, people and a lane with a few policies before the one that fits.
func (s *service) configure() error {
	err := errors.Join(
		s.do(http.MethodPost, "/clients", apitype.ClientInput{Secret: secret,
			ClientFields: apitype.ClientFields{Name: "load-1", Enabled: true, Addresses: []string{"127.0.0.1"},
				MessageAuthenticator: "require", Tags: map[string]string{"site": "north-pier"}}}, nil),
		s.do(http.MethodPost, "/realms", apitype.RealmFields{Name: "here", Forms: []config.Form{{Kind: config.Bare}},
			Lookup: []config.Lookup{{Store: "local", Unreachable: config.Refuse}}}, nil),
		s.do(http.MethodPost, "/passes", apitype.PassFields{Name: "crew", VLAN: "30", SessionTimeout: 3600,
			Role: "crew"}, nil),
		s.do(http.MethodPost, "/lanes", apitype.LaneFields{Name: "Wired", When: "port.type is Ethernet",
			Methods: []string{"pap"}, Policies: []*config.Policy{
				{Name: "Officers", Enabled: true, When: `group is "Deck Officers" and client.site is north-pier`,
					Outcome: config.Admit, Pass: "crew"},
				{Name: "Engine", Enabled: true, When: `group is "Engine Room"`, Outcome: config.Admit, Pass: "crew"},
				{Name: "By department", Enabled: true, When: "always", Outcome: config.Admit,
					Groups: []config.GroupRow{{Group: "Ticketing", Pass: "crew"}, {Group: "Crew", Pass: "crew"}}}}},
			nil),
		s.do(http.MethodPost, "/draft/publish", map[string]string{}, nil))
	for i := range people {
		err = errors.Join(err, s.do(http.MethodPost, "/accounts", apitype.AccountInput{Password: password,
			AccountFields: apitype.AccountFields{Name: user(i), Groups: []string{"Crew", "All Crew"}, Enabled: true}},
			nil))
	}
	return err
}

func user(i int) string { return fmt.Sprintf("crew.member%02d", i%people) }

func run(duration time.Duration, rounds int, only, tunnelled, gear bool, rehearsed int) error {
	floor, err := startFloor()
	if err != nil {
		return err
	}
	defer floor.Close()
	s, err := start()
	if err != nil {
		return err
	}
	defer s.end()
	if err := s.configure(); err != nil {
		return err
	}
	if tunnelled {
		return measureEAP(s, duration, rounds)
	}
	if gear {
		return measureGear(s, duration, min(rounds, 5))
	}
	target := s.RADIUS[0].String()
	if _, err := drive(target, options{window: 8, requests: 2 * people}); err != nil { // each password once by argon2id
		return err
	}
	if rehearsed > 0 {
		return rehearsing(s, target, rehearsed)
	}
	fmt.Println("PAP attempts over loopback, service and load on the same cores")
	var ratios []float64
	var last result
	for round := range rounds {
		s.Attempts.Flush(context.Background()) // nothing of the last round is left to do
		f, err := drive(floor.Addr(), options{window: 64, duration: duration})
		if err != nil {
			return err
		}
		before := recorded(s)
		if last, err = drive(target, options{window: 64, duration: duration}); err != nil {
			return err
		}
		s.Attempts.Flush(context.Background())
		kept := recorded(s) - before
		ratio := last.rate / f.rate
		ratios = append(ratios, ratio)
		fmt.Printf("  round %d: floor %7.0f/s   service %7.0f/s   ratio %.2f   answered %d, recorded %d, lost %d\n",
			round+1, f.rate, last.rate, ratio, last.answered, kept, s.Attempts.Lost())
		if kept != int64(last.answered) || s.Attempts.Lost() > 0 {
			return fmt.Errorf("%d attempts were answered, but %d recorded", last.answered, kept)
		}
	}
	slices.Sort(ratios)
	fmt.Printf("  median ratio %.2f\n", ratios[len(ratios)/2])
	if only {
		return nil
	}
	if err := sustained(s, target, 5*duration); err != nil {
		return err
	}
	half, err := drive(target, options{window: 64, duration: duration, rate: last.rate / 2})
	if err != nil {
		return err
	}
	beside, err := drive(floor.Addr(), options{window: 64, duration: duration, rate: last.rate / 2})
	if err != nil {
		return err
	}
	fmt.Printf("At half load, %.0f/s: p50 %v, p99 %v, max %v, unanswered %d; the floor p50 %v, p99 %v\n", half.rate,
		half.percentile(50), half.percentile(99), half.percentile(100), half.lost, beside.percentile(50),
		beside.percentile(99))
	if err := publishing(s, target, last.rate/4); err != nil {
		return err
	}
	if err := measureEAP(s, duration, min(rounds, 3)); err != nil {
		return err
	}
	if err := measureGear(s, duration, min(rounds, 3)); err != nil {
		return err
	}
	return coldStart()
}

// sustained measures a longer time, with everything committed and indexed by its end.
func sustained(s *service, target string, duration time.Duration) error {
	begun := time.Now()
	r, err := drive(target, options{window: 64, duration: duration})
	if err != nil {
		return err
	}
	s.Attempts.Flush(context.Background())
	fmt.Printf("Sustained for %v, until everything is committed and indexed: %.0f/s, lost %d\n", duration,
		float64(r.answered)/time.Since(begun).Seconds(), s.Attempts.Lost())
	return nil
}

// recorded counts what is in the database.
func recorded(s *service) int64 {
	now, err := client.Get[apitype.Now](context.Background(), s.api, "/now")
	if err != nil {
		return -1
	}
	return int64(now.Admitted + now.Refused)
}
