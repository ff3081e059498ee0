// Package server is the web side: a JSON API described by an OpenAPI document, live events, and the built front end. Its
// handlers only translate between HTTP and store, jobs and core.
package server

import (
	"context"
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"
	"go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/release"
	"unlatch/core/ground/tries"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
	"unlatch/core/work/live"
	"unlatch/jobs"
	"unlatch/store"
)

// Config of a Server.
type Config struct {
	Store *store.Store
	Queue *jobs.Queue
	// Agent answers what has to be asked of a network or of the machine that reaches it: this process dials nothing. nil asks by Queue.
	Agent jobs.Agent
	// Live shows streams as they come; nil where the workers that reach the devices are other processes, which send them.
	Live Live
	Web  fs.FS // the built front end
	Log  *slog.Logger
	// SignOn is the provider of single sign-on; nil for none.
	SignOn SignOn
	// SetupCode must be given to make the first account: who can read the terminal may be the first.
	SetupCode string
	// Secure says that the server is reached over TLS alone: cookies are marked so, and browsers are told.
	Secure bool
	// PublicURL is the address under which people reach the server, if it is a name or a proxy's address; nil if there is none.
	PublicURL *url.URL
	// TrustedProxies are those whose X-Forwarded-For is believed.
	TrustedProxies address.Ranges
	// Patience is how long a request of the API may take; 0 means 20 s.
	Patience time.Duration
	// Now is the clock by which tries to sign in are spaced; nil for time.Now.
	Now func() time.Time
	// MetricsToken opens /metrics to whoever scrapes it; "" for no such page.
	MetricsToken string
	// Meters are what else is measured in this process, and shown with the metrics.
	Meters []prometheus.Collector
	// Traced says that spans go somewhere.
	Traced bool
	// Room watches the disk of the database; nil if the database is on another machine.
	Room *Room
	// Preparing says what is still being prepared behind the pages, "" when all is; nil where nothing ever is.
	Preparing func() string
}

// A Server is the HTTP handler with what lives beside it. What the API tells of is served by one type for each kind of thing.
type Server struct {
	cfg       Config
	handler   http.Handler
	hub       *hub
	metrics   *metrics
	elsewhere *remotePictures
	links     *links
	asked     tries.Counter // requests to be paired
	resource  resource
	sessions  sessions
	pages     pages
	viewers   atomic.Int64 // live pictures that are looked at
	strangers atomic.Int64 // bytes that requests without a session hold
	uploads   uploads      // handover packs that wait to be opened
}

// heard takes an event of the database.
func (s *Server) heard(e store.Event) {
	switch e.What {
	case store.WorkerRevoked:
		go s.links.endIfRevoked(e.ID)
	case store.WorkerWanted:
		go s.links.see(e.ID)
	default:
		s.hub.publish(e)
	}
}

// mostHashes is how many passwords are judged at once: each takes 64 MiB.
const mostHashes = 2

func bare(cfg Config) *Server {
	if cfg.Now == nil {
		cfg.Now = time.Now
	}
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	if cfg.Agent == nil {
		cfg.Agent = cfg.Queue
	}
	if cfg.Patience == 0 {
		cfg.Patience = patience
	}
	away := &remotePictures{store: cfg.Store, now: cfg.Now, log: cfg.Log, byName: map[string]*live.Remote{}}
	s := &Server{cfg: cfg, hub: newHub(), elsewhere: away}
	s.links = &links{pictures: away, from: s.callerAddress, byID: map[uuid.UUID]*oneLink{}}
	s.asked.Now = cfg.Now
	up := newLineUp(cfg.Store, cfg.Now)
	s.resource = resource{acts{problems{cfg.Log}, cfg.Store, cfg.Queue, up, cfg.Now}}
	s.metrics = newMetrics(cfg.MetricsToken, append(cfg.Meters, &siteCollector{cfg.Store, cfg.Queue, up, &s.viewers})...)
	s.sessions = sessions{resource: s.resource, accounts: newGate(freeByAccount, cfg.Now), addresses: newGate(freeByAddress, cfg.Now),
		hashing: make(chan struct{}, mostHashes), setupCode: cfg.SetupCode, secure: cfg.Secure}
	if cfg.SignOn != nil {
		s.sessions.signOn = cfg.SignOn.Rule().Provider
	}
	s.pages = pages{acts: s.resource.acts, store: cfg.Store, hub: s.hub, lineUp: up, from: cfg.Live, viewers: &s.viewers}
	if s.pages.from == nil {
		s.pages.from = away
	}
	return s
}

