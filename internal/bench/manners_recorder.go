package bench

import "fmt"

// Manners of recorders, that others look for by name.
const (
	brokenDisk   = "broken disk"
	noJobStates  = "no job states"
	showsPort    = "shows the port"
	dropsUsers   = "drops users"
	cutsNames    = "cuts names"
	ownSources   = "own sources"
	fewReceivers = "few receivers"
	refusesJobs  = "refuses jobs"
	ownReceivers = "own receivers"
	namesTracks  = "names tracks"
	onlyUDP      = "only UDP"
	darkTCP      = "dark TCP"
	fromZero     = "from zero"
	sortedTokens = "sorted tokens"
	tracksFail   = "tracks fail"
)

// recorderManners are those of recorders and their channels.
var recorderManners = map[string]manner{
	brokenDisk:  {stands: "Recording Control Service Specification, RecordingJobStateTrack: connected, and not recorded"},
	noJobStates: {stands: "seen: GetRecordingJobState is not offered"},
	showsPort:   {stands: "RFC 3986, 6.2.3: the default port is shown"},
	dropsUsers:  {stands: "practice: users are left out of URIs that are shown"},
	cutsNames: {
		stands: "practice: names are kept up to their 10th character",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetRecordings" {
				answer.each("Name", func(n *node) {
					if letters := []rune(n.text); len(letters) > 10 {
						n.text = string(letters[:10])
					}
				})
			}
		},
	},
	ownSources: {
		stands: "practice: a recorder calls its sources by names of its own",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetRecordings" {
				answer.each("SourceId", func(n *node) {
					if n.text != "" {
						n.text = "local-source"
					}
				})
			}
		},
	},
	fewReceivers: {stands: "Receiver Service Specification, SupportedReceivers: fewer than recordings"},
	refusesJobs:  {stands: "Recording Control Service Specification, CreateRecordingJob: MaxRecordingJobs"},
	ownReceivers: {stands: "Recording Control Service Specification, AutoCreateReceiver: receivers are made with jobs alone"},
	namesTracks:  {stands: "seen: a job without named tracks is refused"},
	onlyUDP:      {stands: "Receiver Service Specification, RTP_RTSP_TCP: pictures over UDP alone"},
	darkTCP:      {stands: "seen: pictures over TCP are taken and never come"},
	fromZero: {
		stands: "practice: channels are counted from 0",
		shape: func(_ *Device, op string, answer *node) {
			if op == "GetRecordings" {
				n := -1
				answer.each("Content", func(x *node) {
					if n++; x.text == "" {
						x.text = fmt.Sprintf("Channel %d", n)
					}
				})
			}
		},
	},
	sortedTokens: {stands: "seen: rec1, rec10, rec2"},
	tracksFail:   {stands: "Recording Control Service Specification, RecordingJobStateTrack: the job is active, and its track has failed"},
}
