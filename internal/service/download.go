package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/deliver"
	"jorvex/internal/records"
	"jorvex/internal/refresh"
)

// GetTableContent implements the contract.
func (s *server) GetTableContent(ctx context.Context, request api.GetTableContentRequestObject) (api.GetTableContentResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	t, err := s.Runner.Table(ctx, in)
	if errors.Is(err, records.ErrNotFound) {
		return nil, noDelivery(in.Name)
	}
	if err != nil {
		return nil, err
	}
	if where := request.Params.Where; where != "" {
		if err := t.Where(where); err != nil {
			return nil, badRequest("%s", err)
		}
	}
	d := &download{s: s, ctx: ctx, table: t, format: definition.Format(cmp.Or(request.Params.As, string(definition.Delimited)))}
	d.tag = `"` + t.Version(d.format, request.Params.Where) + `"`
	d.name = in.Name + deliver.MediaTypes[d.format][1]
	d.there = strings.Contains(request.Params.IfNoneMatch, d.tag)
	return d, nil
}

// download streams a table.
type download struct {
	s         *server
	ctx       context.Context
	table     *refresh.Table
	format    definition.Format
	tag, name string
	there     bool // the client has it
}

// VisitGetTableContentResponse implements the contract.
func (d *download) VisitGetTableContentResponse(w http.ResponseWriter) error {
	w.Header().Set("ETag", d.tag)
	w.Header().Set("Cache-Control", "private, no-cache")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", d.name))
	if d.there {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	w.Header().Set("Content-Type", deliver.MediaTypes[d.format][0])
	out := &begun{ResponseWriter: w}
	err := d.table.Write(d.ctx, out, d.format)
	if err == nil || !out.is {
		w.Header().Del("Content-Disposition")
		return err
	}
	// The status is sent; only a broken connection tells that the rows are not all.
	d.s.Log.Error("a download broke off", "name", d.name, "error", err)
	panic(http.ErrAbortHandler)
}

// begun notes whether something was written.
type begun struct {
	http.ResponseWriter
	is bool
}

func (b *begun) Write(p []byte) (int, error) {
	b.is = true
	return b.ResponseWriter.Write(p)
}
