package onvif

import (
	"cmp"
	"strings"
)

type sourceXML struct{ SourceId, Name, Location, Description, Address string } //nolint:revive // named by the standard

type recordingXML struct {
	Token         string `xml:"RecordingToken"`
	Configuration struct {
		Source               sourceXML
		Content              string
		MaximumRetentionTime string
	}
	Tracks struct {
		Track []struct {
			Token         string `xml:"TrackToken"`
			Configuration struct{ TrackType string }
		}
	}
}

type jobXML struct {
	Token         string              `xml:"JobToken"`
	Configuration jobConfigurationXML `xml:"JobConfiguration"`
}

type jobConfigurationXML struct {
	RecordingToken, Mode, Priority string
	Source                         []struct {
		SourceToken        struct{ Token string }
		AutoCreateReceiver string
	}
}

// from gives the receiver that a job takes its pictures from, and whether it has any source:
// one that makes its receiver itself may not name it.
func (j *jobConfigurationXML) from() (token string, has bool) {
	for _, s := range j.Source {
		token = cmp.Or(token, strings.TrimSpace(s.SourceToken.Token))
		has = has || token != "" || isTrue(s.AutoCreateReceiver)
	}
	return token, has
}

func isTrue(s string) bool {
	s = strings.TrimSpace(s)
	return strings.EqualFold(s, "true") || s == "1" // xs:boolean
}

type receiverXML struct {
	Token         string
	Configuration struct { //nolint:revive // named by the standard
		Mode, MediaUri string //nolint:revive // likewise
		StreamSetup    struct{ Stream string }
	}
}
