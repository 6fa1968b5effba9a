package main

import (
	"fmt"
	"net/url"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// maxAsked is how many records one call returns at most.
const maxAsked = 500

// records lists records, the newest first, up to a limit. A search that takes long says how far it came.
func records[T any](s *invocation, path string, q url.Values, limit int) ([]T, error) {
	items, told, unreadable := []T{}, time.Now(), 0
	for len(items) < limit {
		q.Set("limit", fmt.Sprint(min(limit-len(items), maxAsked)))
		page, err := client.Get[apitype.Page[T]](s.ctx, s.api, path+"?"+q.Encode())
		if err != nil {
			return nil, err
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
	return items, nil
}
