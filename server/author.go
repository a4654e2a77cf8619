package server

import (
	"context"
	"crypto/rand"
	"net/http"
	"regexp"
	"strings"
	"time"
)

// browserCookie has the mark by which browsers are told apart until people sign in: what one has done another does not
// take back. It proves nothing.
const browserCookie = "dravin-browser"

// markLives is how long a browser keeps its mark.
const markLives = 400 * 24 * time.Hour

var markForm = regexp.MustCompile(`^[a-z0-9]{8}$`)

type authorKey struct{}

// program is the author of what comes without a mark.
const program = "a program"

// author stands in the history for whoever asks.
func author(ctx context.Context) string {
	if a, ok := ctx.Value(authorKey{}).(string); ok {
		return a
	}
	return program
}

// marks gives each browser that opens a page a mark, and knows it by that from then on.
func marks(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, err := r.Cookie(browserCookie)
		switch {
		case err == nil && markForm.MatchString(c.Value):
			r = r.WithContext(context.WithValue(r.Context(), authorKey{}, "browser "+c.Value))
		case r.Method == http.MethodGet && !strings.HasPrefix(r.URL.Path, "/api/") &&
			strings.Contains(r.Header.Get("Accept"), "text/html"):
			http.SetCookie(w, &http.Cookie{
				Name: browserCookie, Value: strings.ToLower(rand.Text()[:8]), Path: "/", HttpOnly: true,
				SameSite: http.SameSiteStrictMode, MaxAge: int(markLives.Seconds()),
			})
		}
		next.ServeHTTP(w, r)
	})
}
