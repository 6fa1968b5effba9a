package main

import (
	"flag"
	"net/http"
	"os"
	"strings"

	"tollgate.example/key/internal/web/apitype"
)

// importFactorsCommand takes a file of devices.
func importFactorsCommand() command {
	return command{"factor", "import", "FILE", "import devices from CSV or a key container (RFC 6030)",
		func(f *flag.FlagSet) func(*invocation, []string) error {
			check := f.Bool("check", false, "only report what would happen")
			partial := f.Bool("partial", false, "import the valid lines even if others are wrong")
			people := f.String("people", "", "container: CSV file with the columns serial, person, store")
			key := f.String("key-file", "", "container: file with the key that it is encrypted with, in hexadecimal")
			return func(s *invocation, args []string) error {
				path, err := one(args, "file")
				if err != nil {
					return err
				}
				in := apitype.FactorImport{Check: *check, Partial: *partial}
				if path == "-" {
					path = "/dev/stdin"
				}
				for to, path := range map[*string]string{&in.CSV: path, &in.People: *people, &in.Key: *key} {
					if path == "" {
						continue
					}
					text, err := os.ReadFile(path)
					if err != nil {
						return err
					}
					*to = strings.TrimPrefix(string(text), "\ufeff")
				}
				if in.Key = strings.TrimSpace(in.Key); strings.HasPrefix(strings.TrimSpace(in.CSV), "<") {
					in.CSV, in.PSKC = "", in.CSV
				}
				var report apitype.SheetReport
				if err := s.api.Do(s.ctx, http.MethodPost, "/factor-import", in, &report); err != nil {
					return err
				}
				err = s.print(report, func() { s.sheetReport(&report) })
				if err == nil && report.Wrong > 0 {
					return errFailed
				}
				return err
			}
		}}
}