// New builds the server. Events flow while ctx lives.
func New(ctx context.Context, cfg Config) *Server {
	s := bare(cfg)
	r := chi.NewRouter()
	r.Use(ownRequestID, middleware.RequestID, s.logged, s.metrics.timed, middleware.Recoverer, middleware.Compress(1), s.securityHeaders,
		s.knownHost, s.sameOrigin(), s.withCaller, s.inTime)
	s.routes(r)
	s.handler = r
	if cfg.Traced {
		// A trace begins here: who asks from outside has no say in it. The path of a feed is its credential.
		s.handler = otelhttp.NewHandler(r, "request", otelhttp.WithPublicEndpointFn(func(*http.Request) bool { return true }),
			otelhttp.WithFilter(func(r *http.Request) bool { return !strings.HasPrefix(r.URL.Path, "/feeds/") }))
	}
	if cfg.Store != nil {
		go cfg.Store.Listen(ctx, s.heard, func() {
			s.hub.resync()
			s.links.endRevoked(ctx)
		})
	}
	return s
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

func init() { huma.DefaultArrayNullable = false } // lists are never null

// api describes and serves the JSON API on r.
func (s *Server) api(r chi.Router) huma.API {
	cfg := huma.DefaultConfig("Unlatch", release.Version)
	cfg.DocsPath, cfg.SchemasPath, cfg.OpenAPIPath = "", "", ""
	cfg.CreateHooks = nil // no $schema links in answers
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"session": {Type: "apiKey", In: "cookie", Name: cookieName},
		"token": {Type: "http", Scheme: "bearer"}}
	api := humachi.New(r, cfg)
	api.UseMiddleware(s.sessions.requireSession(api), s.readBodies(api))
	res := s.resource
	agreements := targetTrust{res}
	screens := feeds{res, s.sessions.addresses}
	for _, kind := range []interface{ routes(huma.API) }{
		s.sessions, sites{res, s.cfg.Agent}, people{res, s.sessions}, tokens{res}, factors{s.sessions},
		signOns{s.sessions, s.cfg.SignOn}, devices{res}, cameras{res},
		strays{res, s.cfg.Agent}, records{res},
		readings{res}, signIns{res}, runs{res},
		addressPlans{res, s.cfg.Agent}, claims{res}, fixes{res}, commands{res}, outsides{res}, baselines{res}, drifts{res}, timelines{res},
		tellings{res}, keepings{res}, conditions{res}, relays{res}, s.pairings(), marks{res}, groups{res},
		tunes{res}, plans{res},
		previews{res, costs{res}}, costs{res}, intakes{res}, targets{res, s.cfg.Agent, screens, agreements}, agreements, placements{res}, screens,
		urls{res}, strengths{res}, pastes{res, make(chan struct{}, mostPastes)}, pathBooks{res}, lists{res},
		trust{res, s.cfg.Room, s.cfg.Preparing}, newAuditLog(res), presence{res, s.hub}, search{res}, sitePlans{res, make(chan struct{}, 1)},
		s.handovers(), openPacks{res, &s.uploads, s.handovers()},
	} {
		kind.routes(api)
	}
	return api
}

func (s *Server) routes(r chi.Router) {
	api := s.api(r)
	screens, history := feeds{s.resource, s.sessions.addresses}, records{s.resource}
	r.Get("/healthz", s.healthz)
	r.Get("/metrics", s.metrics.ServeHTTP)
	r.Get("/readyz", s.readyz)
	r.Get(jobs.PicturesPath, s.elsewhere.ServeHTTP)
	r.Get(pairing.LinkPath, s.links.ServeHTTP)
	r.Get(pairing.AskPath, s.pairings().ServeHTTP)
	r.Post(pairing.AskPath, s.pairings().ServeHTTP)
	r.Get("/feeds/{token}", screens.feed)
	r.Post("/feeds/{token}/showing", screens.feedShowing)
	r.Group(func(r chi.Router) { // what no JSON is; its handlers know who asks, as those of the described API do
		r.Use(s.sessions.withPerson)
		r.Get("/api/openapi.json", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/openapi+json")
			json.NewEncoder(w).Encode(api.OpenAPI())
		})
		needing := func(right act.Right) chi.Router { return r.With(s.resource.withRight(right)) }
		needing(act.See).Get("/api/sites/{site}/events", s.pages.events)
		needing(act.Look).Get("/api/devices/{device}/live", s.pages.live)
		needing(act.Look).Get("/api/events", s.pages.allEvents)
		needing(act.Look).Get("/api/stills/{still}", history.still)
		needing(act.See).Get("/api/sites/{site}/site-plans/{siteplan}/picture", sitePlans{s.resource, nil}.picture)
		packs := s.handovers()
		needing(act.Look).Get("/api/sites/{site}/handover/versions/{version}/file", packs.file)
		needing(act.See).Get("/api/sites/{site}/handover/versions/{version}/zip", packs.zip)
		needing(act.See).Get("/api/sites/{site}/handover/versions/{version}/changes/file", packs.changesFile)
		needing(act.See).Get("/api/firm/mark", packs.mark)
		needing(act.Arrange).Post("/api/packs", openPacks{s.resource, &s.uploads, packs}.bring)
		needing(act.See).Get("/api/audit/file", newAuditLog(s.resource).file)
		needing(act.Inspect).Get("/api/evidence/{record}/exchange", history.exchange)
		needing(act.Inspect).Get("/api/target-records/{record}/exchange", history.targetExchange)
		needing(act.See).Get("/api/sites/{site}/targets/{target}/file", screens.listFile)
		needing(act.See).Get("/api/sites/{site}/outside/file", outsides{s.resource}.sheet)
		needing(act.See).Get("/api/path-books/{book}/file", pathBooks{s.resource}.bookFile)
		needing(act.See).Get("/api/presets/{book}/file", plans{s.resource}.shelfFile(act.PresetBooks, tuning.ShippedPresets().Write))
		needing(act.See).Get("/api/intakes/{book}/file", plans{s.resource}.shelfFile(act.IntakeBooks, intake.ShippedFile))
		r.HandleFunc("/api/*", func(w http.ResponseWriter, _ *http.Request) {
			writeProblem(w, problem(404, "no_route", "There is no such address in the API.", "See /api/openapi.json."))
		})
	})
	r.Get("/*", s.web)
}

func (s *Server) pairings() pairings { return pairings{s.resource, &s.asked, s.links, s.callerAddress} }

func (s *Server) handovers() handovers {
	base := ""
	if u := s.cfg.PublicURL; u != nil {
		base = u.Scheme + "://" + u.Host
	}
	return handovers{s.resource, base}
}

// OpenAPI returns the API's description as indented JSON, for generating the front end's types.
func OpenAPI() ([]byte, error) {
	s := bare(Config{})
	return json.MarshalIndent(s.api(chi.NewRouter()).OpenAPI(), "", " ")
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
