package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/intake"
	"janustat/internal/job"
	"janustat/internal/work"
)

// readShared reads the keys of a pack: a file of age, with the table of keyTable in it.
func (a *App) readShared(ctx context.Context, file, identity string) ([]work.SharedKey, error) {
	data, err := intake.Read(file, maxSealed)
	if err != nil {
		return nil, usageError{err}
	}
	who, err := a.identities(ctx, identity)
	if err != nil {
		return nil, err
	}
	var sealed io.Reader = bytes.NewReader(data)
	if bytes.HasPrefix(bytes.TrimSpace(data), []byte(armor.Header)) {
		sealed = armor.NewReader(sealed)
	}
	in, err := age.Decrypt(sealed, who...)
	if err != nil {
		return nil, usagef("%s is not opened by that: %w", file, err)
	}
	plain, err := io.ReadAll(io.LimitReader(in, maxSealed))
	if err != nil {
		return nil, usagef("%s: %w", file, err)
	}
	keys, err := sharedKeys(plain)
	if err != nil {
		return nil, usagef("%s: %w", file, err)
	}
	for _, k := range keys {
		a.veil.Add(k.Password)
	}
	return keys, nil
}

// identities gives what opens a file of age: a private key, or a passphrase.
func (a *App) identities(ctx context.Context, file string) ([]age.Identity, error) {
	if file == "" {
		phrase, err := a.secretLine(ctx, "passphrase of the passwords")
		if err != nil {
			return nil, err
		}
		id, err := age.NewScryptIdentity(phrase)
		return []age.Identity{id}, err
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, usageError{err}
	}
	defer f.Close()
	ids, err := age.ParseIdentities(io.LimitReader(f, maxLine))
	if err != nil {
		return nil, usagef("%s contains no age key: %w", file, err)
	}
	return ids, nil
}

// sharedKeys reads the table: the first user of a device is its administrator.
func sharedKeys(data []byte) (out []work.SharedKey, err error) {
	rows, err := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")))).ReadAll()
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	if len(rows) > 0 {
		for i, h := range rows[0] {
			at[h] = i + 1
		}
	}
	if at["mac"] == 0 || at["user"] == 0 || at["password"] == 0 {
		return nil, errors.New("it is not a table of keys: it needs the columns mac, user and password")
	}
	seen := map[device.MAC]bool{}
	for n, row := range rows[1:] {
		mac, err := device.ParseMAC(row[at["mac"]-1])
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", n+2, err)
		}
		plain := row[at["password"]-1]
		if note := at["note"]; note > 0 && strings.Contains(row[note-1], "apostrophe") {
			plain = strings.TrimPrefix(plain, "'")
		}
		k := work.SharedKey{MAC: mac, User: strings.TrimPrefix(row[at["user"]-1], "'"), Password: secret.New(plain)}
		if station, ok := strings.CutPrefix(k.User, pairWith); ok {
			if k.Pair, err = device.ParseMAC(station); err != nil {
				return nil, fmt.Errorf("row %d: %w", n+2, err)
			}
		} else {
			k.Further, seen[mac] = seen[mac], true
		}
		out = append(out, k)
	}
	return out, nil
}

// takeKeys puts keys onto the keyring of a new job.
func (a *App) takeKeys(ctx context.Context, dir string, list []work.SharedKey) error {
	j, err := job.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer j.Close()
	keys, err := a.keyring(ctx, j, true)
	if err != nil {
		return err
	}
	for _, k := range list {
		switch {
		case !k.Pair.IsZero():
			keys.SetPair(k.MAC, k.Pair, k.Password)
		case !k.Further:
			keys.Set(k.MAC, k.User, k.Password)
		default:
			keys.SetUserFor(k.MAC, k.User, k.Password)
			keys.ConfirmUser(k.MAC, k.User)
		}
	}
	if err := keys.Save(); err != nil {
		return err
	}
	a.say("%s taken over onto the job's keyring", plural(len(list), "password"))
	return nil
}
