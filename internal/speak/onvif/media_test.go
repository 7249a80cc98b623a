package onvif

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mediaAnswers = `<GetServicesResponse><Service><Namespace>http://www.onvif.org/ver10/media/wsdl</Namespace><XAddr>http://192.0.2.9/media?x=1</XAddr></Service></GetServicesResponse>`

func source(token, more string) string {
	return `<Configurations token="` + token + `"><Name>VideoSource_1</Name><UseCount>2</UseCount><SourceToken>s&amp;1</SourceToken><Bounds x="0" y="0" width="1920" height="1080"/>` + more + `</Configurations>`
}

func onScreen(token, source, kind, plain string) string {
	return `<OSDs token="` + token + `"><VideoSourceConfigurationToken>` + source + `</VideoSourceConfigurationToken><Type>Text</Type><Position><Type>Custom</Type><Pos x="-0.9" y="0.9"/></Position>` +
		`<TextString><Type>` + kind + `</Type><FontSize>24</FontSize><FontColor Transparent="1"><Color X="1" Y="2" Z="3" Colorspace="ycc"/></FontColor><PlainText>` + plain + `</PlainText></TextString></OSDs>`
}

func TestPictures(t *testing.T) {
	sources, osds := source("v1", ""), onScreen("o1", "v1", "Date", "")+onScreen("o2", "v1", "Plain", "Dome 420")
	osdStatus := 200
	var sent, paths []string
	cl := stub(t, func(w http.ResponseWriter, r *http.Request, op, body string) {
		switch op {
		case "GetServices":
			send(w, 200, mediaAnswers)
		case "GetVideoSourceConfigurations":
			paths = append(paths, r.URL.String())
			send(w, 200, "<GetVideoSourceConfigurationsResponse>"+sources+"</GetVideoSourceConfigurationsResponse>")
		case "GetOSDs":
			if osdStatus != 200 {
				w.WriteHeader(osdStatus)
				return
			}
			send(w, 200, "<GetOSDsResponse>"+osds+"</GetOSDsResponse>")
		default:
			_, inner, _ := strings.Cut(body, "<s:Body>")
			inner, _, _ = strings.Cut(inner, "</s:Body>")
			sent = append(sent, inner)
			send(w, 200, "<R/>")
		}
	})
	read := func(names ...string) []Picture {
		sent = nil
		list, err := cl.Pictures(t.Context(), names...)
		require.NoError(t, err)
		return list
	}
	list := read()
	require.Len(t, list, 1)
	assert.Equal(t, []string{"/media?x=1"}, paths, "its path, at the address that is spoken with")
	assert.Equal(t, "VideoSource_1", list[0].Name)
	assert.Equal(t, "Dome 420", list[0].Text)
	assert.True(t, list[0].Named && list[0].Shows)
	require.NoError(t, cl.Caption(t.Context(), list[0], "Quay & ramp"))
	assert.Equal(t, []string{
		`<trt:SetVideoSourceConfiguration><trt:Configuration token="v1"><tt:Name>Quay &amp; ramp</tt:Name><tt:UseCount>2</tt:UseCount><tt:SourceToken>s&amp;1</tt:SourceToken>` +
			`<tt:Bounds x="0" y="0" width="1920" height="1080"/></trt:Configuration><trt:ForcePersistence>true</trt:ForcePersistence></trt:SetVideoSourceConfiguration>`,
		`<trt:SetOSD><trt:OSD token="o2"><tt:VideoSourceConfigurationToken>v1</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type>` +
			`<tt:Position><tt:Type>Custom</tt:Type><tt:Pos x="-0.9" y="0.9"/></tt:Position><tt:TextString><tt:Type>Plain</tt:Type><tt:FontSize>24</tt:FontSize>` +
			`<tt:FontColor Transparent="1"><tt:Color X="1" Y="2" Z="3" Colorspace="ycc"/></tt:FontColor><tt:PlainText>Quay &amp; ramp</tt:PlainText></tt:TextString></trt:OSD></trt:SetOSD>`,
	}, sent)

	list[0].Name, list[0].Text = "Quay", "Quay"
	sent = nil
	require.NoError(t, cl.Caption(t.Context(), list[0], "Quay"))
	assert.Empty(t, sent, "what is so already is not written")

	osds = onScreen("o1", "v1", "Date", "")
	list = read()
	assert.Equal(t, "", list[0].Text)
	list[0].Name = "Quay"
	require.NoError(t, cl.Caption(t.Context(), list[0], "Quay"))
	require.Len(t, sent, 1)
	assert.Contains(t, sent[0], `<trt:CreateOSD><trt:OSD token=""><tt:VideoSourceConfigurationToken>v1</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type><tt:Position><tt:Type>UpperLeft</tt:Type></tt:Position>`)

	osds = onScreen("o1", "v1", "Plain", "No entry") + onScreen("o2", "v1", "Plain", "Gate") + onScreen("o3", "v2", "Plain", "Gate")
	assert.Equal(t, "", read()[0].Text, "which of two tells what the picture is of is not guessed")
	assert.Equal(t, "Gate", read("Gate")[0].Text)

	sources = source("v1", "<Extension/>")
	assert.False(t, read()[0].Named, "nothing else of it is to be changed in passing")
	osdStatus = 500
	assert.False(t, read()[0].Shows, "a device that shows no texts")
	cl.url = "https" + strings.TrimPrefix(cl.url, "http")
	at, err := cl.at("http://192.0.2.9:8080/media")
	require.NoError(t, err)
	assert.NotContains(t, at, "8080", "a port of the other manner is no place for this one")
}
