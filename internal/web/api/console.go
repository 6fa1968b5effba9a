package api

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"sync"

	"tollgate.example/key/console"
)

// noncePlaceholder stands in the built page where each response puts its own nonce.
const noncePlaceholder = "{{csp-nonce}}"

// securityHeaders are set on every response. The policy of the page itself adds its nonce.
func securityHeaders(secure bool) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			h := w.Header()
			h.Set("X-Content-Type-Options", "nosniff")
			h.Set("Referrer-Policy", "same-origin")
			h.Set("X-Frame-Options", "DENY")
			h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
			h.Set("Cross-Origin-Opener-Policy", "same-origin")
			h.Set("Cross-Origin-Resource-Policy", "same-origin")
			h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
			if secure { // browsers heed it only where they trust the certificate
				h.Set("Strict-Transport-Security", "max-age=31536000")
			}
			next.ServeHTTP(w, r)
		})
	}
}

var index = sync.OnceValue(func() []byte {
	page, err := fs.ReadFile(console.Files(), "index.html")
	if err != nil {
		return []byte("<!doctype html><title>Tollgate Key</title><p>The console was not built into this program: run " +
			"make build.</p>")
	}
	return page
})

// consoleFiles serves the built console. Its assets have their hash in the name and never change; every other path is
// the page itself, which reads the path.
func consoleFiles() http.Handler {
	files := http.FileServerFS(console.Files())
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "there is no such call", http.StatusNotFound)
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			files.ServeHTTP(w, r)
			return
		}
		if info, err := fs.Stat(console.Files(), name); err == nil && !info.IsDir() && name != "index.html" {
			w.Header().Set("Cache-Control", "no-cache")
			files.ServeHTTP(w, r)
			return
		}
		servePage(w)
	})
}

func servePage(w http.ResponseWriter) {
	random := make([]byte, 16)
	rand.Read(random)
	nonce := base64.StdEncoding.EncodeToString(random)
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", fmt.Sprintf("default-src 'none'; script-src 'self' 'nonce-%s'; style-src 'self' "+
		"'nonce-%s'; font-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'self'; "+
		"frame-ancestors 'none'", nonce, nonce))
	w.Write(bytes.ReplaceAll(index(), []byte(noncePlaceholder), []byte(nonce)))
}
