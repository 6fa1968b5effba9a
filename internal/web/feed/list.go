package feed

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tollgate.example/key/internal/core/config"
	core "tollgate.example/key/internal/core/presence"
	"tollgate.example/key/internal/presence"
)

// list sends the addresses of the people of one group, for firewalls that can only fetch lists: one to a line, or as
// JSON. Whoever has a block of ports alone is left out, since a list has addresses.
func (s *server) list(w http.ResponseWriter, r *http.Request, who *config.Subscriber) {
	name, err := url.PathUnescape(chi.URLParam(r, "group"))
	if err != nil {
		refuse(w, http.StatusBadRequest, "the name of the group cannot be read")
		return
	}
	group, asText := strings.CutSuffix(name, ".txt")
	if !asText {
		group = strings.TrimSuffix(name, ".json")
	}
	addresses := []string{}
	if _, err := s.Snapshot(presence.FilterOf(who), func(list []core.Entry) error {
		for i := range list {
			if e := &list[i]; e.Ports.All() && slices.ContainsFunc(e.Groups, func(g string) bool {
				return strings.EqualFold(g, group)
			}) {
				if a := e.Address.String(); len(addresses) == 0 || addresses[len(addresses)-1] != a {
					addresses = append(addresses, a)
				}
			}
		}
		return nil
	}); err != nil {
		refuse(w, http.StatusInternalServerError, err.Error())
		return
	}
	text := strings.Join(addresses, "\n")
	if text != "" {
		text += "\n"
	}
	kind := "text/plain; charset=utf-8"
	if !asText {
		out, err := json.Marshal(map[string]any{"group": group, "addresses": addresses})
		if err != nil {
			refuse(w, http.StatusInternalServerError, err.Error())
			return
		}
		text, kind = string(out)+"\n", "application/json"
	}
	sum := sha256.Sum256([]byte(text))
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("ETag", tag)
	s.Note(who, func(f *presence.Follower, now time.Time) { f.From, f.Snapshot = from(r).String(), now })
	for _, have := range strings.Split(r.Header.Get("If-None-Match"), ",") {
		if have = strings.TrimPrefix(strings.TrimSpace(have), "W/"); have == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
	}
	w.Write([]byte(text))
}

// who tells who is at an address and port, for those who ask for one at a time.
func (s *server) who(w http.ResponseWriter, r *http.Request, asks *config.Subscriber) {
	address, err := netip.ParseAddr(r.URL.Query().Get("address"))
	if err != nil {
		refuse(w, http.StatusBadRequest, "address: "+err.Error())
		return
	}
	port := uint64(0)
	if text := r.URL.Query().Get("port"); text != "" {
		if port, err = strconv.ParseUint(text, 10, 16); err != nil {
			refuse(w, http.StatusBadRequest, "port is a number up to 65535, not "+strconv.Quote(text))
			return
		}
	}
	address = address.Unmap().WithZone("")
	name, role, groups, there := s.At(address, uint16(port))
	filter := presence.FilterOf(asks)
	s.Note(asks, func(f *presence.Follower, _ time.Time) { f.From = from(r).String() })
	if !there || !filter.Fits(address, groups) {
		refuse(w, http.StatusNotFound, "nobody is known there")
		return
	}
	answer(w, map[string]any{"address": address.String(), "who": name, "groups": groups, "role": role})
}
