package app

import (
	"tollgate.example/key/internal/base/panics"
	"tollgate.example/key/internal/base/seal"
	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/gate"
	"tollgate.example/key/internal/identity/directory"
)

// inUse gives the checkup the configuration that the gate works with.
type inUse struct {
	gate *gate.Gate
	box  *seal.Box
}

// Directories are those in use.
func (u inUse) Directories() []*config.Directory { return u.gate.Current().Plan.Config.Directories }

// Panics implements checkup.Source.
func (u inUse) Panics() []panics.Panic { return u.gate.Panics.List() }

// Password opens that of a service account.
func (u inUse) Password(d *config.Directory) (string, error) {
	return u.box.Open(d.BindPlace(), d.BindPassword)
}

// Member is our membership of the domain of a directory, nil if there is none.
func (u inUse) Member(d *config.Directory) directory.MemberTester {
	if member := u.gate.Current().Member(d.Name); member != nil {
		return member
	}
	return nil
}

// Directory is one of them, open; nil if there is none.
func (u inUse) Directory(name string) *directory.Directory {
	if open := u.gate.Current().Directory(name); open != nil {
		return open.Directory
	}
	return nil
}
