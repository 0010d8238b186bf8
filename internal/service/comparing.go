package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// CompareReceipts implements the contract.
func (s *server) CompareReceipts(ctx context.Context, request api.CompareReceiptsRequestObject) (api.CompareReceiptsResponseObject, error) {
	later, after, err := s.receipt(ctx, request.Receipt)
	if err != nil {
		return nil, err
	}
	number := request.Params.With
	if number == 0 {
		stored, err := s.Store.LastReceipt(ctx, after.InputID, parametersOf(after), after.Number)
		if errors.Is(err, records.ErrNotFound) {
			return nil, newProblem(http.StatusNotFound, "first-receipt", "There is nothing to compare with", "name another receipt to compare it with",
				"receipt %d is the first of %s with these parameters", after.Number, after.Input)
		}
		if err != nil {
			return nil, err
		}
		number = stored.Number
	}
	earlier, before, err := s.receipt(ctx, number)
	if err != nil {
		return nil, err
	}
	if before.Number > after.Number {
		earlier, before, later, after = later, after, earlier, before
	}
	had, err := s.receiptFiles(earlier)
	if err != nil {
		return nil, err
	}
	has, err := s.receiptFiles(later)
	if err != nil {
		return nil, err
	}
	c := receipt.Compare(before, after, had, has)
	shown := api.CompareReceipts200JSONResponse{
		Before: before.Number, After: after.Number, Input: after.Input, BeforeInput: before.Input, OtherDefinition: before.Definition != after.Definition,
		RowsBefore: before.Rows, RowsAfter: after.Rows, Totals: shownMoves(c.Totals), Counts: map[string]int{"same": c.Same}, Items: []api.FileMove{},
	}
	for _, f := range c.Files {
		shown.Counts[string(f.Change)]++
		if len(shown.Items) == cmp.Or(request.Params.Limit, 200) {
			continue
		}
		item := api.FileMove{Change: api.FileMoveChange(f.Change), Path: f.Path, From: f.From, Totals: shownMoves(f.Totals)}
		if f.Before != nil {
			item.RowsBefore, item.DigestBefore = f.Before.Kept, f.Before.Digest
		}
		if f.After != nil {
			item.RowsAfter, item.DigestAfter = f.After.Kept, f.After.Digest
		}
		shown.Items = append(shown.Items, item)
	}
	return shown, nil
}

func (s *server) receiptFiles(stored receipt.Stored) (list []receipt.File, err error) {
	err = watch.ReceiptFiles(s.Watcher, stored, func(f receipt.File) error {
		list = append(list, f)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read the files of receipt %d: %w", stored.Number, err)
	}
	return list, nil
}

func shownMoves(list []receipt.TotalMove) []api.TotalMove {
	shown := []api.TotalMove{}
	for _, t := range list {
		shown = append(shown, api.TotalMove{Column: t.Column, Before: t.Before, After: t.After, Moved: t.Moved})
	}
	return shown
}

// TraceFile implements the contract.
func (s *server) TraceFile(ctx context.Context, request api.TraceFileRequestObject) (api.TraceFileResponseObject, error) {
	path := ""
	if request.Params.Digest == "" {
		var err error
		if path, err = definition.CleanPath(request.Params.Path); err != nil || path == "" {
			return nil, badRequest("give a digest, or a path from a place's root")
		}
	}
	list, err := s.Store.Trace(ctx, request.Params.Digest, []byte(path))
	if err != nil {
		return nil, err
	}
	shown := api.TraceFile200JSONResponse{Items: []api.TracedRun{}}
	for _, r := range list {
		shown.Items = append(shown.Items, api.TracedRun{Input: r.Input, Place: r.Place, Path: filename.Show(string(r.Path)), Digest: r.Digest, First: r.First, Last: r.Last})
	}
	return shown, nil
}
