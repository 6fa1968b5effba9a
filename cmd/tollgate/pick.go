package main

import (
	"fmt"
	"strings"
)

// pick finds one of a list by an argument, which is its identifier or one of its names, what the list
// is of. An argument that fits several is
// an error that tells them apart.
func pick[V any](list []V, what, arg string, of func(V) (id string, names []string)) (string, error) {
	var ids, said []string
	for _, v := range list {
		id, names := of(v)
		if id == arg {
			return id, nil
		}
		for _, name := range names {
			if strings.EqualFold(name, arg) && name != "" {
				ids, said = append(ids, id), append(said, fmt.Sprintf("%s (%s)", id, strings.Join(names, ", ")))
				break
			}
		}
	}
	switch len(ids) {
	case 0: // perhaps the identifier of one that the list left out; the service knows
		return arg, nil
	case 1:
		return ids[0], nil
	}
	return "", fmt.Errorf("%d %s fit %q: %s. Give the identifier of one", len(ids), what, arg, strings.Join(said, "; "))
}
