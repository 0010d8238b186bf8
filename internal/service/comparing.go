package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/totals"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// CompareReceipts implements the contract.
func (s *server) CompareReceipts(ctx context.Context, request api.CompareReceiptsRequestObject) (api.CompareReceiptsResponseObject, error) {
	later, after, err := s.receipt(ctx, request.Receipt)
	if err != nil {
		return nil, err
	}
	var earlier receipt.Stored
	var before receipt.Header
	if number := request.Params.With; number != 0 {
		if earlier, before, err = s.receipt(ctx, number); err != nil {
			return nil, err
		}
		if before.Number > after.Number {
			earlier, before, later, after = later, after, earlier, before
		}
		if before.Report() != after.Report() { // what they have in common is an input
			one := after.InputID + before.InputID
			a, inAfter := after.Of(one)
			b, inBefore := before.Of(one)
			if inAfter && inBefore {
				after, before = a, b
			}
		}
	} else {
		if earlier, before, err = s.before(ctx, after); err != nil {
			return nil, err
		}
		if before.Number == 0 {
			return nil, newProblem(http.StatusNotFound, "first-receipt", "There is nothing to compare with", "name another receipt to compare it with",
				"receipt %d is the first of %s with these parameters", after.Number, after.Input)
		}
	}
	shown, err := s.comparison(earlier, before, later, after, request.Params.Limit)
	return api.CompareReceipts200JSONResponse(shown), err
}

// before returns the receipt that one, or a rehearsal, is told against; its number
// is 0 if there is none.
func (s *server) before(ctx context.Context, h receipt.Header) (receipt.Stored, receipt.Header, error) {
	var stored receipt.Stored
	var err error
	if h.Report() {
		stored, err = s.Store.LastReportReceipt(ctx, h.Refresh, h.Number)
	} else {
		stored, err = s.Store.LastReceipt(ctx, h.InputID, parametersOf(h), h.Number)
	}
	if errors.Is(err, records.ErrNotFound) {
		return stored, receipt.Header{}, nil
	}
	if err != nil {
		return stored, receipt.Header{}, err
	}
	header, err := receipt.ParseHeader(stored.Header)
	if !h.Report() {
		header, _ = header.Of(h.InputID)
	}
	return stored, header, err
}

// rehearsal returns what a rehearsal came to.
func (s *server) rehearsal(ctx context.Context, id int64) (stored receipt.Stored, h receipt.Header, err error) {
	r, err := s.Store.Refresh(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return stored, h, notFound("refresh", fmt.Sprint(id), "list them with: jorvex refreshes")
	}
	if err != nil {
		return stored, h, err
	}
	if len(r.Rehearsal) == 0 {
		return stored, h, newProblem(http.StatusConflict, "no-rehearsal", "It is no rehearsal that came to its end", "rehearse first, with: jorvex rehearse "+r.Input,
			"refresh %d has not been rehearsed", id)
	}
	h, err = receipt.ParseHeader(r.Rehearsal)
	return receipt.Stored{Header: r.Rehearsal}, h, err
}

// CompareRehearsal implements the contract.
func (s *server) CompareRehearsal(ctx context.Context, request api.CompareRehearsalRequestObject) (api.CompareRehearsalResponseObject, error) {
	later, after, err := s.rehearsal(ctx, request.Refresh)
	if err != nil {
		return nil, err
	}
	earlier, before, err := s.before(ctx, after)
	if err != nil {
		return nil, err
	}
	shown, err := s.comparison(earlier, before, later, after, request.Params.Limit)
	return api.CompareRehearsal200JSONResponse(shown), err
}

