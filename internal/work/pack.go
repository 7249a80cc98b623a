package work

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"janustat/internal/disk"
	"janustat/internal/handover"

	"golang.org/x/crypto/ssh"
)

func WritePack(dir string, r handover.Record, o handover.Options, signer ssh.Signer) ([]string, error) {
	if err := disk.OwnDir(dir); err != nil {
		return nil, fmt.Errorf("handover: %w", err)
	}
	docs, err := r.Pack(o)
	if err != nil {
		return nil, err
	}
	if signer != nil {
		sig, err := handover.Sign(docs[len(docs)-1].Data, signer)
		if err != nil {
			return nil, err
		}
		docs = append(docs, handover.Document{Name: handover.SignatureFile, Data: sig})
	}
	if err := clearStale(dir, docs); err != nil {
		return nil, err
	}
	var files []string
	for _, d := range docs {
		path := filepath.Join(dir, d.Name)
		mode := os.FileMode(0o644)
		if d.Name == handover.PasswordsFile {
			mode = 0o600
		}
		if err := disk.WriteFile(path, d.Data, mode); err != nil {
			return nil, err
		}
		files = append(files, path)
	}
	return files, nil
}

// clearStale takes away what an earlier run was asked for and this one was not, and which
// does not fit the new pack: a table of changes, and a signature of another manifest.
func clearStale(dir string, docs []handover.Document) error {
	at := slices.IndexFunc(docs, func(d handover.Document) bool { return d.Name == handover.ManifestFile })
	was, err := os.ReadFile(filepath.Join(dir, handover.ManifestFile))
	if err != nil || bytes.Equal(was, docs[at].Data) {
		return nil // none, or all is as it was
	}
	for _, name := range []string{handover.ChangesFile, handover.SignatureFile} {
		if slices.ContainsFunc(docs, func(d handover.Document) bool { return d.Name == name }) {
			continue
		}
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("handover: %w", err)
		}
	}
	return nil
}
