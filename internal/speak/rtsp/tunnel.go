package rtsp

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"

	"janustat/core/secret"
)

// tunnelled is the type of a conversation inside HTTP.
const tunnelled = "application/x-rtsp-tunnelled"

// inside is a conversation inside HTTP (ONVIF Streaming Specification, RTP/RTSP/HTTP/TCP): the
// answers come as what a GET brings, and what is asked goes, in base64 (RFC 4648), as what a
// POST sends. Both name the same session.
type inside struct {
	get, post net.Conn
	r         *bufio.Reader
}

func (i *inside) Read(b []byte) (int, error) { return i.r.Read(b) }

func (i *inside) Write(b []byte) (int, error) {
	if _, err := io.WriteString(i.post, base64.StdEncoding.EncodeToString(b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

func (i *inside) Close() error { return errors.Join(i.get.Close(), i.post.Close()) }

// tunnel opens a conversation inside HTTP, with HTTP Digest (RFC 7616) where it is asked for.
func tunnel(ctx context.Context, dial func(context.Context) (net.Conn, error), uri, user string, p secret.Password) (io.ReadWriteCloser, error) {
	u, err := url.Parse(uri)
	if err != nil {
		return nil, fmt.Errorf("%w: no address", ErrNoStream)
	}
	var b [12]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	cookie := hex.EncodeToString(b[:])
	request := func(c net.Conn, method, more, proof string) error {
		text := fmt.Sprintf("%s %s HTTP/1.1\r\nHost: %s\r\nx-sessioncookie: %s\r\nCache-Control: no-cache\r\n%s", method, u.RequestURI(), u.Host, cookie, more)
		if proof != "" {
			text += "Authorization: " + proof + "\r\n"
		}
		_, err := io.WriteString(c, text+"\r\n")
		return err
	}
	for proof := ""; ; {
		get, err := dial(ctx)
		if err != nil {
			return nil, err
		}
		stop := context.AfterFunc(ctx, func() { get.Close() })
		r := bufio.NewReader(get)
		if err = request(get, http.MethodGet, "Accept: "+tunnelled+"\r\n", proof); err != nil {
			get.Close()
			return nil, err
		}
		a, err := readHead(r, "HTTP/")
		stop()
		if err == nil && a.status != http.StatusOK {
			get.Close()
			switch {
			case a.status == http.StatusUnauthorized && proof == "":
				if proof, err = prove(a.header, http.MethodGet, u.RequestURI(), user, p); err == nil {
					continue
				}
			case a.status == http.StatusUnauthorized || a.status == http.StatusForbidden && proof != "":
				err = fmt.Errorf("%w (HTTP status %d)", ErrRefused, a.status)
			case a.status == http.StatusForbidden:
				err = fmt.Errorf("%w: the stream is refused to everyone (HTTP status %d)", ErrUnasked, a.status)
			default:
				err = fmt.Errorf("%w (HTTP status %d)", ErrNoStream, a.status)
			}
		}
		if err != nil {
			get.Close()
			return nil, err
		}
		post, err := dial(ctx)
		if err != nil {
			get.Close()
			return nil, err
		}
		// The length is of no conversation: it is what clients say (the specification's example).
		if proof != "" {
			if proof, err = prove(a.header, http.MethodPost, u.RequestURI(), user, p); err != nil {
				proof, err = "", nil // it is the GET's session that was proved
			}
		}
		if err = request(post, http.MethodPost, "Content-Type: "+tunnelled+"\r\nContent-Length: 32767\r\n", proof); err != nil {
			get.Close()
			post.Close()
			return nil, err
		}
		return &inside{get, post, r}, nil
	}
}
