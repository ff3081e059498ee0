// Package server is the web side: a JSON API described by an OpenAPI document, live events, and the built front end. Its
// handlers only translate between HTTP and store, jobs and core.
package server

import (
	"context"
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"unlatch/jobs"
	"unlatch/store"
)

// Version is the product's version.
const Version = "0.1.0"

// Config of a Server.
type Config struct {
	Store *store.Store
	Queue *jobs.Queue
	Web   fs.FS // the built front end
	Log   *slog.Logger
	// SetupCode must be given to make the first account: who can read the terminal may be the first.
	SetupCode string
	// Secure marks cookies for TLS only.
	Secure bool
}

// A Server is the HTTP handler with what lives beside it.
type Server struct {
	cfg     Config
	handler http.Handler
	hub     *hub
	gate    *gate
}

// New builds the server. Events flow while ctx lives.
func New(ctx context.Context, cfg Config) *Server {
	s := &Server{cfg: cfg, hub: newHub(), gate: newGate(time.Now)}
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, securityHeaders, sameOrigin)
	s.routes(r)
	s.handler = r
	if cfg.Store != nil {
		go cfg.Store.Listen(ctx, s.hub.publish, s.hub.resync)
	}
	return s
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

func init() { huma.DefaultArrayNullable = false } // lists are never null

// api describes and serves the JSON API on r.
func (s *Server) api(r chi.Router) huma.API {
	cfg := huma.DefaultConfig("Unlatch", Version)
	cfg.DocsPath, cfg.SchemasPath, cfg.OpenAPIPath = "", "", "/api/openapi"
	cfg.CreateHooks = nil // no $schema links in answers
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"session": {Type: "apiKey", In: "cookie", Name: cookieName}}
	api := humachi.New(r, cfg)
	api.UseMiddleware(s.requireSession(api))
	s.sessionRoutes(api)
	s.siteRoutes(api)
	s.deviceRoutes(api)
	s.signInRoutes(api)
	s.runRoutes(api)
	s.addressRoutes(api)
	s.claimRoutes(api)
	s.remedyRoutes(api)
	s.certificateRoutes(api)
	s.urlRoutes(api)
	s.pasteRoutes(api)
	s.bookRoutes(api)
	s.listRoutes(api)
	return api
}

func (s *Server) routes(r chi.Router) {
	s.api(r)
	r.Get("/api/sites/{site}/events", s.events)
	r.Get("/api/stills/{still}", s.still)
	r.Get("/api/evidence/{record}/exchange", s.exchange)
	r.Get("/api/path-books/{book}/file", s.bookFile)
	r.HandleFunc("/api/*", func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, problem(404, "no_route", "There is no such address in the API.", "See /api/openapi.json."))
	})
	r.Get("/*", s.web)
}

// OpenAPI returns the API's description as indented JSON, for generating the front end's types.
func OpenAPI() ([]byte, error) {
	s := &Server{hub: newHub(), gate: newGate(time.Now)}
	return json.MarshalIndent(s.api(chi.NewRouter()).OpenAPI(), "", " ")
}

// securityHeaders keeps other pages from framing this one and this one from loading anything from elsewhere.
func securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// sameOrigin refuses changes that another site's page asks the browser to make. The cookie is SameSite=Strict besides.
func sameOrigin(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			origin := r.Header.Get("Origin")
			if site := r.Header.Get("Sec-Fetch-Site"); site == "cross-site" || origin != "" && origin != "http://"+r.Host && origin != "https://"+r.Host {
				writeProblem(w, problem(http.StatusForbidden, "cross_origin", "Another site's page asked for this.", "Use Unlatch's own page."))
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

// web serves the built front end; every path that is no file is the application itself.
func (s *Server) web(w http.ResponseWriter, r *http.Request) {
	path := strings.TrimPrefix(r.URL.Path, "/")
	if info, err := fs.Stat(s.cfg.Web, path); path == "" || err != nil || info.IsDir() {
		path = "index.html"
	}
	if strings.HasPrefix(path, "assets/") {
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // names carry a content hash
	} else {
		w.Header().Set("Cache-Control", "no-cache")
	}
	if _, err := fs.Stat(s.cfg.Web, path); err != nil {
		writeProblem(w, problem(http.StatusNotFound, "no_front_end", "This build has no front end.", "Build it with: ./dev build"))
		return
	}
	http.ServeFileFS(w, r, s.cfg.Web, path)
}