// comparison compares two receipts. Against none, every file came in.
func (s *server) comparison(earlier receipt.Stored, before receipt.Header, later receipt.Stored, after receipt.Header, limit int) (api.ReceiptComparison, error) {
	var had []receipt.File
	var err error
	if before.Number > 0 {
		if had, err = s.receiptFiles(earlier, before); err != nil {
			return api.ReceiptComparison{}, err
		}
	}
	has, err := s.receiptFiles(later, after)
	if err != nil {
		return api.ReceiptComparison{}, err
	}
	c := receipt.Compare(before, after, had, has)
	shown := api.ReceiptComparison{
		Before: before.Number, After: after.Number, Input: after.Input, BeforeInput: before.Input, OtherDefinition: before.Number > 0 && before.Definition != after.Definition,
		RowsBefore: before.Rows, RowsAfter: after.Rows, Totals: shownMoves(c.Totals), Counts: map[string]int{"same": c.Same}, Items: []api.FileMove{},
	}
	now, err := s.figuresOf(after)
	if err != nil {
		return shown, err
	}
	then, err := s.figuresOf(before)
	if err != nil {
		return shown, err
	}
	for _, m := range totals.CompareWatched(then, now) {
		shown.Watched = append(shown.Watched, api.WatchedMove{Column: m.Column, Value: m.Value, RowsBefore: m.Before, RowsAfter: m.After})
	}
	for _, f := range c.Files {
		shown.Counts[string(f.Change)]++
		if len(shown.Items) == cmp.Or(limit, 200) {
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

// GetReceiptFigures implements the contract.
func (s *server) GetReceiptFigures(ctx context.Context, request api.GetReceiptFiguresRequestObject) (api.GetReceiptFiguresResponseObject, error) {
	_, h, err := s.receipt(ctx, request.Receipt)
	if err != nil {
		return nil, err
	}
	shown, err := s.figures(ctx, h)
	return api.GetReceiptFigures200JSONResponse(shown), err
}

// GetInputFigures implements the contract.
func (s *server) GetInputFigures(ctx context.Context, request api.GetInputFiguresRequestObject) (api.GetInputFiguresResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	numbers, err := s.Store.LastReceiptNumbers(ctx, []int64{in.ID})
	if err != nil {
		return nil, err
	}
	if numbers[in.ID] == 0 {
		return nil, noDelivery(in.Name)
	}
	_, h, err := s.receipt(ctx, numbers[in.ID])
	if err != nil {
		return nil, err
	}
	h, _ = h.Of(in.ID)
	shown, err := s.figures(ctx, h)
	return api.GetInputFigures200JSONResponse(shown), err
}

// GetRehearsalFigures implements the contract.
func (s *server) GetRehearsalFigures(ctx context.Context, request api.GetRehearsalFiguresRequestObject) (api.GetRehearsalFiguresResponseObject, error) {
	_, h, err := s.rehearsal(ctx, request.Refresh)
	if err != nil {
		return nil, err
	}
	shown, err := s.figures(ctx, h)
	return api.GetRehearsalFigures200JSONResponse(shown), err
}

// figures shows the watched values and summaries of a receipt against those of
// the one before.
func (s *server) figures(ctx context.Context, h receipt.Header) (api.Figures, error) {
	now, err := s.figuresOf(h)
	if err != nil {
		return api.Figures{}, err
	}
	_, before, err := s.before(ctx, h)
	if err != nil {
		return api.Figures{}, err
	}
	then, err := s.figuresOf(before)
	if err != nil {
		return api.Figures{}, err
	}
	return shownFigures(h, before, now, then), nil
}

// figuresOf reads the figures of a receipt from the vault. Those of a report are
// named by their inputs.
func (s *server) figuresOf(h receipt.Header) (all totals.Figures, err error) {
	for _, section := range h.Sections() {
		if section.FiguresDigest == "" {
			continue
		}
		var f totals.Figures
		object, err := s.Runner.Vault.Open(section.FiguresDigest)
		if err == nil {
			err = errors.Join(json.NewDecoder(object).Decode(&f), object.Close())
		}
		if err != nil {
			return all, fmt.Errorf("read the figures of receipt %d: %w", h.Number, err)
		}
		for _, w := range f.Watched {
			if h.Report() {
				w.Column = section.Input + "." + w.Column
			}
			all.Watched = append(all.Watched, w)
		}
		for _, t := range f.Summaries {
			if h.Report() {
				t.Name = section.Input + ": " + t.Name
			}
			all.Summaries = append(all.Summaries, t)
		}
	}
	return all, nil
}

func shownFigures(h, before receipt.Header, now, then totals.Figures) api.Figures {
	shown := api.Figures{Input: h.Input, Receipt: h.Number, Before: before.Number, Watched: []api.WatchedColumn{}, Summaries: []api.SummaryTable{}}
	moves := map[[2]string]totals.WatchedMove{}
	gone := map[string][]api.WatchedValue{}
	for _, m := range totals.CompareWatched(then, now) {
		if moves[[2]string{m.Column, m.Value}] = m; m.After == 0 {
			gone[m.Column] = append(gone[m.Column], api.WatchedValue{Value: m.Value, RowsBefore: m.Before})
		}
	}
	for _, w := range now.Watched {
		column := api.WatchedColumn{Column: w.Column, Values: []api.WatchedValue{}, Gone: gone[w.Column], Beyond: w.Beyond}
		if column.Gone == nil {
			column.Gone = []api.WatchedValue{}
		}
		for _, v := range w.Values {
			value := api.WatchedValue{Value: v.Value, Rows: v.Rows, RowsBefore: v.Rows}
			if m, moved := moves[[2]string{w.Column, v.Value}]; moved {
				if value.Change, value.RowsBefore = "moved", m.Before; m.Before == 0 {
					value.Change = "gained"
				}
			}
			column.Values = append(column.Values, value)
		}
		shown.Watched = append(shown.Watched, column)
	}
	for _, t := range now.Summaries {
		table := api.SummaryTable{Name: t.Name, Rows: t.Rows, Columns: t.Columns, Measures: []string{}, Lines: []api.SummaryLine{}, Beyond: t.Beyond}
		if table.Columns == nil {
			table.Columns = []string{}
		}
		for _, m := range t.Measures {
			table.Measures = append(table.Measures, m.String())
		}
		old := then.Lines(t.Summary)
		for _, l := range t.Lines {
			table.Lines = append(table.Lines, api.SummaryLine{Rows: l.Rows, Columns: l.Columns, Values: l.Values, Before: old[l.Key()]})
		}
		shown.Summaries = append(shown.Summaries, table)
	}
	return shown
}

// receiptFiles lists the files of a receipt. Those of a report's are told apart by
// their inputs.
func (s *server) receiptFiles(stored receipt.Stored, h receipt.Header) (list []receipt.File, err error) {
	for _, section := range h.Sections() {
		err = watch.ReceiptFiles(s.Watcher, stored, section.InputID, func(f receipt.File) error {
			if h.Report() {
				f.Place = section.Input + " " + f.Place
				for i := range f.Totals {
					f.Totals[i].Column = section.Input + "." + f.Totals[i].Column
				}
			}
			list = append(list, f)
			return nil
		})
		if err != nil {
			return nil, fmt.Errorf("read the files of receipt %d: %w", stored.Number, err)
		}
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
