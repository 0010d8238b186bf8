package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/finding"
	"jorvex/internal/places"
	"jorvex/internal/records"
)

// problem is an error in the form of the contract. What people read is written
// here, in one place.
type problem struct{ api.Problem }

func (p *problem) Error() string { return p.Detail }

func newProblem(status int, name, title, next, detail string, args ...any) *problem {
	return &problem{api.Problem{Type: "urn:jorvex:problem:" + name, Title: title, Status: status, Detail: fmt.Sprintf(detail, args...), Next: next}}
}

func notFound(what, name, next string) *problem {
	return newProblem(http.StatusNotFound, "not-found", "Not found", next, "there is no %s %q", what, name)
}

func badRequest(detail string, args ...any) *problem {
	return newProblem(http.StatusBadRequest, "bad-request", "The request cannot be understood", "", detail, args...)
}

// problemOf turns any error into a problem.
func problemOf(err error) *problem {
	var p *problem
	var invalid *definition.Invalid
	var notAllowed *places.NotAllowed
	var taken *records.DeliveryTaken
	var named *records.NameTaken
	var found finding.Finding
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &invalid):
		p = newProblem(http.StatusUnprocessableEntity, "definition-invalid", "The definition is not valid", "mend the lines named", "%s", err)
		for _, fault := range invalid.Problems {
			p.Problems = append(p.Problems, api.DefinitionProblem{Line: fault.Line, Column: fault.Column, Message: fault.Message})
		}
		return p
	case errors.As(err, &notAllowed):
		return newProblem(http.StatusUnprocessableEntity, "directory-not-allowed", "The directory is not allowed",
			"choose a directory below an allowed one, or have the operator start the service with -allow", "%s", err)
	case errors.As(err, &taken):
		return newProblem(http.StatusConflict, "delivery-taken", "Another input delivers the same", "give the delivery another name", "%s", err)
	case errors.As(err, &named):
		return newProblem(http.StatusConflict, "exists", "The name is taken", "choose another name: refreshes are asked for by it", "%s", err)
	case errors.As(err, &found):
		return newProblem(http.StatusUnprocessableEntity, "file-unusable", "The file cannot be used", found.Suggest, "%s", found.Sentence)
	case errors.Is(err, context.Canceled):
		return newProblem(499, "given-up", "The request was given up", "", "the request ended before the answer")
	}
	return newProblem(http.StatusInternalServerError, "internal", "Something failed in the service", "look at the service's log; try again", "%s", err)
}

// answer writes a problem document.
func (s *server) answer(c *gin.Context, err error) {
	p := problemOf(err)
	if p.Status == http.StatusInternalServerError {
		s.Log.Error("a request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
	}
	body, err := json.Marshal(p.Problem)
	if err != nil {
		body = []byte(`{}`)
	}
	c.Abort()
	c.Data(p.Status, "application/problem+json", body)
}
