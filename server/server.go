// Package server puts Dravin on HTTP: huma operations that decode, call the
// core or the store, and encode; events; and the embedded front end. A server
// keeps no state of its own beyond caches.
package server

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"reflect"
	"strconv"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"dravin/core/design"
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
	queue  *queue // of imports
	plans  *queue
	makes  *queue // of sayings, copies and stars

	replies   *replies
	bodies    bodies
	metrics   *metrics
	listening atomic.Bool // news from the database is heard

	// Signing is the file of the key that signs bundles; it is made when the first is asked for.
	Signing string
	// Warnings are shown on every page.
	Warnings []string
	// Names are the host names by which browsers may ask for this server, beside
	// addresses and localhost. Any other name is refused: a page could let its
	// own name lead here and then read everything as if it were from here.
	Names []string
}

// New makes a server. The vault may be nil where only the API's description is
// wanted.
func New(s *store.Store, v *store.Vault, log *slog.Logger) *Server {
	out := &Server{
		store: s,
		vault: v,
		log:   log,
		hub:   newHub(),
		queue: &queue{of: "imports", atOnce: importsAtOnce, most: importsWaiting},
		plans: &queue{
			of:     "plans",
			atOnce: workAtOnce(),
			most:   workWaiting,
		},
		makes:   &queue{of: "drafts", atOnce: workAtOnce(), most: workWaiting},
		replies: newReplies(),
		bodies:  newBodies(),
	}
	out.metrics = newMetrics(out)
	out.solved = newCache(s, out.metrics)
	return out
}

// Streams bounds the event streams of one client, told apart by its address.
func (s *Server) Streams(ofOne int) { s.hub.ofOne, s.hub.all = ofOne, max(ofOne, streamsOfAll) }

// Follow tells browsers of changes that any server makes to the database at
// url, until ctx ends.
func (s *Server) Follow(ctx context.Context, url string) {
	store.Listen(ctx, url, s.hub.tell, func() {
		s.listening.Store(true)
		s.hub.tellAll() // what was committed before is not told
	}, func(err error) {
		s.listening.Store(false)
		s.metrics.lost.Inc()
		s.log.Warn("the database connection for events was lost", "error", err)
	})
}

// Handler is the whole of Dravin: API, events and the front end in web.
func (s *Server) Handler(web fs.FS) http.Handler {
	r := chi.NewRouter()
	r.Use(paced, middleware.RequestID, s.logged, s.recovered, s.named, secured, marks, typed, s.bodies.limited)
	r.Get("/healthz", s.health)
	r.Get(eventsPath, s.events)
	r.Post(importPath, s.importFile)
	r.Post(planPath, s.planSteps)
	r.Post(drillsPath, s.drillSteps)
	r.Get(capturePath, s.captureFile)
	r.Get(rehearsalCapturePath, s.rehearsalCapture)
	r.Get(bundlePath, s.bundleFile)
	r.Get(archivePath, s.archiveFile)
	s.API(r.With(s.remembered))
	pages := compressed(frontEnd(web))
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasPrefix(r.URL.Path, "/api/"):
			problem(w, http.StatusNotFound, "there is nothing at this address; /api/openapi.yaml lists what there is")
		case r.Method != http.MethodGet && r.Method != http.MethodHead:
			problem(w, http.StatusMethodNotAllowed, "pages are only read")
		default:
			pages.ServeHTTP(w, r)
		}
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		problem(w, http.StatusMethodNotAllowed, "this address does not take "+strconv.Quote(r.Method))
	})
	return r
}

// The paths that are not operations of the API's description.
const (
	eventsPath = "/api/designs/{design}/events"
	importPath = "/api/designs/{design}/import"
	planPath   = "/api/designs/{design}/plan/steps"

	drillsPath  = "/api/designs/{design}/drills/steps"
	capturePath = "/api/designs/{design}/walk/capture"

	archivePath          = "/api/designs/{design}/handover/archive"
	bundlePath           = "/api/designs/{design}/handover/{party}/bundle"
	rehearsalCapturePath = "/api/designs/{design}/rehearsals/{rehearsal}/captures/{capture}"
)

// register adds an operation. How slowly a body may come is for [paced] to say.
func register[I, O any](api huma.API, op huma.Operation, do func(context.Context, *I) (*O, error)) {
	op.BodyReadTimeout = -1
	huma.Register(api, op, do)
}

// API registers all operations on r and returns their description.
func (s *Server) API(r chi.Router) huma.API {
	huma.NewError = newError
	huma.DefaultArrayNullable = false
	config := huma.DefaultConfig("Dravin", Version)
	config.OpenAPIPath = "/api/openapi"
	config.DocsPath = ""
	config.SchemasPath = "/api/schemas"
	config.RejectUnknownQueryParameters = true // each would be an answer of its own to keep
	config.Formats = map[string]huma.Format{"application/json": jsonFormat, "json": jsonFormat}
	config.CreateHooks = nil // no $schema links in answers
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Info.Description = "Designs of hybrid networks: change them, find what collides, prove flows, hand over."
	api := humachi.New(r, config)
	enums(api)
	s.aboutOperation(api)
	s.designOperations(api)
	s.changeOperations(api)
	s.viewOperations(api)
	s.translateOperations(api)
	s.planOperations(api)
	s.handoverOperations(api)
	s.stockOperations(api)
	s.linkOperations(api)
	s.profileOperations(api)
	s.makingOperations(api)
	s.routeOperations(api)
	s.intentOperations(api)
	s.proofOperations(api)
	s.passesOperations(api)
	s.rehearsalOperations(api)
	s.runbookOperations(api)
	s.builtOperations(api)
	s.workOperations(api)
	describe(config.Components.Schemas)
	return api
}

// describe takes over what the comments above the fields of bodies say.
func describe(all huma.Registry) {
	for name, schema := range all.Map() {
		t := all.TypeFromRef("#/components/schemas/" + name)
		for t != nil && t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t == nil || t.Kind() != reflect.Struct {
			continue
		}
		for n := range t.NumField() {
			f := t.Field(n)
			key, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			p := schema.Properties[key]
			if doc := design.DocOf(t, f.Name); doc != "" && f.Tag.Get("yaml") != "" && p != nil {
				p.Description = doc
			}
			if f.Tag.Get("enum") == "states" && p != nil {
				p.Enum = nil
				for _, word := range design.EnumOf(f.Tag) {
					p.Enum = append(p.Enum, word)
				}
			}
		}
	}
}

// jsonFormat is JSON in UTF-8, as RFC 8259 section 8.1 wants it; anything else would lose
// characters without a word.
var jsonFormat = huma.Format{Marshal: huma.DefaultJSONFormat.Marshal, Unmarshal: func(data []byte, v any) error {
	if !utf8.Valid(data) {
		return errors.New("this is not text in UTF-8; save and send it as UTF-8")
	}
	return huma.DefaultJSONFormat.Unmarshal(data, v)
}}

// frontEnd serves the embedded files, and the application's page for every
// other path, which its router understands.
func frontEnd(web fs.FS) http.Handler {
	files := http.FileServerFS(web)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		file := strings.TrimPrefix(r.URL.Path, "/") // a request may come without a path
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
