package onvif

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/url"
	"strings"

	"janustat/internal/speak/soap"
)

// multipartRelated is the type of an answer with attachments (SOAP Message Transmission Optimization
// Mechanism; RFC 2387).
const multipartRelated = "multipart/related"

// Bounds of what a device may send: of an answer with its attachments, and of one file.
const (
	maxAttached = 64 << 20
	maxParts    = 32
)

// parts takes an answer with attachments apart: the first part is the answer.
func parts(r io.Reader, boundary string) (answer []byte, attached map[string][]byte, err error) {
	m := multipart.NewReader(r, boundary)
	attached = map[string][]byte{}
	for n := 0; ; n++ {
		p, err := m.NextRawPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, fmt.Errorf("part %d: %w", n+1, err)
		}
		if n == maxParts {
			return nil, nil, fmt.Errorf("it has more than %d parts", maxParts)
		}
		data, err := io.ReadAll(p)
		if err != nil {
			return nil, nil, fmt.Errorf("part %d: %w", n+1, err)
		}
		if n == 0 {
			if len(data) > soap.MaxMessage {
				return nil, nil, fmt.Errorf("part 1 is larger than %d bytes", soap.MaxMessage)
			}
			answer = data
			continue
		}
		attached[strings.Trim(strings.TrimSpace(p.Header.Get("Content-ID")), "<>")] = data
	}
	if answer == nil {
		return nil, nil, errors.New("it has no part")
	}
	return answer, attached, nil
}

// ErrNoBackup means that a device gives no backup of its settings.
var ErrNoBackup = errors.New("it gives no backup")

// File is one that a device gives away.
type File struct {
	Name string
	Data []byte
}

// Backup fetches the device's own backup: from where it says that it is (GetSystemUris, SystemBackupUri), or
// as it sends it (GetSystemBackup). Of an address that it names, port, path and query count: it is asked where
// it is met. ErrNoBackup where it offers neither.
func (c *Client) Backup(ctx context.Context) ([]File, error) {
	var uris struct{ SystemBackupUri string } //nolint:revive // named by the standard
	err := c.call(ctx, "GetSystemUris", "", &uris)
	if err != nil && !Untold(err) {
		return nil, err
	}
	if uri := strings.TrimSpace(uris.SystemBackupUri); err == nil && uri != "" {
		f, err := c.download(ctx, uri)
		if err != nil {
			return nil, err
		}
		return []File{f}, nil
	}
	var a struct {
		BackupFiles []struct {
			Name string
			Data struct {
				Include struct {
					Href string `xml:"href,attr"`
				}
				Text string `xml:",chardata"`
			}
		}
	}
	switch err := c.call(ctx, "GetSystemBackup", "", &a); {
	case Untold(err):
		return nil, ErrNoBackup
	case err != nil:
		return nil, err
	}
	var out []File
	for i, f := range a.BackupFiles {
		file := File{Name: c.said(strings.TrimSpace(f.Name))}
		if href, inside := strings.CutPrefix(f.Data.Include.Href, "cid:"); inside {
			id, err := url.PathUnescape(href)
			if err != nil {
				id = href
			}
			data, ok := c.attached[id]
			if !ok {
				return nil, fmt.Errorf("%w: file %d is not attached", ErrNoSense, i+1)
			}
			file.Data = data
		} else if file.Data, err = octets(f.Data.Text); err != nil {
			return nil, fmt.Errorf("%w: file %d: %w", ErrNoSense, i+1, err)
		}
		out = append(out, file)
	}
	if len(out) == 0 {
		return nil, ErrNoBackup
	}
	return out, nil
}

// download fetches a file from where the device says it is, with HTTP Digest where that is asked for.
func (c *Client) download(ctx context.Context, uri string) (File, error) {
	there, err := url.Parse(uri)
	if err != nil || there.Path == "" {
		return File{}, fmt.Errorf("%w: %q is not an address", ErrNoBackup, c.said(uri))
	}
	at, err := c.at(uri)
	if err != nil {
		return File{}, err
	}
	c.Close() // what comes has passwords in it: on a connection that is kept out of a capture
	defer c.Close()
	data, err := c.get(confidential(ctx), at, maxAttached, ErrNoBackup)
	if err != nil {
		return File{}, err
	}
	return File{Name: c.said(there.Path[strings.LastIndexByte(there.Path, '/')+1:]), Data: data}, nil
}
