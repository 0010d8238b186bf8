package service

import (
	"context"
	"errors"
	"net/http"

	"github.com/oapi-codegen/runtime/types"

	"jorvex/internal/api"
	"jorvex/internal/core/calendar"
	"jorvex/internal/core/coverage"
	"jorvex/internal/core/definition"
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

// GetCoverage implements the contract.
func (s *server) GetCoverage(ctx context.Context, request api.GetCoverageRequestObject) (api.GetCoverageResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	c, err := s.Watcher.Coverage(ctx, in, dayOf(request.Params.From, calendar.Earliest), dayOf(request.Params.To, calendar.Latest))
	if err != nil {
		return nil, newProblem(http.StatusUnprocessableEntity, "not-covered", "What is expected cannot be told", "choose a shorter span, or mend expect in the definition", "%s", err)
	}
	if c == nil {
		return nil, newProblem(http.StatusUnprocessableEntity, "nothing-expected", "Nothing is expected", "add expect to the definition, as in expect: {every: working day, each: terminal}", "%s does not say which files should be there", in.Name)
	}
	shown := api.GetCoverage200JSONResponse{From: c.From.String(), To: c.To.String(), Columns: c.Grid.Columns, Rows: []api.CoverageRow{}, Counts: map[string]int64{}, Unplaced: c.Grid.Unplaced}
	if shown.Columns == nil {
		shown.Columns = []string{}
	}
	for state, n := range c.Grid.Count() {
		shown.Counts[string(state)] = int64(n)
	}
	for r, member := range c.Grid.Rows {
		row := api.CoverageRow{Member: member, States: []api.SlotState{}, Slots: []api.Slot{}}
		for column := range c.Grid.Columns {
			slot := c.Grid.Slot(r, column)
			row.States = append(row.States, api.SlotState(slot.State))
			if slot.State == coverage.Filled || slot.State == coverage.NotDue {
				continue
			}
			one := api.Slot{Column: column, State: api.SlotState(slot.State), Due: slot.Due.UTC(), Files: []string{}, Note: slot.Note}
			if slot.Due.IsZero() {
				one.Due = slot.Due
			}
			for _, f := range slot.Files {
				one.Files = append(one.Files, filename.Show(c.Paths[f]))
			}
			row.Slots = append(row.Slots, one)
		}
		shown.Rows = append(shown.Rows, row)
	}
	return shown, nil
}

func dayOf(given *types.Date, open calendar.Day) calendar.Day {
	if given == nil {
		return open
	}
	return calendar.DayOf(given.Time)
}

// CreateExcuse implements the contract.
func (s *server) CreateExcuse(ctx context.Context, request api.CreateExcuseRequestObject) (api.CreateExcuseResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	e := records.Excuse{Member: request.Body.Member, Period: request.Body.Period, Note: request.Body.Note, By: local, At: s.Clock()}
	if e.Member == "" && e.Period == "" {
		return nil, badRequest("a member, a period, or both name the slot")
	}
	if err := s.Store.SaveExcuse(ctx, in.ID, e); err != nil {
		return nil, err
	}
	return api.CreateExcuse204Response{}, s.Watcher.Judge(ctx, in)
}

// DropExcuse implements the contract.
func (s *server) DropExcuse(ctx context.Context, request api.DropExcuseRequestObject) (api.DropExcuseResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	if err := s.Store.DropExcuse(ctx, in.ID, request.Params.Member, request.Params.Period); errors.Is(err, records.ErrNotFound) {
		return nil, notFound("excuse", request.Params.Member+" "+request.Params.Period, "see them in the grid: jorvex coverage "+in.Name)
	} else if err != nil {
		return nil, err
	}
	return api.DropExcuse204Response{}, s.Watcher.Judge(ctx, in)
}

// ListRecentChanges implements the contract.
func (s *server) ListRecentChanges(ctx context.Context, request api.ListRecentChangesRequestObject) (api.ListRecentChangesResponseObject, error) {
	list, err := s.Store.RecentChanges(ctx, limit(or(request.Params.Limit)))
	shown := api.ListRecentChanges200JSONResponse{Items: []api.RecentChange{}}
	for _, c := range list {
		title := c.Input
		if def, err := definition.Parse(c.Text, s.Clock()); err == nil && def.Title != "" {
			title = def.Title
		}
		shown.Items = append(shown.Items, api.RecentChange{Input: c.Input, Title: title, State: c.State, Files: c.Files, At: c.At.UTC(), Path: filename.Show(string(c.Path))})
	}
	return shown, err
}
