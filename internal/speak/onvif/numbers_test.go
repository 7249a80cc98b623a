package onvif

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHowChannelsAreNumbered(t *testing.T) {
	for name, x := range map[string]struct {
		tokens, contents []string
		dynamic          bool
		want             []int
		less             int
	}{
		"by content":                   {[]string{"a", "b"}, []string{"Channel 7", "channel 2"}, true, []int{7, 2}, 0},
		"from 0":                       {[]string{"a", "b"}, []string{"Channel 0", "Channel 1"}, false, []int{1, 2}, 1},
		"a fixed series":               {[]string{"rec1", "rec10", "rec2", "rec3", "rec4", "rec5", "rec6", "rec7", "rec8", "rec9"}, nil, false, []int{1, 10, 2, 3, 4, 5, 6, 7, 8, 9}, 0},
		"a fixed series from 0":        {[]string{"ch0", "ch2", "ch1"}, nil, false, []int{1, 3, 2}, 0},
		"no whole series":              {[]string{"rec5", "rec7", "rec6"}, nil, false, []int{1, 2, 3}, 0},
		"two series":                   {[]string{"a2", "b1"}, nil, false, []int{1, 2}, 0},
		"tokens that were made":        {[]string{"Rec-9", "Rec-4"}, nil, true, []int{1, 2}, 0},
		"some by content":              {[]string{"a", "b", "c"}, []string{"", "Channel 1", "Gate"}, true, []int{2, 1, 3}, 0},
		"one content twice":            {[]string{"a", "b"}, []string{"Channel 1", "Channel 1"}, true, []int{1, 2}, 0},
		"the first is in another name": {[]string{"rec1", "rec2"}, []string{"Gate", "Channel 2"}, false, []int{1, 2}, 0},
		"none":                         {nil, nil, false, []int{}, 0},
	} {
		var list []recordingXML
		for i, token := range x.tokens {
			r := recordingXML{Token: token}
			if i < len(x.contents) {
				r.Configuration.Content = x.contents[i]
			}
			list = append(list, r)
		}
		got, less := numbered(list, x.dynamic)
		assert.Equal(t, x.want, got, name)
		assert.Equal(t, x.less, less, name)
	}
}
