package api

import (
	"bytes"
	"context"
	"encoding/base32"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/identity/sheet"
	"tollgate.example/key/internal/manage/audit"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/wire/pskc"
)

// factorColumns are those of a file of devices. A seed is in base32, or in hexadecimal as hex.
var factorColumns = []string{"person", "store", "serial", "seed", "hex", "kind", "digits", "period", "counter",
	"algorithm"}

// maxDevices bounds the devices of one import: each person is looked up.
const maxDevices = 5000

// importPatience bounds how long people are looked up, such as while a directory is silent.
const importPatience = 2 * time.Minute

// importFactors takes devices whose seeds are known.
func (s *server) importFactors() {
	big := operation("POST", "/factor-import", "import-factors", "Import devices for one-time codes, such as those of "+
		"hardware, from CSV or a key container (RFC 6030); each counts at once")
	big.MaxBodyBytes = maxFile
	huma.Register(s.api, big, func(ctx context.Context, in *struct{ Body apitype.FactorImport }) (
		*body[apitype.SheetReport], error) {
		text := in.Body.CSV
		if in.Body.PSKC != "" {
			var err error
			if text, err = ofContainer(&in.Body); err != nil {
				return nil, importFault(err)
			}
		}
		imports(ctx, "second factor", &apitype.Sheet{CSV: text, Check: in.Body.Check})
		report, err := s.takeFactors(ctx, text, &in.Body)
		if err != nil {
			return nil, importFault(err)
		}
		return ok(report), nil
	})
}

func importFault(err error) error {
	var fault *sheet.Fault
	if errors.As(err, &fault) {
		return faulty(fault.Field, fault.Message, fault.Remedy)
	}
	return factorFault(err)
}

func (s *server) takeFactors(ctx context.Context, text string, in *apitype.FactorImport) (apitype.SheetReport, error) {
	if strings.Count(text, "\n") > maxDevices+1 {
		return apitype.SheetReport{}, sheet.Fail("csv", fmt.Sprintf("there are more than %d lines", maxDevices),
			"Divide the file.")
	}
	ctx, cancel := context.WithTimeout(ctx, importPatience)
	defer cancel()
	var list []factor.Request
	report, err := sheet.Read(text, factorColumns, func(r *sheet.Row) (string, string, func(), error) {
		one, err := s.factorOf(ctx, r)
		if err != nil {
			return "", "", nil, err
		}
		what := "added"
		if slices.ContainsFunc(s.Factors.OfPerson(one.Store, one.Name, time.Now()), func(t factor.Token) bool {
			return one.Label != "" && t.Label == one.Label && t.Kind == factor.KindCode
		}) {
			what = "changed"
		}
		return one.Store + "/" + one.Name + "/" + one.Label, what, func() { list = append(list, one) }, nil
	})
	if err != nil || in.Check || report.Wrong > 0 && !in.Partial {
		audit.Of(ctx).Skip() // nothing is done
		return report, err
	}
	for i := range list {
		if _, err := s.Factors.Import(ctx, list[i], time.Now()); err != nil {
			return report, fmt.Errorf("the import stopped at %s, after %d devices: %w", list[i].Name, i, err)
		}
	}
	report.Done = true
	return report, nil
}

// factorOf reads one line.
func (s *server) factorOf(ctx context.Context, r *sheet.Row) (out factor.Request, err error) {
	get := func(column string) string { text, _ := r.Get(column); return strings.Clone(text) }
	number := func(column string) (n int64) {
		text := get(column)
		if text == "" || err != nil {
			return 0
		}
		if n, err = strconv.ParseInt(text, 10, 64); err != nil {
			err = sheet.Fail(column, fmt.Sprintf("%q is no number", text), "Write digits.")
		}
		return n
	}
	out = factor.Request{Label: get("serial"), Seed: get("seed"), Algorithm: get("algorithm"),
		Digits: int(number("digits")), Period: int(number("period")), Counter: number("counter"), By: who(ctx).Name}
	if err != nil {
		return out, err
	}
	switch kind := strings.ToLower(get("kind")); kind {
	case "hotp":
		out.Counted = true
	case "", "totp":
	default:
		return out, sheet.Fail("kind", fmt.Sprintf("%q is not a kind", kind), "Write totp or hotp.")
	}
	if text := get("hex"); text != "" {
		seed, wrong := hex.DecodeString(text)
		if wrong != nil || out.Seed != "" {
			return out, sheet.Fail("hex", "this is no hexadecimal, or there is a seed as well", "Give one of the two.")
		}
		out.Seed = base32.StdEncoding.EncodeToString(seed)
	}
	if out.Seed == "" {
		return out, sheet.Fail("seed", "is missing", "Give it in base32, or in hexadecimal in the column hex.")
	}
	if err := out.Check(); err != nil {
		var field *factor.FieldError
		if errors.As(err, &field) {
			return out, sheet.Fail(field.Field, field.Message, field.Remedy)
		}
		return out, err
	}
	person, err := s.whom(ctx, get("store"), get("person"))
	if err != nil {
		var p *apitype.Problem
		if errors.As(err, &p) && len(p.Errors) > 0 {
			return out, sheet.Fail("person", p.Errors[0].Message, p.Errors[0].Remedy)
		}
		return out, sheet.Fail("person", err.Error(), "Look it up.")
	}
	out.Store, out.Name, out.Display = person.Store, person.Name, person.Display
	return out, nil
}

// ofContainer writes a key container as lines. Whose a device is stands in it, or in a file of serial numbers.
func ofContainer(in *apitype.FactorImport) (string, error) {
	var key []byte
	if in.Key != "" {
		var err error
		if key, err = pskc.ParseKey(in.Key); err != nil {
			return "", sheet.Fail("key", err.Error(), "The vendor of the devices tells it apart from the file.")
		}
	}
	keys, err := pskc.Parse([]byte(in.PSKC), key)
	if err != nil {
		return "", sheet.Fail("pskc", err.Error(), "Give the file as it came, and the key that it was encrypted with.")
	}
	type holder struct{ person, store string }
	people := map[string]holder{}
	if in.People != "" {
		report, err := sheet.Read(in.People, []string{"serial", "person", "store"}, func(r *sheet.Row) (string, string,
			func(), error) {
			serial, _ := r.Get("serial")
			person, _ := r.Get("person")
			store, _ := r.Get("store")
			return strings.Clone(serial), "added", func() {
				people[strings.Clone(serial)] = holder{strings.Clone(person), strings.Clone(store)}
			}, nil
		})
		if err != nil {
			return "", err
		}
		if report.Wrong > 0 {
			return "", sheet.Fail("people", fmt.Sprintf("%d lines are wrong", report.Wrong),
				"Write serial,person,store and a line for each device.")
		}
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Write([]string{"person", "store", "serial", "hex", "kind", "digits", "period", "counter", "algorithm"})
	for _, k := range keys {
		serial := k.Serial
		if serial == "" {
			serial = k.ID
		}
		of, listed := people[serial]
		if !listed {
			of.person = k.User
		}
		kind := "totp"
		if k.Counted {
			kind = "hotp"
		}
		w.Write([]string{of.person, of.store, serial, hex.EncodeToString(k.Secret), kind, strconv.Itoa(k.Digits),
			strconv.Itoa(k.Period), strconv.FormatInt(k.Counter, 10), k.Algorithm})
	}
	w.Flush()
	return b.String(), nil
}
