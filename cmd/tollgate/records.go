package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// maxAsked is how many records one call returns at most.
const maxAsked = 500

// records lists records, the newest first, up to a limit. A search that takes long says how far it came.
func records[T any](s *invocation, path string, q url.Values, limit int) ([]T, error) {
	items, told, unreadable := []T{}, time.Now(), 0
	var first apitype.Page[T]
	for len(items) < limit {
		q.Set("limit", fmt.Sprint(min(limit-len(items), maxAsked)))
		page, err := client.Get[apitype.Page[T]](s.ctx, s.api, path+"?"+q.Encode())
		if err != nil {
			return nil, err
		}
		if first.Items == nil {
			first = page
		}
		items, unreadable = append(items, page.Items...), unreadable+page.Unreadable
		if page.Next == "" {
			break
		}
		if q.Set("before", page.Next); page.Searched != nil && time.Since(told) > time.Second {
			told = time.Now()
			fmt.Fprintf(s.err, "Searched back to %s; Ctrl-C ends.\n", page.Searched.Local().Format("2006-01-02 15:04"))
		}
	}
	if unreadable > 0 {
		fmt.Fprintf(s.err, "%d records are left out: the file is damaged where they are. Check the disk; a backup may "+
			"have them.\n", unreadable)
	}
	s.elsewhere(first.Missing, first.Copied)
	return items, nil
}

// elsewhere says of nodes that do not answer what became of their records in a list.
func (s *invocation) elsewhere(missing []string, copied []apitype.Copied) {
	for _, c := range copied {
		how, until := "does not answer", ""
		if c.Removed {
			how = "was removed"
		}
		if c.Until != nil {
			until = " until " + c.Until.Local().Format("2006-01-02 15:04:05")
		}
		fmt.Fprintf(s.err, "%s %s; what it recorded%s comes from a copy.\n", c.Node, how, until)
	}
	if len(missing) > 0 {
		fmt.Fprintf(s.err, "What %s recorded is missing: no answer.\n", strings.Join(missing, " and "))
	}
}

// selectFlags are flags that select records, each a parameter of the call; arguments are the text to search for.
func selectFlags(f *flag.FlagSet, flags ...[2]string) func(args []string) url.Values {
	values := map[string]*string{}
	for _, v := range flags {
		values[v[0]] = f.String(v[0], "", v[1])
	}
	return func(args []string) url.Values {
		q := url.Values{}
		for name, v := range values {
			if *v != "" {
				q.Set(name, *v)
			}
		}
		if len(args) > 0 {
			q.Set("q", strings.Join(args, " "))
		}
		return q
	}
}

// recentFlags are flags that select records, with how recent they are to be.
func recentFlags(f *flag.FlagSet, flags ...[2]string) func(args []string) url.Values {
	selected, since := selectFlags(f, flags...), f.Duration("since", 0, "only this recent, such as 2h")
	return func(args []string) url.Values {
		q := selected(args)
		if *since > 0 {
			q.Set("since", time.Now().Add(-*since).Format(time.RFC3339))
		}
		return q
	}
}

// exportCommand writes what the flags select to a file.
func exportCommand(noun, help, path string, flags func(*flag.FlagSet) func(args []string) url.Values) command {
	return command{noun, "export", "[TEXT]", help, func(f *flag.FlagSet) func(*invocation, []string) error {
		query, format, to := flags(f), f.String("format", "csv", "csv, or jsonl for one JSON object a line"),
			f.String("to", "", "file to write; without it, to the terminal")
		return func(s *invocation, args []string) (err error) {
			q, out := query(args), s.file
			q.Set("format", *format)
			if *to != "" {
				file, failed := os.OpenFile(*to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
				if failed != nil {
					return failed
				}
				defer func() {
					if e := file.Close(); err == nil {
						err = e
					}
				}()
				out = file
			}
			return s.api.Do(s.ctx, http.MethodGet, path+"?"+q.Encode(), nil, client.To{Writer: out,
				Head: func(h http.Header) {
					var missing []string
					var copied []apitype.Copied
					_ = json.Unmarshal([]byte(h.Get(apitype.MissingHeader)), &missing) // there may be none
					_ = json.Unmarshal([]byte(h.Get(apitype.CopiedHeader)), &copied)
					s.elsewhere(missing, copied)
				}})
		}
	}}
}
