package service

import (
	"context"
	"errors"
	"net/http"

	"jorvex/internal/api"
	"jorvex/internal/core/filename"
	"jorvex/internal/records"
)

// ListLog implements the contract.
func (s *server) ListLog(ctx context.Context, request api.ListLogRequestObject) (api.ListLogResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	var before int64
	if err := readCursor(or(request.Params.Cursor), &before); err != nil {
		return nil, err
	}
	var path []byte
	if shown := or(request.Params.Path); shown != "" {
		raw, _, err := s.locate(ctx, in, shown)
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return nil, err
		}
		path = []byte(raw)
	}
	n := limit(or(request.Params.Limit))
	list, err := s.Store.Changes(ctx, in.ID, before, path, n+1)
	page := api.ListLog200JSONResponse{Items: []api.LogEntry{}}
	if len(list) > n {
		list = list[:n]
		page.Next = cursor(list[n-1].ID)
	}
	for _, c := range list {
		page.Items = append(page.Items, shownChange(c))
	}
	return page, err
}

// GetStory implements the contract.
func (s *server) GetStory(ctx context.Context, request api.GetStoryRequestObject) (api.GetStoryResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	path, listed, err := s.locate(ctx, in, request.Params.Path)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	log, err := s.Store.Changes(ctx, in.ID, 0, []byte(path), 100)
	if err != nil {
		return nil, err
	}
	if listed.ID == 0 {
		if len(log) == 0 {
			return nil, notFound("file", filename.Show(path), "list the files with: jorvex files "+in.Name)
		}
		listed = records.Listed{Path: []byte(path), Verdict: "left_out", Reason: "gone", Sentence: "it is not there any more"}
	}
	if listed.Verdict == "" {
		e, err := s.Watcher.Explain(ctx, in, path)
		if err != nil {
			return nil, err
		}
		listed.Verdict, listed.Reason, listed.Sentence = e.Row.Verdict, e.Row.Reason, e.Row.Sentence
	}
	story := api.GetStory200JSONResponse{File: shownFile(listed), Log: []api.LogEntry{}, Fed: []api.FedRun{}}
	for _, c := range log {
		story.Log = append(story.Log, shownChange(c))
	}
	fed, err := s.Store.FedBy(ctx, in.ID, []byte(path))
	for _, f := range fed {
		story.Fed = append(story.Fed, api.FedRun{Digest: f.Digest, First: f.First, Last: f.Last})
	}
	return story, err
}

// ConfirmLoss implements the contract.
func (s *server) ConfirmLoss(ctx context.Context, request api.ConfirmLossRequestObject) (api.ConfirmLossResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	if in.Doubt == nil || in.Doubt.Confirmed {
		return nil, newProblem(http.StatusConflict, "no-doubt", "Nothing is in doubt", "", "no file of %s is in doubt", in.Name)
	}
	doubt := *in.Doubt
	doubt.Confirmed, doubt.By = true, local
	if err := s.Store.SaveDoubt(ctx, in.ID, &doubt); err != nil {
		return nil, err
	}
	shown, _, err := s.judged(ctx, in.Name)
	return api.ConfirmLoss200JSONResponse(shown), err
}
