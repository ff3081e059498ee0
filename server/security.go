package server

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/go-chi/chi/v5/middleware"

	"unlatch/core/ground/pairing"
	"unlatch/jobs"
)

// securityHeaders keeps other pages from framing this one and this one from loading anything from elsewhere.
func (s *Server) securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy",
			"default-src 'self'; img-src 'self' data: blob:; media-src 'self' blob:; style-src 'self' 'unsafe-inline'; frame-ancestors "+
				"'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if s.cfg.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000") // RFC 6797 §6.1
		}
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// knownHost refuses requests whose Host names neither an address, nor this machine, nor the public URL: a page of another site could
// otherwise have its own name lead here and read answers as if they were its own (DNS rebinding). An address cannot be rebound.
func (s *Server) knownHost(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !s.hostAllowed(r.Host) {
			writeProblem(w, problem(http.StatusMisdirectedRequest, "unknown_host", "Unlatch does not answer under this name.",
				"Open it by its address, or start it with --public-url and the name under which it is to be reached."))
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Server) hostAllowed(hostport string) bool {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
	if _, err := netip.ParseAddr(host); err == nil || host == "localhost" {
		return true
	}
	if s.cfg.PublicURL == nil {
		return false
	}
	return host == strings.ToLower(s.cfg.PublicURL.Hostname())
}

// sameOrigin refuses changes that another site's page asks the browser to make. The cookie is SameSite=Strict besides. The public URL is
// an origin of ours, too: a proxy may rewrite Host.
func (s *Server) sameOrigin() func(http.Handler) http.Handler {
	p := http.NewCrossOriginProtection()
	if u := s.cfg.PublicURL; u != nil {
		if err := p.AddTrustedOrigin(u.Scheme + "://" + u.Host); err != nil {
			s.cfg.Log.Warn("the public URL is no origin; pages that come by it cannot change anything", "err", err)
		}
	}
	p.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, problem(http.StatusForbidden, "cross_origin", "Another site's page asked for this.", "Use Unlatch's own page."))
	}))
	return p.Handler
}

// ownRequestID keeps the caller from choosing the ID by which a request stands in the log.
func ownRequestID(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Header.Del(middleware.RequestIDHeader)
		next.ServeHTTP(w, r)
	})
}

// logged writes each request to the log, at level debug, with an ID that its answer bears in X-Request-Id. Neither queries nor bodies are
// written: no secret stands in a path.
func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := middleware.GetReqID(r.Context())
		w.Header().Set(middleware.RequestIDHeader, id)
		began := time.Now()
		out := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		defer func() {
			s.cfg.Log.Debug("request", "id", id, "method", r.Method, "path", loggedPath(r.URL.Path), "status", out.Status(), "bytes",
				out.BytesWritten(),
				"took", time.Since(began).Round(time.Microsecond))
		}()
		next.ServeHTTP(out, r.WithContext(jobs.WithRequest(r.Context(), id)))
	})
}

// patience is how long an answer of the API may take: the database may have stopped in the middle of one.
const patience = 20 * time.Second

// loggedPath returns a path as the log may hold it. A feed's path is its credential, so it is never logged.
func loggedPath(path string) string {
	if strings.HasPrefix(path, "/feeds/") {
		return "/feeds/…"
	}
	return path
}

// takeTime is how long whoever asks may take to read an answer: one who never reads it holds nothing for longer.
const takeTime = 3 * time.Minute

// packTime is takeTime, and how long a request may take, for a handover pack, which has some hundred MB.
const packTime = 15 * time.Minute

// inTime gives each request its time; event streams and live pictures last as long as their page, and have a time for each thing that they
// write.
func (s *Server) inTime(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		lasting := strings.HasSuffix(r.URL.Path, "/events") || strings.HasSuffix(r.URL.Path, "/live") ||
			r.URL.Path == pairing.LinkPath
		take, patience := takeTime, s.cfg.Patience
		if large := strings.HasPrefix(r.URL.Path, "/api/packs") || strings.HasSuffix(r.URL.Path, "/zip"); large {
			take, patience = packTime, packTime
		}
		if !lasting {
			http.NewResponseController(w).SetWriteDeadline(time.Now().Add(take))
		}
		if strings.HasPrefix(r.URL.Path, "/api/") && !lasting {
			ctx, cancel := context.WithTimeout(r.Context(), patience)
			defer cancel()
			r = r.WithContext(ctx)
		}
		next.ServeHTTP(w, r)
	})
}

// healthRoutes answer whoever keeps the server running, without a session and without telling anything but yes or no.
func (s *Server) healthz(w http.ResponseWriter, _ *http.Request) {
	writePlain(w, http.StatusOK, "ok\n")
}

// readyz answers whether work can be done: the database takes a question and an answer.
func (s *Server) readyz(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.cfg.Store.Ping(ctx); err != nil {
		writePlain(w, http.StatusServiceUnavailable, "the database does not answer\n")
		return
	}
	if s.cfg.Room != nil && s.cfg.Room.Low() {
		writePlain(w, http.StatusServiceUnavailable, "the disk of the database is nearly full\n")
		return
	}
	writePlain(w, http.StatusOK, "ready\n")
}

func writePlain(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	io.WriteString(w, text)
}

// callerAddress returns who sent a request: the peer, or what a trusted proxy says of it. Only the last address of X-Forwarded-For that no
// trusted proxy added counts: whatever stands before it was written by the caller.
func (s *Server) callerAddress(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	peer, err := netip.ParseAddr(host)
	if err != nil || !s.cfg.TrustedProxies.Contains(peer) {
		return host
	}
	var chain []string
	for _, line := range r.Header.Values("X-Forwarded-For") {
		chain = append(chain, strings.Split(line, ",")...)
	}
	for i := len(chain) - 1; i >= 0; i-- {
		a, err := netip.ParseAddr(strings.TrimSpace(chain[i]))
		if err != nil {
			break
		}
		if host = a.Unmap().String(); !s.cfg.TrustedProxies.Contains(a) {
			break
		}
	}
	return host
}
