package testkit

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"jorvex/internal/api"
)

// contract holds every answer of a service against the contract.
type contract struct {
	next   http.RoundTripper
	once   sync.Once
	router routers.Router
}

// broken gathers the answers that did not hold.
type broken struct {
	mu   sync.Mutex
	list []string
}

var violations broken

func (b *broken) add(text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.list = append(b.list, text)
}

func (b *broken) take() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	list := b.list
	b.list = nil
	return list
}

func (c *contract) prepare() {
	spec, err := api.GetSpec()
	if err != nil {
		panic(err)
	}
	spec.Servers = nil
	if c.router, err = gorillamux.NewRouter(spec); err != nil {
		panic(err)
	}
}

// RoundTrip implements http.RoundTripper.
func (c *contract) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := c.next.RoundTrip(request)
	if err != nil || !strings.HasPrefix(request.URL.Path, "/api/v1/") || strings.HasPrefix(response.Header.Get("Content-Type"), "text/event-stream") || response.Header.Get("Content-Disposition") != "" {
		return response, err
	}
	c.once.Do(c.prepare)
	route, params, errRoute := c.router.FindRoute(request)
	if errRoute != nil {
		return response, nil // the contract and the schema themselves; wrong routes
	}
	body, err := io.ReadAll(response.Body)
	response.Body.Close()
	response.Body = io.NopCloser(bytes.NewReader(body))
	if err != nil {
		return response, err
	}
	if response.Header.Get(api.ContractHeader) == "" {
		violations.add(fmt.Sprintf("%s %s: no header %s", request.Method, request.URL, api.ContractHeader))
	}
	input := &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: request, PathParams: params, Route: route},
		Status:                 response.StatusCode, Header: response.Header,
		Options: &openapi3filter.Options{IncludeResponseStatus: true},
	}
	input.SetBodyBytes(body)
	if err := openapi3filter.ValidateResponse(request.Context(), input); err != nil {
		violations.add(fmt.Sprintf("%s %s: %v\n%.2000s", request.Method, request.URL, err, body))
	}
	return response, nil
}
