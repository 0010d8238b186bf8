package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/gin-gonic/gin"

	"jorvex/console"
	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/deliver"
	"jorvex/internal/events"
	"jorvex/internal/notice"
	"jorvex/internal/places"
	"jorvex/internal/records"
	"jorvex/internal/refresh"
	"jorvex/internal/watch"
)

// server answers the HTTP contract.
type server struct {
	Store   *records.Store
	Watcher *watch.Watcher
	Desk    *notice.Desk
	Runner  *refresh.Runner
	Folder  *deliver.Folder
	Events  *events.Broker
	Allowed places.Allowed
	Clock   func() time.Time
	Log     *slog.Logger
	Version string
	Base    string // its own address

	access access
	router routers.Router
	// closing ends the streams of live events when the service stops.
	closing context.Context
}

// contract is what requests are held against, whatever address they come to.
var contract = sync.OnceValues(func() (*openapi3.T, error) {
	spec, err := api.GetSpec()
	if err == nil {
		spec.Servers = nil
	}
	return spec, err
})

// handler returns the whole of what is served: contract, sign-in, console.
func (s *server) handler() (http.Handler, error) {
	spec, err := contract()
	if err != nil {
		return nil, err
	}
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.ContextWithFallback = true
	engine.UseRawPath = true
	engine.HandleMethodNotAllowed = true
	engine.Use(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/api/") {
			c.Header(api.ContractHeader, spec.Info.Version)
		}
	}, gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, err any) {
		s.answer(c, fmt.Errorf("panic: %v", err))
	}), s.guard)

	if s.router, err = gorillamux.NewRouter(spec); err != nil {
		return nil, err
	}
	document, err := api.GetSpecJSON()
	if err != nil {
		return nil, err
	}
	engine.GET("/api/v1/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", document) })
	engine.GET("/api/v1/definition-schema.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/schema+json", definition.Schema) })
	engine.GET("/sign-in", s.signIn)
	strict := api.NewStrictHandlerWithOptions(s, nil, api.StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(c *gin.Context, err error) { s.answer(c, badRequest("%s", err)) },
		HandlerErrorFunc:         s.answer,
		ResponseErrorHandlerFunc: func(c *gin.Context, err error) { s.Log.Debug("a response was cut short", "error", err) },
	})
	api.RegisterHandlersWithOptions(engine, strict, api.GinServerOptions{
		Middlewares:  []api.MiddlewareFunc{s.validate},
		ErrorHandler: func(c *gin.Context, err error, _ int) { s.answer(c, badRequest("%s", err)) },
	})
	engine.NoMethod(func(c *gin.Context) {
		s.answer(c, newProblem(http.StatusMethodNotAllowed, "wrong-method", "Wrong method", "", "%s does not answer %s", c.Request.URL.Path, c.Request.Method))
	})
	engine.NoRoute(s.console())
	return engine, nil
}

// validate holds a request against the contract.
func (s *server) validate(c *gin.Context) {
	route, params, err := s.router.FindRoute(c.Request)
	if err != nil {
		s.answer(c, badRequest("%s", err))
		return
	}
	err = openapi3filter.ValidateRequest(c, &openapi3filter.RequestValidationInput{
		Request: c.Request, PathParams: params, Route: route,
		Options: &openapi3filter.Options{
			AuthenticationFunc: openapi3filter.NoopAuthenticationFunc,
			ExcludeRequestBody: c.ContentType() == "application/octet-stream", // a file may be large
		},
	})
	var request *openapi3filter.RequestError
	switch {
	case errors.As(err, &request):
		detail, _, _ := strings.Cut(request.Error(), "\nSchema:")
		s.answer(c, badRequest("%s", detail))
	case err != nil:
		s.answer(c, badRequest("%s", err))
	}
}

// console serves the built console; its pages are one document.
func (s *server) console() gin.HandlerFunc {
	files := console.Files()
	index, err := fs.ReadFile(files, "index.html")
	if err != nil {
		index = []byte("<!doctype html><title>Jorvex</title><p>The console is not built into this program. Build it with <code>./start</code>.")
	}
	return func(c *gin.Context) {
		name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		if strings.HasPrefix(name, "api/") {
			s.answer(c, newProblem(http.StatusNotFound, "no-such-route", "No such route", "the contract is at /api/v1/openapi.json", "nothing answers at %s", c.Request.URL.Path))
			return
		}
		c.Header("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
		c.Header("X-Content-Type-Options", "nosniff")
		if body, err := fs.ReadFile(files, name); err == nil && name != "index.html" {
			if strings.HasPrefix(name, "assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			c.Data(http.StatusOK, mime.TypeByExtension(path.Ext(name)), body)
			return
		}
		c.Header("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", index)
	}
}

// StreamEvents implements the contract.
func (s *server) StreamEvents(ctx context.Context, request api.StreamEventsRequestObject) (api.StreamEventsResponseObject, error) {
	return &stream{s, ctx, or(request.Params.LastEventID)}, nil
}

// stream is the live events of one listener.
type stream struct {
	*server
	ctx  context.Context
	last string
}

// quiet is how often a stream without events shows that it lives.
const quiet = 15 * time.Second

// VisitStreamEventsResponse writes events until the listener leaves.
func (s *stream) VisitStreamEventsResponse(w http.ResponseWriter) error {
	control := http.NewResponseController(w)
	_ = control.SetWriteDeadline(time.Time{})
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	stop := context.AfterFunc(s.closing, cancel)
	defer stop()

	waiting := make(chan events.Event)
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = s.Events.Listen(ctx, s.last, func(e events.Event) error {
			select {
			case waiting <- e:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	defer func() { cancel(); <-done }()
	if _, err := fmt.Fprint(w, ": listening\n\n"); err != nil {
		return err
	}
	for {
		if err := control.Flush(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(quiet):
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil {
				return err
			}
		case e := <-waiting:
			data, err := json.Marshal(shownEvent(e.Data))
			if err != nil {
				return err
			}
			if _, err := fmt.Fprintf(w, "id: %s\nevent: %s\ndata: %s\n\n", e.ID, e.Name, data); err != nil {
				return err
			}
		}
	}
}

// shownEvent puts an event's data in the form of the contract.
func shownEvent(data any) any {
	switch d := data.(type) {
	case watch.LookEvent:
		return shownLook(d.Place, d.Look)
	case watch.RosterEvent:
		return api.InputMark{Input: d.Input, Place: d.Place}
	case watch.ChangesEvent:
		shown := api.ChangesEvent{Input: d.Input, Files: d.Files, First: []api.LogEntry{}}
		for _, c := range d.First {
			shown.First = append(shown.First, shownChange(c))
		}
		return shown
	case records.Refresh:
		return shownRefresh(d)
	}
	return data
}
