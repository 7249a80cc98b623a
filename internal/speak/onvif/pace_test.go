package onvif

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

// slowRecorder makes channels, takes its time over each call, and counts them.
type slowRecorder struct {
	takes time.Duration

	mu         sync.Mutex
	calls      int
	recordings []string // contents
	jobs       int
}

var contentForm = regexp.MustCompile(`<tt:Content>([^<]*)<`)

func (s *slowRecorder) answer(w http.ResponseWriter, _ *http.Request, op, body string) {
	time.Sleep(s.takes) // it is what a slow device does
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls++
	list := func(n int, one func(i int) string) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(one(i + 1))
		}
		return b.String()
	}
	text := "<" + op + "Response/>"
	switch op {
	case "GetServices":
		text = offering(recordingNS, receiverNS)
	case "GetServiceCapabilities":
		text = `<R><Capabilities DynamicRecordings="true" MaxRecordings="128"/></R>`
	case "GetRecordings":
		text = "<R>" + list(len(s.recordings), func(i int) string {
			return fmt.Sprintf("<RecordingItem><RecordingToken>r%d</RecordingToken><Configuration><Source><SourceId>urn:%[1]d</SourceId><Name>C%[1]d</Name></Source><Content>%s</Content></Configuration></RecordingItem>", i, s.recordings[i-1])
		}) + "</R>"
	case "GetRecordingJobs":
		text = "<R>" + list(s.jobs, func(i int) string {
			return fmt.Sprintf("<JobItem><JobToken>j%d</JobToken><JobConfiguration><RecordingToken>r%[1]d</RecordingToken><Mode>Active</Mode><Source><SourceToken><Token>v%[1]d</Token></SourceToken></Source></JobConfiguration></JobItem>", i)
		}) + "</R>"
	case "GetReceivers":
		text = "<R>" + list(s.jobs, func(i int) string {
			return fmt.Sprintf("<Receivers><Token>v%d</Token><Configuration><MediaUri>rtsp://recorder:x@10.61.8.%[1]d/s</MediaUri></Configuration></Receivers>", i)
		}) + "</R>"
	case "GetReceiverState":
		text = "<R><ReceiverState><State>Connected</State></ReceiverState></R>"
	case "GetRecordingJobState":
		text = "<R><State><State>Active</State></State></R>"
	case "CreateRecording":
		s.recordings = append(s.recordings, contentForm.FindStringSubmatch(body)[1])
		text = fmt.Sprintf("<CreateRecordingResponse><RecordingToken>r%d</RecordingToken></CreateRecordingResponse>", len(s.recordings))
	case "CreateReceiver":
		text = fmt.Sprintf("<CreateReceiverResponse><Receiver><Token>v%d</Token></Receiver></CreateReceiverResponse>", len(s.recordings))
	case "CreateRecordingJob":
		s.jobs++
	}
	send(w, http.StatusOK, text)
}

// joinsUp gives a recorder so many channels: it is read, each is set, and it is read again.
func joinsUp(t testing.TB, s *slowRecorder, channels int) {
	t.Helper()
	s.calls, s.jobs, s.recordings = 0, 0, nil
	cl := stub(t, s.answer)
	r, has, err := cl.Recorder(t.Context())
	require.NoError(t, err)
	require.True(t, has)
	require.NoError(t, r.Read(t.Context()))
	want := func(n int) Wanted {
		return Wanted{Number: n, Source: fmt.Sprintf("urn:%d", n), Name: fmt.Sprintf("C%d", n), URI: fmt.Sprintf("rtsp://10.61.8.%d/s", n), User: "recorder", Password: secret.New("x")}
	}
	for n := range channels {
		require.NoError(t, r.Set(t.Context(), want(n+1), false))
	}
	require.NoError(t, r.Read(t.Context()))
	for n := range channels {
		k := r.At(n + 1)
		require.True(t, k.Is(want(n+1)), "channel %d", n+1)
		require.True(t, k.Records())
	}
}

// What a recorder is asked grows with its channels, and not with their square: three writes and
// two states for each.
func TestCallsGrowWithTheChannels(t *testing.T) {
	s := &slowRecorder{}
	joinsUp(t, s, 16)
	few := s.calls
	joinsUp(t, s, 64)
	assert.Equal(t, 11+16*5, few)
	assert.Equal(t, 11+64*5, s.calls)
}

// A slow recorder is asked side by side, and is told the same.
func TestASlowRecorderIsReadSideBySide(t *testing.T) {
	s := &slowRecorder{takes: slowAnswer + 50*time.Millisecond}
	s.recordings, s.jobs = []string{"Channel 1", "Channel 2", "Channel 3"}, 3
	cl := stub(t, s.answer)
	r, _, err := cl.Recorder(t.Context())
	require.NoError(t, err)
	require.NoError(t, r.Read(t.Context()))
	require.Len(t, r.Channels, 3)
	for i := range r.Channels {
		assert.True(t, r.Channels[i].Records())
		assert.Equal(t, fmt.Sprintf("C%d", i+1), r.Channels[i].Name)
	}
	assert.Equal(t, 1+5+6, s.calls, "each once")
}

// One that drops all but one of several connections is asked one after the other.
func TestARecorderThatBearsOneQuestionAtATime(t *testing.T) {
	s := &slowRecorder{takes: slowAnswer + 50*time.Millisecond}
	s.recordings, s.jobs = []string{"Channel 1", "Channel 2"}, 2
	var mu sync.Mutex
	at := 0
	cl := stub(t, func(w http.ResponseWriter, r *http.Request, op, body string) {
		mu.Lock()
		at++
		busy := at > 1
		mu.Unlock()
		defer func() { mu.Lock(); at--; mu.Unlock() }()
		if busy {
			time.Sleep(10 * time.Millisecond)
			panic(http.ErrAbortHandler)
		}
		s.answer(w, r, op, body)
	})
	r, _, err := cl.Recorder(t.Context())
	require.NoError(t, err)
	require.NoError(t, r.Read(t.Context()))
	require.Len(t, r.Channels, 2)
	assert.True(t, r.Channels[1].Records())
}

// BenchmarkJoining joins up cameras on a recorder that takes a second over each call.
func BenchmarkJoining(b *testing.B) {
	for _, channels := range []int{16, 64} {
		b.Run(fmt.Sprint(channels), func(b *testing.B) {
			s := &slowRecorder{takes: time.Second}
			for b.Loop() {
				joinsUp(b, s, channels)
			}
			b.ReportMetric(float64(s.calls), "calls/op")
		})
	}
}
