package api

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"tollgate.example/key/internal/base/panics"
)

// writeTime is how long one piece of an answer may take to be taken. A stream may last as long as it likes, but not
// hang.
const writeTime = 30 * time.Second

// onlyHosts answers requests for these hosts alone. A console that is served in clear on loopback would otherwise
// answer to any name: a page from elsewhere whose name was made to point here could talk to it as its own (DNS
// rebinding).
func onlyHosts(names []string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !ofHosts(r.Host, names) {
				http.Error(w, "this service does not answer to that name: open it by its address or as localhost, or "+
					"name the host with -http-host when it is started", http.StatusMisdirectedRequest)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

func ofHosts(host string, names []string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	if addr, err := netip.ParseAddr(host); err == nil && addr.IsLoopback() {
		return true
	}
	return host == "localhost" || slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, host) })
}

// inTime ends answers that nobody takes: each piece has writeTime.
func inTime(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(&timedWriter{w, http.NewResponseController(w)}, r)
	})
}

type timedWriter struct {
	http.ResponseWriter
	control *http.ResponseController
}

// Unwrap lets http.ResponseController find the writer below.
func (t *timedWriter) Unwrap() http.ResponseWriter { return t.ResponseWriter }

func (t *timedWriter) Write(b []byte) (int, error) {
	_ = t.control.SetWriteDeadline(time.Now().Add(writeTime)) // a writer of tests knows none
	return t.ResponseWriter.Write(b)
}

// Flush implements http.Flusher.
func (t *timedWriter) Flush() {
	_ = t.control.SetWriteDeadline(time.Now().Add(writeTime))
	_ = t.control.Flush()
}

// caught keeps a fault of ours in one call from ending more than that call.
func caught(log *panics.Log) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			defer log.Catch(func() string { return "the call " + r.Method + " " + r.URL.Path }, func() {
				http.Error(w, "a fault in Tollgate Key ended this call; the checkup names it",
					http.StatusInternalServerError)
			})
			next.ServeHTTP(w, r)
		})
	}
}
