package onvif

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// attachedTo makes an answer with attachments.
func attachedTo(answer string, files map[string]string) (kind string, body []byte) {
	var b bytes.Buffer
	m := multipart.NewWriter(&b)
	p, _ := m.CreatePart(textproto.MIMEHeader{"Content-Type": {"application/xop+xml"}})
	fmt.Fprint(p, answer)
	for id, text := range files {
		p, _ := m.CreatePart(textproto.MIMEHeader{"Content-Id": {"<" + id + ">"}})
		fmt.Fprint(p, text)
	}
	_ = m.Close()
	return `multipart/related; boundary="` + m.Boundary() + `"`, b.Bytes()
}

const envelopeOf = `<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Body>%s</e:Body></e:Envelope>`

func TestABackupThatIsAttached(t *testing.T) {
	for name, x := range map[string]struct {
		files map[string]string
		href  string
		want  string
	}{
		"as it is":   {map[string]string{"a@b": "key=1"}, "cid:a@b", "key=1"},
		"escaped":    {map[string]string{"a@b": "key=1"}, "cid:a%40b", "key=1"},
		"not there":  {map[string]string{"c@d": "key=1"}, "cid:a@b", ""},
		"no scheme":  {map[string]string{"a@b": "key=1"}, "a@b", ""},
		"no parts":   {nil, "cid:a@b", ""},
		"empty file": {map[string]string{"a@b": ""}, "cid:a@b", ""},
	} {
		c := stub(t, func(w http.ResponseWriter, _ *http.Request, operation, _ string) {
			if operation == "GetSystemUris" {
				send(w, 400, refusal)
				return
			}
			kind, body := attachedTo(fmt.Sprintf(envelopeOf, `<GetSystemBackupResponse><BackupFiles><Name>s.cfg</Name><Data><Include href="`+x.href+`"/></Data></BackupFiles></GetSystemBackupResponse>`), x.files)
			w.Header().Set("Content-Type", kind)
			_, _ = w.Write(body)
		})
		got, err := c.Backup(t.Context())
		if x.want == "" && name != "empty file" && name != "no scheme" {
			require.ErrorIs(t, err, ErrNoSense, name)
			continue
		}
		require.NoError(t, err, name)
		require.Len(t, got, 1, name)
		assert.Equal(t, x.want, string(got[0].Data), name)
	}
}

// FuzzParts makes sure that an answer with attachments of any form is taken apart or refused.
func FuzzParts(f *testing.F) {
	_, body := attachedTo("<a/>", map[string]string{"a@b": "x"})
	f.Add(body, "x")
	f.Add([]byte("--x\r\n\r\n<a/>\r\n--x--"), "x")
	f.Fuzz(func(t *testing.T, data []byte, boundary string) {
		answer, attached, err := parts(bytes.NewReader(data), boundary)
		if err == nil {
			require.NotNil(t, answer)
			require.LessOrEqual(t, len(attached), maxParts)
		}
	})
}
