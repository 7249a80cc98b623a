package wsd

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const declared = `<?xml version="1.0" encoding="UTF-8"?>
<SOAP-ENV:Envelope xmlns:SOAP-ENV="http://www.w3.org/2003/05/soap-envelope" xmlns:wsa="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:dn="http://www.onvif.org/ver10/network/wsdl" xmlns:tds="http://www.onvif.org/ver10/device/wsdl">
<SOAP-ENV:Header><wsa:RelatesTo>urn:uuid:q</wsa:RelatesTo><wsa:ReplyTo><wsa:Address>not an endpoint</wsa:Address></wsa:ReplyTo></SOAP-ENV:Header>
<SOAP-ENV:Body><d:ProbeMatches><d:ProbeMatch><wsa:EndpointReference><wsa:Address> urn:uuid:a </wsa:Address></wsa:EndpointReference>
<d:Types>dn:NetworkVideoTransmitter tds:Device</d:Types><d:Scopes>onvif://www.onvif.org/name/Ticket%20hall onvif://www.onvif.org/type/video_encoder</d:Scopes>
<d:XAddrs>http://10.0.0.9/onvif/device_service http://[fe80::1]/x</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion></d:ProbeMatch></d:ProbeMatches></SOAP-ENV:Body></SOAP-ENV:Envelope>`

func TestParseProbeMatches(t *testing.T) {
	m, err := Parse([]byte(declared))
	require.NoError(t, err)
	assert.Equal(t, ProbeMatches, m.Kind)
	require.Len(t, m.Matches, 1)
	got := m.Matches[0]
	assert.Equal(t, "urn:uuid:a", got.Endpoint)
	assert.Equal(t, []Type{Transmitter, AnyDevice}, got.Types)
	assert.Equal(t, []string{"http://10.0.0.9/onvif/device_service", "http://[fe80::1]/x"}, got.XAddrs)
	s := ReadScopes(got.Scopes)
	assert.Equal(t, "Ticket hall", s.Name)
	assert.Equal(t, []string{"video_encoder"}, s.Types)
}

func TestParseResolvesPrefixesWhereTheyStand(t *testing.T) {
	text := `<E xmlns='http://www.w3.org/2003/05/soap-envelope'><Body><Hello xmlns='x'><EndpointReference><Address>urn:uuid:b</Address></EndpointReference>` +
		`<Types xmlns:q='http://www.onvif.org/ver10/device/wsdl' xmlns='http://www.onvif.org/ver10/network/wsdl'>q:Device NetworkVideoTransmitter lost:Thing</Types></Hello></Body></E>`
	m, err := Parse([]byte(text))
	require.NoError(t, err)
	assert.Equal(t, Hello, m.Kind)
	assert.Equal(t, []Type{AnyDevice, Transmitter, {"", "Thing"}}, m.Matches[0].Types)
}

func TestTheGoodPartOfAnAnswerIsUsed(t *testing.T) {
	match := func(id, inner string) string {
		return "<ProbeMatch><EndpointReference><Address>urn:uuid:" + id + "</Address></EndpointReference>" + inner + "</ProbeMatch>"
	}
	for name, c := range map[string]struct {
		text string
		want []string
	}{
		"a bad match after a good one":  {"<E><Body><ProbeMatches>" + match("a", "") + match("b", "<Types></Scopes>"), []string{"urn:uuid:a"}},
		"octets after the envelope":     {"<E><Body><ProbeMatches>" + match("a", "") + "</ProbeMatches></Body></E>\x00\x00junk", []string{"urn:uuid:a"}},
		"an ampersand in a scope":       {"<E><Body><ProbeMatches>" + match("a", "<Scopes>onvif://www.onvif.org/name/Bed&Board</Scopes>") + "</ProbeMatches></Body></E>", []string{"urn:uuid:a"}},
		"Latin-1 in a scope":            {"<?xml version='1.0' encoding='utf-8'?><E><Body><ProbeMatches>" + match("a", "<Scopes>onvif://www.onvif.org/name/Caf\xe9</Scopes>") + "</ProbeMatches></Body></E>", []string{"urn:uuid:a"}},
		"a match that names nobody":     {"<E><Body><ProbeMatches><ProbeMatch/>" + match("b", "") + "</ProbeMatches></Body></E>", []string{"urn:uuid:b"}},
		"neither types, scopes, XAddrs": {"<E><Body><ProbeMatches>" + match("a", "") + "</ProbeMatches></Body></E>", []string{"urn:uuid:a"}},
	} {
		m, err := Parse([]byte(c.text))
		require.NoError(t, err, name)
		var got []string
		for _, one := range m.Matches {
			got = append(got, one.Endpoint)
		}
		assert.Equal(t, c.want, got, name)
	}
}

