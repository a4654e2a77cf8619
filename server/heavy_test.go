package server_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/server"
)

// What is worked out for long ends when its callers have gone, whether it ran or waited;
// what is answered at once is answered meanwhile.
func TestWhatIsHeavyEndsWithItsCaller(t *testing.T) {
	at := fresh(t)
	s, mine := another(t, nil)
	var lines []string
	for n := range 2000 {
		lines = append(lines, fmt.Sprintf("site Garden %d with lan /28", n))
	}
	text := fmt.Sprintf(`{"text":%q}`, strings.Join(lines, "\n"))
	gone, leave := context.WithCancel(t.Context())
	defer leave()
	for range 4 {
		r, err := http.NewRequestWithContext(gone, "POST", mine+at+"/say", strings.NewReader(text))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		go func() {
			if answer, err := http.DefaultClient.Do(r); err == nil {
				answer.Body.Close()
			}
		}()
	}
	require.Eventually(
		t, func() bool { return gauge(t, s, "dravin_drafts_waiting") > 0 }, 2*time.Minute, 5*time.Millisecond,
	)
	assert.Positive(t, gauge(t, s, "dravin_drafts_running"))
	assert.Equal(t, 200, send(t, "GET", mine+at+"/estate", nil, nil).StatusCode)
	assert.Positive(t, gauge(t, s, "dravin_drafts_running"), "it still runs")

	leave()
	require.Eventually(
		t, func() bool { return gauge(t, s, "dravin_drafts_running")+gauge(t, s, "dravin_drafts_waiting") == 0 },
		2*time.Minute, 5*time.Millisecond,
	)
	assert.Len(t, call[server.Heard](t, "POST", at+"/say", doc{"text": "site Yew Hut"}, 200).Edits, 1)
	assert.Zero(t, call[server.DesignState](t, "GET", at, nil, 200).Position, "nothing is stored")
}

// gauge is what a server tells of itself in one number.
func gauge(t *testing.T, s *server.Server, name string) (value int) {
	w := httptest.NewRecorder()
	s.Metrics().ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	_, text, found := strings.Cut(w.Body.String(), "\n"+name+" ")
	require.True(t, found, name)
	_, err := fmt.Sscan(text, &value)
	require.NoError(t, err)
	return value
}
