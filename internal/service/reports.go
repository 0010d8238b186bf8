package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/records"
)

func (s *server) report(ctx context.Context, name string) (records.Report, error) {
	r, err := s.Store.Report(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		err = notFound("report", name, "list them with: jorvex report list")
	}
	return r, err
}

// ListReports implements the contract.
func (s *server) ListReports(ctx context.Context, _ api.ListReportsRequestObject) (api.ListReportsResponseObject, error) {
	list, err := s.Store.Reports(ctx)
	if err != nil {
		return nil, err
	}
	shown := api.ListReports200JSONResponse{Items: []api.Report{}}
	for _, r := range list {
		one, err := s.shownReport(ctx, r)
		if err != nil {
			return nil, err
		}
		shown.Items = append(shown.Items, one)
	}
	return shown, nil
}

// GetReport implements the contract.
func (s *server) GetReport(ctx context.Context, request api.GetReportRequestObject) (api.GetReportResponseObject, error) {
	r, err := s.report(ctx, request.Report)
	if err != nil {
		return nil, err
	}
	shown, err := s.shownReport(ctx, r)
	return api.GetReport200JSONResponse(shown), err
}

func (s *server) shownReport(ctx context.Context, r records.Report) (api.Report, error) {
	shown := api.Report{Name: r.Name, Title: r.Name, Version: r.Version, Inputs: []string{}, Definition: r.Text, SavedAt: r.SavedAt.UTC(), SavedBy: r.SavedBy}
	if def, err := definition.ParseReport(r.Text); err == nil && def.Title != "" {
		shown.Title = def.Title
	}
	for _, id := range r.Inputs {
		in, err := s.Store.InputByID(ctx, id)
		if err != nil {
			return shown, err
		}
		shown.Inputs = append(shown.Inputs, in.Name)
	}
	next, err := s.Store.ReportRuns(ctx)
	if at, due := next[r.ID]; due {
		shown.NextRefresh = at.UTC()
	}
	return shown, err
}

// saveReport reads and records a definition of a report.
func (s *server) saveReport(ctx context.Context, id, over int64, text string) (api.Report, error) {
	def, err := definition.ParseReport(text)
	if err != nil {
		return api.Report{}, err
	}
	r := records.Report{Name: def.Report, Text: text, Digest: definition.Digest(text), SavedAt: s.Clock(), SavedBy: local}
	for _, name := range def.Inputs {
		in, err := s.input(ctx, name)
		if err != nil {
			return api.Report{}, err
		}
		r.Inputs = append(r.Inputs, in.ID)
	}
	slices.Sort(r.Inputs)
	_, err = s.Store.SaveReport(ctx, id, over, r, s.runs(def.Refresh))
	switch {
	case errors.Is(err, records.ErrExists):
		return api.Report{}, newProblem(http.StatusConflict, "report-exists", "The name is taken", "choose another name, or save over it with: jorvex report save", "there is a report %s already", r.Name)
	case errors.Is(err, records.ErrConflict):
		return api.Report{}, newProblem(http.StatusPreconditionFailed, "edited-meanwhile", "Somebody else saved it meanwhile", "show the newest and edit that: jorvex report show "+r.Name, "version %d is not the newest of %s", over, r.Name)
	case err != nil:
		return api.Report{}, err
	}
	saved, err := s.Store.Report(ctx, r.Name)
	if err != nil {
		return api.Report{}, err
	}
	return s.shownReport(ctx, saved)
}

// CreateReport implements the contract.
func (s *server) CreateReport(ctx context.Context, request api.CreateReportRequestObject) (api.CreateReportResponseObject, error) {
	shown, err := s.saveReport(ctx, 0, 0, request.Body.Definition)
	return api.CreateReport201JSONResponse(shown), err
}

// SaveReport implements the contract.
func (s *server) SaveReport(ctx context.Context, request api.SaveReportRequestObject) (api.SaveReportResponseObject, error) {
	r, err := s.report(ctx, request.Report)
	if err != nil {
		return nil, err
	}
	shown, err := s.saveReport(ctx, r.ID, request.Params.Over, request.Body.Definition)
	return api.SaveReport200JSONResponse(shown), err
}

// RefreshReport implements the contract.
func (s *server) RefreshReport(ctx context.Context, request api.RefreshReportRequestObject) (api.RefreshReportResponseObject, error) {
	r, err := s.report(ctx, request.Report)
	if err != nil {
		return nil, err
	}
	asked := asked(request.Body)
	if len(asked.Only) > 0 {
		return nil, badRequest("files are named for one input; refresh that")
	}
	known := map[string]bool{}
	for _, id := range r.Inputs {
		in, err := s.Store.InputByID(ctx, id)
		if err != nil {
			return nil, err
		}
		def, err := definition.Parse(in.Text, s.Clock())
		if err != nil {
			return nil, err
		}
		for name := range def.Values {
			known[name] = true
		}
	}
	for name := range asked.Set {
		if !known[name] {
			return nil, badRequest("no input of %s has a parameter %q", r.Name, name)
		}
	}
	refresh, err := s.Runner.Ask(ctx, records.Subject{Report: r.ID, Inputs: r.Inputs}, asked, local)
	return api.RefreshReport202JSONResponse(shownRefresh(refresh)), err
}

// RefreshEvery implements the contract.
func (s *server) RefreshEvery(ctx context.Context, _ api.RefreshEveryRequestObject) (api.RefreshEveryResponseObject, error) {
	shown := api.RefreshEvery202JSONResponse{Items: []api.Refresh{}}
	for after := ""; ; {
		list, err := s.Store.Inputs(ctx, after, 500)
		if err != nil || len(list) == 0 {
			return shown, err
		}
		for _, in := range list {
			after = in.Name
			def, err := definition.Parse(in.Text, s.Clock())
			if err != nil {
				return nil, fmt.Errorf("the definition of %s: %w", in.Name, err)
			}
			if len(def.Delivery) == 0 {
				continue
			}
			r, err := s.Runner.Ask(ctx, records.Subject{Input: in.ID, Inputs: []int64{in.ID}}, records.Request{}, local)
			if err != nil {
				return nil, err
			}
			shown.Items = append(shown.Items, shownRefresh(r))
		}
	}
}
