package bench

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
}
