package service

import (
	"context"
	"errors"

	"jorvex/internal/api"
	"jorvex/internal/core/receipt"
	"jorvex/internal/records"
	"jorvex/internal/refresh"
)

// ReplayReceipt implements the contract.
func (s *server) ReplayReceipt(ctx context.Context, request api.ReplayReceiptRequestObject) (api.ReplayReceiptResponseObject, error) {
	stored, _, err := s.receipt(ctx, request.Receipt)
	if err != nil {
		return nil, err
	}
	again, err := s.Runner.Replay(ctx, stored)
	if err != nil {
		return nil, err
	}
	shown := api.ReplayReceipt200JSONResponse{Receipt: again.Receipt, Same: again.Same(), Program: again.Program, Rows: again.Rows, RowsHad: again.Had,
		Deliveries: []api.ReplayedDelivery{}, Missing: append([]string{}, again.Missing...)}
	for _, d := range again.Deliveries {
		shown.Deliveries = append(shown.Deliveries, api.ReplayedDelivery{Kind: d.Kind, Name: d.Name, Digest: d.Digest, DigestHad: d.Had})
	}
	return shown, nil
}

// VerifyReceipts implements the contract.
func (s *server) VerifyReceipts(ctx context.Context, request api.VerifyReceiptsRequestObject) (api.VerifyReceiptsResponseObject, error) {
	chain, err := s.Store.Verify(ctx)
	shown := api.VerifyReceipts200JSONResponse{Checked: chain.Checked, Holds: err == nil, Head: chain.Head()}
	var link *receipt.BrokenLink
	if errors.As(err, &link) {
		shown.FirstBroken, shown.Why = link.Number, link.Why
		return shown, nil
	}
	if err != nil {
		return nil, err
	}
	shown.Handovers, err = s.Store.VerifyHandovers(ctx)
	var altered *receipt.AlteredHandover
	if errors.As(err, &altered) {
		shown.Holds, shown.Why = false, altered.Error()
		return shown, nil
	}
	if err == nil && request.Params.Deep {
		var kept refresh.Kept
		kept, err = s.Runner.VerifyVault(ctx)
		shown.Objects, shown.Freed = kept.Objects, kept.Freed
		for _, t := range kept.Troubles {
			shown.Holds = false
			shown.Troubles = append(shown.Troubles, api.VaultTrouble{Digest: t.Digest, What: t.What, Why: t.Why, Receipts: t.Receipts, First: t.First, Last: t.Last})
		}
	}
	if err == nil && request.Params.Deliveries {
		var list []refresh.CheckedDelivery
		list, err = s.Runner.VerifyDeliveries(ctx)
		for _, d := range list {
			shown.Holds = shown.Holds && d.Why == ""
			shown.Deliveries = append(shown.Deliveries, api.CheckedDelivery{Kind: d.Kind, Name: d.Name, Receipt: d.Receipt, Why: d.Why})
		}
	}
	return shown, err
}

// GetRetention implements the contract.
func (s *server) GetRetention(ctx context.Context, request api.GetRetentionRequestObject) (api.GetRetentionResponseObject, error) {
	keep, err := s.Store.Retention(ctx)
	if err != nil {
		return nil, err
	}
	about := records.Retention{Days: request.Params.Days, Count: request.Params.Count}
	if about.None() {
		about = keep
	}
	freed, err := s.Runner.Retain(ctx, about, false)
	return api.GetRetention200JSONResponse(shownRetention(keep, freed)), err
}

// SetRetention implements the contract.
func (s *server) SetRetention(ctx context.Context, request api.SetRetentionRequestObject) (api.SetRetentionResponseObject, error) {
	keep := records.Retention{Days: request.Body.Days, Count: request.Body.Count}
	if err := s.Store.SetRetention(ctx, keep); err != nil {
		return nil, err
	}
	freed, err := s.Runner.Retain(ctx, keep, true)
	return api.SetRetention200JSONResponse(shownRetention(keep, freed)), err
}

func shownRetention(keep records.Retention, f refresh.Freed) api.Retention {
	shown := api.Retention{Days: keep.Days, Count: keep.Count, Objects: f.Objects, Bytes: f.Bytes, Lost: []api.Unreplayable{}}
	for _, l := range f.Lost {
		shown.Lost = append(shown.Lost, api.Unreplayable{Input: l.Input, Receipts: l.Receipts, Last: l.Last})
	}
	return shown
}
