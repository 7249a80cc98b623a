package onvif

import (
	"io"
	"net/http"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An error page in the place of an answer is no refusal: what is set is set once more, and what is not to
// be done twice may have been carried out. A device that goes on with it refuses.
func TestAPageOfAnErrorIsNoRefusal(t *testing.T) {
	for name, c := range map[string]struct {
		pages, asked int
		restart      bool
		is, not      error
	}{
		"a setting":           {1, 2, false, nil, nil},
		"a setting, for good": {9, 1 + pageTries, false, nil, ErrNoReply},
		"a restart":           {1, 1, true, ErrNoReply, nil},
	} {
		asked := 0
		cl := stub(t, func(w http.ResponseWriter, _ *http.Request, op, _ string) {
			if strings.HasPrefix(op, "Get") {
				send(w, 200, "")
				return
			}
			if asked++; asked <= c.pages {
				w.WriteHeader(http.StatusInternalServerError)
				_, _ = io.WriteString(w, "<html>out of memory</html>")
				return
			}
			send(w, 200, "")
		})
		do := func() error { return cl.SetGateway(t.Context(), netip.MustParseAddr("10.61.8.1")) }
		if c.restart {
			do = func() error { return cl.Restart(t.Context()) }
		}
		err := do()
		switch {
		case c.is != nil:
			require.ErrorIs(t, err, c.is, name)
		case c.not != nil:
			require.Error(t, err, name)
			require.NotErrorIs(t, err, c.not, name)
		default:
			require.NoError(t, err, name)
		}
		assert.Equal(t, c.asked, asked, name)
	}
	for _, once := range []string{setTime, factoryReset, "CreateUsers", "SystemReboot"} {
		assert.False(t, setsAlike(once), once)
	}
}
