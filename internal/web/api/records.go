package api

import (
	"errors"
	"net/http"
	"time"

	"tollgate.example/key/internal/store/record"
	"tollgate.example/key/internal/web/apitype"
)

// patience is how long a search goes on before what it found so far is returned, with how far it came.
const patience = 80 * time.Millisecond

// pageView is a page of records as it is sent.
func pageView[T, V any](page *record.Page[T], view func(*T) V) apitype.Page[V] {
	out := apitype.Page[V]{Items: make([]V, len(page.Items)), Unreadable: page.Unreadable}
	for i := range page.Items {
		out.Items[i] = view(&page.Items[i])
	}
	if page.Next != 0 {
		out.Next = page.Next.String()
	}
	if !page.Searched.IsZero() {
		out.Searched = &page.Searched
	}
	return out
}

// searchProblem says what to do where a search had no turn.
func searchProblem(err error) error {
	if errors.Is(err, record.ErrBusy) {
		return problem(http.StatusServiceUnavailable, "Too many searches are under way.", "Try again in a moment.")
	}
	return err
}
