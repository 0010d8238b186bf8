package service

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// TokenFile is the file, below the data directory, that holds the token.
const TokenFile = "token"

const (
	sessionCookie = "jorvex_session"
	sessionSpan   = 30 * 24 * time.Hour
	linkSpan      = 24 * time.Hour
)

func secret() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// loadToken returns the token that clients present, made at the first start.
func loadToken(dir string) (string, error) {
	path := filepath.Join(dir, TokenFile)
	token, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(token)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("read the token: %w", err)
	}
	made := secret()
	if err := os.WriteFile(path, []byte(made+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write the token: %w", err)
	}
	return made, nil
}

// access lets requests in that carry the token, or the cookie of a session that
// a sign-in link began.
type access struct {
	token string
	mu    sync.Mutex
	codes map[string]time.Time // of sign-in links, with their end
}

// newLink makes a link that signs one browser in, once.
func (s *server) newLink() string {
	code := secret()
	s.access.mu.Lock()
	defer s.access.mu.Unlock()
	for old, end := range s.access.codes {
		if end.Before(s.Clock()) {
			delete(s.access.codes, old)
		}
	}
	s.access.codes[code] = s.Clock().Add(linkSpan)
	return s.Base + "/sign-in?code=" + code
}

// signIn begins a session. The page goes on by itself: a redirect would be part
// of a navigation from elsewhere, which the cookie does not go along with.
func (s *server) signIn(c *gin.Context) {
	code := c.Query("code")
	s.access.mu.Lock()
	end, known := s.access.codes[code]
	delete(s.access.codes, code)
	s.access.mu.Unlock()
	c.Header("Referrer-Policy", "no-referrer")
	c.Header("Cache-Control", "no-store")
	if !known || end.Before(s.Clock()) {
		c.Data(http.StatusForbidden, "text/html; charset=utf-8", []byte("<!doctype html><title>Jorvex</title><p>This sign-in link was used already or is too old. Make a new one with <code>jorvex sign-in</code>."))
		return
	}
	session := secret()
	if err := s.Store.CreateSession(c, digest(session), s.Clock().Add(sessionSpan)); err != nil {
		s.answer(c, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Value: session, Path: "/", MaxAge: int(sessionSpan / time.Second), HttpOnly: true, SameSite: http.SameSiteStrictMode})
	c.Data(http.StatusOK, "text/html; charset=utf-8", []byte(`<!doctype html><title>Jorvex</title><meta http-equiv="refresh" content="0;url=/"><p>You are signed in. <a href="/">Go on</a>`))
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// guard refuses requests meant for another host, those a page of another origin
// makes, and those without a token or session.
func (s *server) guard(c *gin.Context) {
	if !s.knownHost(c.Request.Host) {
		s.answer(c, newProblem(http.StatusForbidden, "wrong-host", "Not this host", "", "the request is meant for %q, which is not this service", c.Request.Host))
		return
	}
	if origin := c.GetHeader("Origin"); origin != "" {
		if u, err := url.Parse(origin); err != nil || u.Host != c.Request.Host {
			s.answer(c, newProblem(http.StatusForbidden, "wrong-origin", "Not this origin", "", "a page of %q may not ask this service", origin))
			return
		}
	}
	if !strings.HasPrefix(c.Request.URL.Path, "/api/") || s.signedIn(c) {
		return
	}
	if c.IsAborted() {
		return
	}
	c.Header("WWW-Authenticate", "Bearer")
	s.answer(c, newProblem(http.StatusUnauthorized, "not-signed-in", "Not signed in", "present the token, or sign in with the link that jorvex sign-in prints",
		"the request carries no valid token or session"))
}

func (s *server) signedIn(c *gin.Context) bool {
	if presented, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		return subtle.ConstantTimeCompare([]byte(presented), []byte(s.access.token)) == 1
	}
	cookie, err := c.Request.Cookie(sessionCookie)
	if err != nil {
		return false
	}
	known, err := s.Store.Session(c, digest(cookie.Value), s.Clock())
	if err != nil {
		s.answer(c, err)
		return false
	}
	return known
}

// knownHost reports whether a Host header names this service on loopback.
func (s *server) knownHost(host string) bool {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	if strings.EqualFold(name, "localhost") {
		return true
	}
	ip := net.ParseIP(strings.Trim(name, "[]"))
	return ip != nil && ip.IsLoopback()
}
