package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"tollgate.example/key/internal/app"
)

// restore restores a backup into an empty data directory.
func restore(ctx context.Context, dir, path, keyFile string) error {
	passphrase, err := passphrase()
	if err != nil {
		return err
	}
	text, err := app.Restore(ctx, dir, path, passphrase, keyFile)
	if err != nil {
		return fmt.Errorf("restoring %s: %w", path, err)
	}
	fmt.Print(text)
	return nil
}

// passphrase asks for the passphrase of a backup, or reads a line if the input is no terminal.
func passphrase() (string, error) {
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		fmt.Fprint(os.Stderr, "Passphrase: ")
		text, err := term.ReadPassword(fd)
		fmt.Fprintln(os.Stderr)
		return string(text), err
	}
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", errors.Join(errors.New("the passphrase of the backup is missing on the standard input"), err)
	}
	return line, nil
}
