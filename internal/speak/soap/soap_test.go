package soap

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

func TestPasswordDigestIsTheStandardsOwnExample(t *testing.T) {
	// Device programmer's guide to the UsernameToken: nonce, date and password with their digest.
	nonce, err := base64.StdEncoding.DecodeString("LKqI6G/AikKCQrN0zqZFlg==")
	require.NoError(t, err)
	assert.Equal(t, "tuOSpGlFlIXsozq4HFNeeGeFLEI=", PasswordDigest(nonce, "2010-09-16T07:50:45Z", "userpassword"))
}

func TestUsernameTokenEscapesAndNeverHoldsThePassword(t *testing.T) {
	token, err := UsernameToken("a<b", secret.New("Harbour-Light-42"), time.Unix(0, 0), strings.NewReader(strings.Repeat("n", 16)))
	require.NoError(t, err)
	assert.Contains(t, token, "a&lt;b")
	assert.Contains(t, token, "1970-01-01T00:00:00.000Z")
	assert.NotContains(t, token, "Harbour")
	_, err = UsernameToken("a", secret.New("b"), time.Unix(0, 0), strings.NewReader("few"))
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

type answer struct {
	Name string
	List []struct {
		Token string `xml:"token,attr"`
		Num   int
	}
}

const (
	prefixed = `<?xml version="1.0"?><SOAP-ENV:Envelope xmlns:SOAP-ENV="http://www.w3.org/2003/05/soap-envelope" xmlns:t="urn:t">
		<SOAP-ENV:Header><x>skipped</x></SOAP-ENV:Header><SOAP-ENV:Body><t:Answer><t:Name>Quay</t:Name><t:List token="a"><t:Num>1</t:Num></t:List><t:List token="b"><t:Num>2</t:Num></t:List></t:Answer></SOAP-ENV:Body></SOAP-ENV:Envelope>`
	defaulted = `<Envelope xmlns='http://www.w3.org/2003/05/soap-envelope'><Body><Answer xmlns='urn:t'><Name>Quay</Name><List token='a'><Num>1</Num></List><List token='b'><Num>2</Num></List></Answer></Body></Envelope>`
)

func TestDecodeDoesNotMindPrefixes(t *testing.T) {
	for _, text := range []string{prefixed, defaulted} {
		var a answer
		require.NoError(t, Decode(strings.NewReader(text), &a))
		assert.Equal(t, "Quay", a.Name)
		require.Len(t, a.List, 2)
		assert.Equal(t, "b", a.List[1].Token)
		assert.Equal(t, 2, a.List[1].Num)
	}
}

func TestDecodeFaults(t *testing.T) {
	for _, text := range []string{
		`<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>ter:NotAuthorized</s:Value></s:Subcode></s:Code><s:Reason><s:Text xml:lang="en"> no </s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`,
		`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault><faultcode>e:NotAuthorized</faultcode><faultstring>no</faultstring></e:Fault></e:Body></e:Envelope>`,
	} {
		err := Decode(strings.NewReader(text), nil)
		var f *Fault
		require.ErrorAs(t, err, &f)
		assert.Equal(t, "no", f.Reason)
		assert.True(t, f.Has("NotAuthorized") || f.Code == "NotAuthorized")
		assert.Contains(t, err.Error(), "refused")
	}
	assert.Contains(t, (&Fault{Status: 503}).Error(), "503")
}

func TestDecodeRefuses(t *testing.T) {
	deep := strings.Repeat("<a>", 500)
	for name, text := range map[string]string{
		"empty": "", "html": "<html><body>hi</body></html>", "cut off": prefixed[:250], "not XML": "\x00\x01\x02",
		"deep": `<Envelope xmlns="http://www.w3.org/2003/05/soap-envelope"><Body>` + deep, "own entity": `<!DOCTYPE x [<!ENTITY a "b">]><Envelope><Body><A>&a;</A></Body></Envelope>`,
	} {
		var a answer
		assert.Error(t, Decode(strings.NewReader(text), &a), name)
	}
	assert.ErrorIs(t, Decode(io.MultiReader(strings.NewReader(prefixed), strings.NewReader(strings.Repeat(" ", MaxMessage))), nil), ErrTooLong)
}

func TestDecodeTakesWhatDevicesWrite(t *testing.T) {
	whole := func(head, name, tail string) string {
		return head + "<Envelope xmlns='http://www.w3.org/2003/05/soap-envelope'><Body><Answer><Name>" + name + "</Name></Answer></Body></Envelope>" + tail
	}
	for name, c := range map[string]struct{ text, want string }{
		"octets after the envelope":     {whole("", "Quay", "\x00\x00\r\n0\r\n<!-- -->"), "Quay"},
		"a byte order mark":             {whole("\xef\xbb\xbf<?xml version='1.0'?>", "Quay", ""), "Quay"},
		"a NUL in a name":               {whole("", "Qu\x00ay", ""), "Quay"},
		"Latin-1 that says it is UTF-8": {whole("<?xml version='1.0' encoding='UTF-8'?>", "Caf\xe9", ""), "Café"},
		"utf8 as a label":               {whole("<?xml version='1.0' encoding='utf8'?>", "Café", ""), "Café"},
		"a label of nobody's":           {whole("<?xml version='1.0' encoding='quay-8'?>", "Café", ""), "Café"},
		"UTF-16, big end first":         {wide(binary.BigEndian, whole("<?xml version='1.0' encoding='UTF-16'?>", "Вход 光", "")), "Вход 光"},
		"UTF-16, little end first":      {wide(binary.LittleEndian, whole("", "Café", "")), "Café"},
		"half a letter at the end":      {wide(binary.LittleEndian, whole("", "Café", "")) + "x", "Café"},
		"a bare ampersand":              {whole("", "Bed & Board &amp; &#169; &c;", ""), "Bed & Board & © &c;"},
	} {
		var a answer
		require.NoError(t, Decode(strings.NewReader(c.text), &a), name)
		assert.Equal(t, c.want, a.Name, name)
	}
}

func wide(order binary.AppendByteOrder, s string) string {
	b := order.AppendUint16(nil, 0xfeff)
	for _, u := range utf16.Encode([]rune(s)) {
		b = order.AppendUint16(b, u)
	}
	return string(b)
}

func TestRefusalsOfAccess(t *testing.T) {
	for name, c := range map[string]struct {
		fault string
		want  bool
	}{
		"the standard's":           {`<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>ter:NotAuthorized</s:Value></s:Subcode></s:Code></s:Fault>`, true},
		"of WS-Security":           {`<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>wsse:InvalidSecurity</s:Value></s:Subcode></s:Code></s:Fault>`, true},
		"in words alone":           {`<s:Fault><s:Code><s:Value>s:Sender</s:Value></s:Code><s:Reason><s:Text>Sender not authorized</s:Text></s:Reason></s:Fault>`, true},
		"of SOAP 1.1":              {`<s:Fault><faultcode>s:Client</faultcode><faultstring>The action requires authentication</faultstring></s:Fault>`, true},
		"of SOAP 1.1, with a dot":  {`<s:Fault><faultcode>s:Client.NotAuthorized</faultcode><faultstring>no</faultstring></s:Fault>`, true},
		"another fault":            {`<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>ter:InvalidArgVal</s:Value><s:Subcode><s:Value>ter:PasswordTooWeak</s:Value></s:Subcode></s:Subcode></s:Code></s:Fault>`, false},
		"an operation not offered": {`<s:Fault><s:Code><s:Value>s:Receiver</s:Value><s:Subcode><s:Value>ter:ActionNotSupported</s:Value></s:Subcode></s:Code><s:Reason><s:Text>authentication is another service</s:Text></s:Reason></s:Fault>`, false},
	} {
		var f *Fault
		require.ErrorAs(t, Decode(strings.NewReader("<Envelope><Body>"+c.fault+"</Body></Envelope>"), nil), &f, name)
		assert.Equal(t, c.want, f.RefusesAccess(), "%s: %v", name, f)
	}
	assert.True(t, (&Fault{Status: 403}).RefusesAccess())
}

func TestDecodeLatin1(t *testing.T) {
	text := "<?xml version='1.0' encoding='ISO-8859-1'?><Envelope xmlns='http://www.w3.org/2003/05/soap-envelope'><Body><Answer><Name>Caf\xe9</Name></Answer></Body></Envelope>"
	var a answer
	require.NoError(t, Decode(strings.NewReader(text), &a))
	assert.Equal(t, "Café", a.Name)
}

func TestEnvelopeIsReadBack(t *testing.T) {
	var a answer
	require.NoError(t, Decode(strings.NewReader(string(Envelope(`xmlns:t="urn:t"`, "<t:H/>", "<t:Answer><t:Name>"+Text(`<&"'>`)+"</t:Name></t:Answer>"))), &a))
	assert.Equal(t, `<&"'>`, a.Name)
}

func FuzzDecode(f *testing.F) {
	f.Add(prefixed)
	f.Add(defaulted)
	f.Add("<Envelope><Body><Fault><Code><Value>x</Value></Code></Fault></Body></Envelope>")
	f.Fuzz(func(t *testing.T, text string) {
		var a answer
		err := Decode(strings.NewReader(text), &a)
		var fault *Fault
		if errors.As(err, &fault) {
			_ = fault.Error()
		}
	})
}

// BenchmarkExchange builds a request with a UsernameToken and parses an answer.
func BenchmarkExchange(b *testing.B) {
	p := secret.New("Harbour-Light-42")
	random := endless{}
	b.ReportAllocs()
	for b.Loop() {
		token, err := UsernameToken("admin", p, time.Unix(0, 0), random)
		if err != nil {
			b.Fatal(err)
		}
		_ = Envelope(`xmlns:tds="http://www.onvif.org/ver10/device/wsdl"`, token, "<tds:GetNetworkInterfaces/>")
		var a answer
		if err := Decode(strings.NewReader(prefixed), &a); err != nil {
			b.Fatal(err)
		}
	}
}

type endless struct{}

func (endless) Read(b []byte) (int, error) { return len(b), nil }
