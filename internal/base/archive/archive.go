// Package archive writes and reads archives that hold a service: a tar file (POSIX.1-2001, pax), compressed with
// Zstandard (RFC 8878), encrypted with a passphrase in the age format. Its last entry is a manifest with the SHA-256 of
// every file, so one that is cut short or altered is refused.
package archive

import (
	"archive/tar"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
)

const (
	// MinPassphrase is the least number of characters of a passphrase.
	MinPassphrase = 12
	// workFactor is that of scrypt (RFC 7914), as a power of two: about a second.
	workFactor    = 18
	manifestName  = "manifest.json"
	maxManifest   = 1 << 20
	formatVersion = 1
)

// ErrPassphrase is returned for the wrong passphrase.
var ErrPassphrase = errors.New("the passphrase is not the one that the backup was made with")

// ErrDamaged is returned for what is no whole archive.
var ErrDamaged = errors.New("this is no whole backup: it was cut short or altered, or it is another kind of file")

// File is a file of an archive.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Manifest says what is in an archive.
type Manifest struct {
	Format  int       `json:"format"`
	Version string    `json:"version"`
	MadeAt  time.Time `json:"madeAt"`
	MadeBy  string    `json:"madeBy"`
	// Facts are what else is worth knowing before it is restored, such as the revision that runs.
	Facts map[string]string `json:"facts"`
	Files []File            `json:"files"`
}

// Writer writes an archive.
type Writer struct {
	sealed   io.WriteCloser
	packed   *zstd.Encoder
	tar      *tar.Writer
	manifest Manifest
}

// NewWriter begins an archive.
func NewWriter(to io.Writer, passphrase string, m Manifest) (*Writer, error) {
	if len([]rune(passphrase)) < MinPassphrase {
		return nil, fmt.Errorf("the passphrase needs at least %d characters", MinPassphrase)
	}
	recipient, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	recipient.SetWorkFactor(workFactor)
	w := &Writer{manifest: m}
	w.manifest.Format = formatVersion
	if w.sealed, err = age.Encrypt(to, recipient); err != nil {
		return nil, err
	}
	if w.packed, err = zstd.NewWriter(w.sealed, zstd.WithEncoderConcurrency(1),
		zstd.WithEncoderLevel(zstd.SpeedFastest)); err != nil {
		return nil, err
	}
	w.tar = tar.NewWriter(w.packed)
	return w, nil
}

// Add writes one file, of exactly that size.
func (w *Writer) Add(name string, size int64, content io.Reader) error {
	if err := w.tar.WriteHeader(&tar.Header{Name: name, Size: size, Mode: 0o600, ModTime: w.manifest.MadeAt,
		Format: tar.FormatPAX}); err != nil {
		return err
	}
	sum := sha256.New()
	if n, err := io.Copy(io.MultiWriter(w.tar, sum), io.LimitReader(content, size)); err != nil {
		return fmt.Errorf("adding %s to the backup: %w", name, err)
	} else if n != size {
		return fmt.Errorf("adding %s to the backup: it has %d octets instead of %d", name, n, size)
	}
	w.manifest.Files = append(w.manifest.Files, File{name, size, hex.EncodeToString(sum.Sum(nil))})
	return nil
}

// Close writes the manifest and ends the archive. Without it, the archive is refused.
func (w *Writer) Close() error {
	text, err := json.MarshalIndent(w.manifest, "", "  ")
	if err != nil {
		return err
	}
	if err := w.tar.WriteHeader(&tar.Header{Name: manifestName, Size: int64(len(text)), Mode: 0o600,
		ModTime: w.manifest.MadeAt, Format: tar.FormatPAX}); err != nil {
		return err
	}
	if _, err := w.tar.Write(text); err != nil {
		return err
	}
	return errors.Join(w.tar.Close(), w.packed.Close(), w.sealed.Close())
}

// Read reads an archive, hands each file on, and returns its manifest. Only when it returns without an error is what
// was handed on what was put in.
func Read(from io.Reader, passphrase string, each func(name string, size int64, content io.Reader) error) (Manifest,
	error) {
	var m Manifest
	identity, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return m, ErrPassphrase
	}
	identity.SetMaxWorkFactor(workFactor + 2)
	opened, err := age.Decrypt(from, identity)
	var wrong *age.NoIdentityMatchError
	if errors.As(err, &wrong) {
		return m, ErrPassphrase
	} else if err != nil {
		return m, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	unpacked, err := zstd.NewReader(opened, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
	if err != nil { // it has read the beginning
		return m, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	defer unpacked.Close()
	var files []File
	for in := tar.NewReader(unpacked); ; {
		h, err := in.Next()
		if err != nil {
			return m, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		if h.Name == manifestName {
			if err := json.NewDecoder(io.LimitReader(in, maxManifest)).Decode(&m); err != nil {
				return m, fmt.Errorf("%w: its manifest: %w", ErrDamaged, err)
			}
			break
		}
		sum := sha256.New()
		content := &counted{Reader: io.TeeReader(marked{in}, sum)}
		if err := each(h.Name, h.Size, content); err != nil {
			return m, err
		}
		if _, err := io.Copy(io.Discard, content); err != nil {
			return m, fmt.Errorf("%w: %s: %w", ErrDamaged, h.Name, err)
		}
		files = append(files, File{h.Name, content.n, hex.EncodeToString(sum.Sum(nil))})
	}
	if _, err := io.Copy(io.Discard, unpacked); err != nil { // the end of the encryption is checked there
		return m, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	if m.Format != formatVersion {
		return m, fmt.Errorf("the backup has format %d, and this version reads format %d", m.Format, formatVersion)
	}
	if fmt.Sprint(files) != fmt.Sprint(m.Files) {
		return m, fmt.Errorf("%w: its files are not those of its manifest", ErrDamaged)
	}
	return m, nil
}

type counted struct {
	io.Reader
	n int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.n += int64(n)
	return n, err
}

// marked tells of what cannot be read that the archive is damaged, wherever it is noticed: whoever takes a file out of
// it may meet the damage first.
type marked struct{ io.Reader }

func (m marked) Read(b []byte) (int, error) {
	n, err := m.Reader.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		err = fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return n, err
}
