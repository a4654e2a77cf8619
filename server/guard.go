package server

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5/middleware"
)

// problem answers with a problem, in the one form that all errors have.
func problem(w http.ResponseWriter, status int, detail string) {
	writeProblem(w, problemOf(status, detail))
}

func writeProblem(w http.ResponseWriter, p *ProblemDetails) {
	w.Header().Set("Content-Type", p.ContentType(""))
	w.Header().Set("Cache-Control", "no-store")
	if p.Status == http.StatusServiceUnavailable || p.Status == http.StatusTooManyRequests {
		w.Header().Set("Retry-After", "5")
	}
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

// refuse answers with what an error of the core or the store comes to.
func (s *Server) refuse(w http.ResponseWriter, err error) { writeProblem(w, s.failed(err)) }

// recovered turns a panic into a problem and a line in the log.
func (s *Server) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			v := recover()
			if v == nil {
				return
			}
			if err, ok := v.(error); ok && errors.Is(err, http.ErrAbortHandler) {
				panic(v)
			}
			s.log.Error(
				"panic", "id", middleware.GetReqID(r.Context()), "value", fmt.Sprint(v), "stack", string(debug.Stack()),
			)
			problem(w, http.StatusInternalServerError, "Dravin made a mistake; look at the server's log")
		}()
		next.ServeHTTP(w, r)
	})
}

// named refuses requests under a name that is not ours.
func (s *Server) named(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := r.Host
		if host, _, err := net.SplitHostPort(name); err == nil {
			name = host
		}
		name = strings.TrimSuffix(strings.ToLower(name), ".")
		_, err := netip.ParseAddr(strings.Trim(name, "[]"))
		if err != nil && name != "localhost" &&
			!slices.ContainsFunc(s.Names, func(own string) bool { return strings.EqualFold(own, name) }) {
			problem(
				w, http.StatusMisdirectedRequest,
				"Dravin is not asked for by this name; start it with --name "+strconv.Quote(name)+" if it should be",
			)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// displayContents is the hash of the one style attribute, "display: contents;",
// that the palette's list puts into its markup.
const displayContents = "'sha256-iaOezIDcQIoxCULa6FBKKuLUu09R7kG+Mlu+JVfU3Rw='"

// secured forbids browsers everything that the front end does not need. A
// request from another site's page is refused: Dravin on loopback is in reach
// of every page that a browser has open.
func secured(next http.Handler) http.Handler {
	sameOrigin := http.NewCrossOriginProtection()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-hashes' "+displayContents+
				"; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; "+
				"frame-ancestors 'none'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store") // views say otherwise
		}
		if err := sameOrigin.Check(r); err != nil {
			problem(w, http.StatusForbidden, "this request comes from another site's page")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// typed refuses a body that does not say what it is, or is not what is read.
func typed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength != 0 {
			kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
			want := "application/json"
			if isImport(r) {
				want = "multipart/form-data"
			}
			if err != nil || kind != want {
				problem(
					w, http.StatusUnsupportedMediaType,
					"the body is of no type that is read here; send it as Content-Type: "+want,
				)
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}
