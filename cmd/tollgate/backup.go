package main

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"

	"tollgate.example/key/internal/base/archive"
	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func backupCommands() []command {
	return []command{
		{"backup", "create", "FILE", "write everything into one file; asks for a passphrase",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				without := f.Bool("without-key", false, "leave the key file out; whoever restores must have it from "+
					"elsewhere")
				return func(s *invocation, args []string) error {
					path, passphrase, err := s.backupFile(args)
					if err != nil {
						return err
					}
					return s.createBackup(path, apitype.BackupInput{Passphrase: passphrase, WithoutKey: *without})
				}
			}},
		{"backup", "verify", "FILE", "whether a backup is whole; asks for its passphrase",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					path, passphrase, err := s.backupFile(args)
					if err != nil {
						return err
					}
					m, err := verifyBackup(path, passphrase)
					if err != nil {
						return err
					}
					return s.print(m, func() { s.backup(path, m) })
				}
			}},
	}
}

// backupFile reads the name of a backup and asks for its passphrase.
func (s *invocation) backupFile(args []string) (path, passphrase string, err error) {
	if path, err = one(args, "file"); err == nil {
		passphrase, err = s.secret("Passphrase")
	}
	return path, passphrase, err
}

// createBackup writes a backup under another name, verifies it, and then gives it its own.
func (s *invocation) createBackup(path string, in apitype.BackupInput) error {
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("%s exists. Choose another name, or remove it first", path)
	}
	part := path + ".part"
	file, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(part)
	if err := s.api.Do(s.ctx, http.MethodPost, "/backup", in, client.To{Writer: file}); err != nil {
		return errors.Join(err, file.Close())
	}
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	m, err := verifyBackup(part, in.Passphrase)
	if err != nil {
		return err
	}
	if err := os.Rename(part, path); err != nil {
		return err
	}
	return s.print(m, func() {
		s.backup(path, m)
		s.say("Restore it into an empty directory with: tollgated -data DIR -restore %s", path)
	})
}

func verifyBackup(path, passphrase string) (archive.Manifest, error) {
	file, err := os.Open(path)
	if err != nil {
		return archive.Manifest{}, err
	}
	defer file.Close()
	m, err := archive.Read(file, passphrase, func(string, int64, io.Reader) error { return nil })
	if err != nil {
		return m, fmt.Errorf("%s: %w", path, err)
	}
	return m, nil
}

func (s *invocation) backup(path string, m archive.Manifest) {
	s.say("%s is whole. Made %s by %s, with version %s.", path, m.MadeAt.Local().Format("2006-01-02 15:04:05"),
		m.MadeBy,
		m.Version)
	s.say("Revision %s, %s attempts, %s entries of the journal.", m.Facts["revision"], m.Facts["attempts"],
		m.Facts["journal"])
	var rows [][]string
	key := false
	for _, f := range m.Files {
		rows = append(rows, []string{f.Name, fmt.Sprint(f.Size), f.SHA256[:16]})
		key = key || f.Name == "key"
	}
	s.table([]string{"FILE", "OCTETS", "SHA-256"}, rows)
	if !key {
		s.say("The key file is not in it. Without the key file nobody can use its secrets.")
	}
}