func TestParseRefuses(t *testing.T) {
	for name, text := range map[string]string{
		"empty": "", "garbage": "\xff\xfe<", "a probe of someone else": string(Probe("urn:uuid:x", Transmitter)),
		"no endpoint's name": "<E><Body><Other/></Body></E>", "deep": "<E><Body><Hello>" + strings.Repeat("<a>", 300),
		"ssdp": "NOTIFY * HTTP/1.1\r\n", "cut off": declared[:700],
	} {
		_, err := Parse([]byte(text))
		assert.Error(t, err, name)
	}
	m, err := Parse([]byte("<E><Body><ProbeMatches><ProbeMatch><Types>x</Types></ProbeMatch></ProbeMatches></Body></E>"))
	require.NoError(t, err)
	assert.Empty(t, m.Matches, "a match without an endpoint names nobody")
}

func TestParseBoundsMatches(t *testing.T) {
	one := "<ProbeMatch><EndpointReference><Address>urn:uuid:a</Address></EndpointReference></ProbeMatch>"
	m, err := Parse([]byte("<E><Body><ProbeMatches>" + strings.Repeat(one, 500) + "</ProbeMatches></Body></E>"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(m.Matches), maxMatches)
}

func TestMessagesAreWellFormed(t *testing.T) {
	for _, b := range [][]byte{Probe("urn:uuid:1"), Probe("urn:uuid:1", Transmitter, AnyDevice), Resolve("urn:uuid:1", "urn:uuid:<&>")} {
		assert.Less(t, len(b), 1400, "fits one datagram")
		_, err := Parse(b)
		require.ErrorIs(t, err, ErrNotDiscovery, "a question is not an answer")
		assert.NotContains(t, err.Error(), "syntax")
	}
}

func TestNameScope(t *testing.T) {
	for _, name := range []string{"Quay", "Ticket hall / east", "50 % über", "a+b"} {
		u := NameScope(name)
		assert.True(t, IsNameScope(u))
		assert.Equal(t, name, ReadScopes([]string{u}).Name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(declared))
	f.Add(Probe("urn:uuid:1", Transmitter))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Parse(data)
		if err != nil {
			return
		}
		require.LessOrEqual(t, len(m.Matches), maxMatches)
		for _, x := range m.Matches {
			require.NotEmpty(t, x.Endpoint)
			ReadScopes(x.Scopes)
		}
	})
}

func TestWithKeepsWhatAShorterMessageLeavesOut(t *testing.T) {
	hello := Match{Endpoint: "urn:uuid:1", XAddrs: []string{"http://10.0.0.5/x"}}
	answer := Match{Endpoint: "urn:uuid:1", Types: []Type{AnyDevice}, Scopes: []string{"onvif://www.onvif.org/name/x"}}
	both := answer.With(&hello)
	assert.Equal(t, Match{hello.Endpoint, answer.Types, answer.Scopes, hello.XAddrs}, both)
	assert.True(t, hello.With(&both).Says(both))
	assert.False(t, hello.Says(both))
	assert.Equal(t, answer, answer.With(&Match{Endpoint: "another", XAddrs: []string{"x"}}))
	assert.Equal(t, answer, answer.With(nil))
}
