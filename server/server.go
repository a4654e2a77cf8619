// Package server puts Dravin on HTTP: huma operations that decode, call the
// core or the store, and encode; events; and the embedded front end. A server
// keeps no state of its own beyond caches.
package server

import (
	"context"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"path"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"dravin/store"
)

// Version is the version of the API.
const Version = "1.0.0"

// Server answers requests for one database.
type Server struct {
	store  *store.Store
	vault  *store.Vault
	log    *slog.Logger
	solved *cache
	hub    *hub
	// Names are the host names by which browsers may ask for this server, beside
	// addresses and localhost. Any other name is refused: a page could let its
	// own name lead here and then read everything as if it were from here.
	Names []string
}

// New makes a server. The vault may be nil where only the API's description is
// wanted.
func New(s *store.Store, v *store.Vault, log *slog.Logger) *Server {
	return &Server{store: s, vault: v, log: log, solved: newCache(s), hub: newHub()}
}

// Follow tells browsers of changes that any server makes to the database at
// url, until ctx ends.
func (s *Server) Follow(ctx context.Context, url string) {
	store.Listen(ctx, url, s.hub.tell, func(err error) {
		s.log.Warn("the database connection for events was lost", "error", err)
		s.hub.tellAll()
	})
}

// Handler is the whole of Dravin: API, events and the front end in web.
func (s *Server) Handler(web fs.FS) http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.RequestID, s.logged, middleware.Recoverer, s.named, secured, middleware.Compress(4, "application/json", "text/html", "text/css", "text/javascript"))
	r.Get("/healthz", s.health)
	r.Get("/api/designs/{design}/events", s.events)
	r.Post("/api/designs/{design}/import", s.importFile)
	s.API(r)
	r.Handle("/*", frontEnd(web))
	return r
}

// API registers all operations on r and returns their description.
func (s *Server) API(r chi.Router) huma.API {
	huma.NewError = newError
	huma.DefaultArrayNullable = false
	config := huma.DefaultConfig("Dravin", Version)
	config.OpenAPIPath = "/api/openapi"
	config.DocsPath = ""
	config.SchemasPath = "/api/schemas"
	config.CreateHooks = nil // no $schema links in answers
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Info.Description = "Designs of hybrid networks: change them, find what collides, prove flows, hand over."
	api := humachi.New(r, config)
	s.designOperations(api)
	s.changeOperations(api)
	s.viewOperations(api)
	s.handoverOperations(api)
	s.stockOperations(api)
	s.linkOperations(api)
	s.profileOperations(api)
	return api
}

// named refuses requests under a name that is not ours.
func (s *Server) named(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := r.Host
		if host, _, err := net.SplitHostPort(name); err == nil {
			name = host
		}
		_, err := netip.ParseAddr(strings.Trim(name, "[]"))
		if err != nil && name != "localhost" && !slices.Contains(s.Names, name) {
			http.Error(w, "Dravin is not asked for by this name; start it with --name "+strconv.Quote(name)+" if it should be", http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Server) health(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.store.Ping(ctx); err != nil {
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ok\n"))
}

func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		s.log.Info("request", "id", middleware.GetReqID(r.Context()), "method", r.Method, "path", r.URL.Path,
			"status", ww.Status(), "bytes", ww.BytesWritten(), "took", time.Since(start).Round(time.Microsecond))
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
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-hashes' "+displayContents+"; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if err := sameOrigin.Check(r); err != nil {
			http.Error(w, "this request comes from another site's page", http.StatusForbidden)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// frontEnd serves the embedded files, and the application's page for every
// other path, which its router understands.
func frontEnd(web fs.FS) http.Handler {
	files := http.FileServerFS(web)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		file := r.URL.Path[1:]
		if info, err := fs.Stat(web, file); err != nil || info.IsDir() || file == "" {
			w.Header().Set("Cache-Control", "no-cache")
			http.ServeFileFS(w, r, web, "index.html")
			return
		}
		if strings.HasPrefix(file, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // names hold hashes
		}
		files.ServeHTTP(w, r)
	})
}

// Describe is the OpenAPI 3.1 document, in YAML.
func Describe() ([]byte, error) {
	return New(nil, nil, nil).API(chi.NewRouter()).OpenAPI().YAML()
}

// schemaName names a type in the API's description. Types of other packages
// than design and server carry their package's name, so that none clash.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	pkg := path.Base(t.PkgPath())
	if t.Name() == "" || pkg == "design" || pkg == "server" || pkg == "." {
		return name
	}
	return strings.ToUpper(pkg[:1]) + pkg[1:] + name
}
