package app

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"

	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/identity/account"
	"tollgate.example/key/internal/identity/domain"
	"tollgate.example/key/internal/identity/factor"
	"tollgate.example/key/internal/store"
)

// reseal seals the secrets of a version before this one for the places where they are, once. If it is broken off it
// begins anew with the next start.
func reseal(ctx context.Context, s *store.Store, box *seal.Box) error {
	if !box.Old {
		return nil
	}
	at := func(place func(id string) config.Place) func(id, sealed string) (string, error) {
		return func(id, sealed string) (string, error) {
			next, err := box.Again(place(id), config.Secret(sealed))
			return string(next), err
		}
	}
	err := s.Reseal(ctx, store.Sealed{
		Config:  func(text []byte) ([]byte, error) { return resealConfig(box, text) },
		Account: at(account.Place), Factor: at(factor.Place), Machine: at(func(id string) config.Place {
			return config.Place{Purpose: domain.MachinePurpose, Object: id}
		}),
	})
	if err != nil {
		return err
	}
	return box.Settle()
}

// resealed are the secrets of configurations of that version: kind, field and what it is for.
var resealed = []struct{ kind, field, purpose string }{
	{"clients", "secret", "radius"}, {"clients", "previous", "radius"}, {"clients", "tacacsSecret", "tacacs"},
	{"clients", "tacacsPrevious", "tacacs"},
	{"directories", "bindPassword", "bind"}, {"remotes", "secret", "remote"}, {"authorities", "key", "authority"},
	{"certificates", "key", "certificate"},
}

// resealConfig works on the text of a configuration, so that nothing else in it changes, whatever version wrote it.
func resealConfig(box *seal.Box, text []byte) ([]byte, error) {
	var whole map[string]any
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	if err := decoder.Decode(&whole); err != nil {
		return nil, err
	}
	for _, r := range resealed {
		list, _ := whole[r.kind].([]any)
		for _, entry := range list {
			object, _ := entry.(map[string]any)
			id, _ := object["id"].(string)
			secret, _ := object[r.field].(string)
			if secret == "" {
				continue
			}
			next, err := box.Again(config.Place{Purpose: r.purpose, Object: id}, config.Secret(secret))
			if err != nil {
				return nil, fmt.Errorf("%s of %s %v: %w", r.field, r.kind, object["name"], err)
			}
			object[r.field] = string(next)
		}
	}
	return json.Marshal(whole)
}
