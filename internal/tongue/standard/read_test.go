package standard

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/speak/wsd"
)

func TestPlacesOfTheService(t *testing.T) {
	for name, c := range map[string]struct {
		xaddrs []string
		want   []place
		first  string
	}{
		"none told":        {nil, []place{{"http", 80, "/onvif/device_service"}, {"https", 443, "/onvif/device_service"}}, "/onvif/device_service"},
		"plain":            {[]string{"http://10.0.0.9/dev"}, []place{{"http", 80, "/dev"}}, "/dev"},
		"elsewhere":        {[]string{"http://10.0.0.9:8080/dev"}, []place{{"http", 8080, "/dev"}}, ":8080/dev"},
		"both, plain last": {[]string{"https://10.0.0.9/s", "http://[fe80::1]/dev"}, []place{{"http", 80, "/dev"}, {"https", 443, "/s"}}, "/dev"},
		"secure only":      {[]string{"https://10.0.0.9:8443/s"}, []place{{"https", 8443, "/s"}}, ":8443/s"},
		"nonsense":         {[]string{"http://10.0.0.9:99999/x", "ftp://10.0.0.9/x", ":", "http://10.0.0.9"}, []place{{"http", 80, "/onvif/device_service"}, {"https", 443, "/onvif/device_service"}}, "/onvif/device_service"},
	} {
		got := placesOf(&wsd.Match{XAddrs: c.xaddrs})
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.first, got[0].service(), name)
	}
	assert.Equal(t, []place{{"https", 8443, "/s"}, {"https", 443, "/dev"}}, securePlaces([]place{{"http", 80, "/dev"}, {"https", 8443, "/s"}}, nil, 0))
	assert.Equal(t, []place{{"https", 443, "/dev"}, {"https", 8443, "/dev"}}, securePlaces([]place{{"http", 80, "/dev"}}, []uint16{80, 8443}, 0))
	assert.Equal(t, []place{{"https", 7041, "/dev"}, {"https", 443, "/dev"}}, securePlaces([]place{{"http", 80, "/dev"}}, nil, 7041))
	assert.Equal(t, ":443/dev", secured(commission.Plan{Service: ":8080/dev", TLS: &device.TLS{Port: 443}}))
	assert.Equal(t, ":8443/onvif/device_service", secured(commission.Plan{TLS: &device.TLS{Port: 8443}}))
}
