package service

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/shaping"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// bench opens an input's bench, and finds the file that is asked for.
func (s *server) bench(ctx context.Context, input string, request api.BenchRequest) (*watch.Bench, records.Input, string, error) {
	in, err := s.input(ctx, input)
	if err != nil {
		return nil, in, "", err
	}
	b, err := s.Watcher.Bench(ctx, in, request.Definition)
	if err != nil {
		return nil, in, "", err
	}
	if request.Path == "" {
		path := b.First()
		if path == "" {
			err = notFound("file", "the first that is picked", "no file is picked; see: jorvex files "+in.Name)
		}
		return b, in, path, err
	}
	path, _, err := s.locate(ctx, in, request.Path)
	if errors.Is(err, records.ErrNotFound) {
		err = notFound("file", request.Path, "list the files with: jorvex files "+in.Name)
	}
	return b, in, path, err
}

func (s *server) rowPage(ctx context.Context, input string, request api.BenchRequest) (page api.RowPage, err error) {
	b, _, path, err := s.bench(ctx, input, request)
	if err != nil {
		return page, err
	}
	trace, err := b.Rows(ctx, path, cmp.Or(request.Limit, 50))
	if err != nil {
		return page, err
	}
	page = api.RowPage{Path: filename.Show(path), Columns: []string{}, Items: []api.Row{}, Bound: trace.Bound, RowsRead: trace.Read, RowsKept: trace.Kept, Findings: shownFindings(trace.Findings)}
	for _, c := range b.Definition().Columns {
		page.Columns = append(page.Columns, c.Name)
	}
	for _, r := range trace.Rows {
		page.Items = append(page.Items, api.Row{Row: r.Row, Cells: append([]string{}, r.Cells...), Became: api.RowBecame(r.Became), Values: append([]string{}, r.Values...), Lost: r.Lost})
	}
	return page, nil
}

// ListRows implements the contract.
func (s *server) ListRows(ctx context.Context, request api.ListRowsRequestObject) (api.ListRowsResponseObject, error) {
	page, err := s.rowPage(ctx, request.Input, api.BenchRequest{Path: request.Params.Path, Limit: request.Params.Limit})
	return api.ListRows200JSONResponse(page), err
}

// ReadBench implements the contract.
func (s *server) ReadBench(ctx context.Context, request api.ReadBenchRequestObject) (api.ReadBenchResponseObject, error) {
	page, err := s.rowPage(ctx, request.Input, *request.Body)
	return api.ReadBench200JSONResponse(page), err
}

// ProposeReading implements the contract.
func (s *server) ProposeReading(ctx context.Context, request api.ProposeReadingRequestObject) (api.ProposeReadingResponseObject, error) {
	b, in, path, err := s.bench(ctx, request.Input, *request.Body)
	if err != nil {
		return nil, err
	}
	text, unsure, err := b.Learn(ctx, cmp.Or(request.Body.Definition, in.Text), path)
	if err != nil {
		return nil, err
	}
	return api.ProposeReading200JSONResponse{Path: filename.Show(path), Definition: text, Unsure: append([]string{}, unsure...)}, nil
}

// MapColumns implements the contract.
func (s *server) MapColumns(ctx context.Context, request api.MapColumnsRequestObject) (api.MapColumnsResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	b, err := s.Watcher.Bench(ctx, in, request.Body.Definition)
	if err != nil {
		return nil, err
	}
	variants, read, picked, err := b.Variants(ctx)
	if err != nil {
		return nil, err
	}
	return api.MapColumns200JSONResponse(columnMap(b.Definition(), variants, read, picked)), nil
}

// columnMap lays headers down and files across.
func columnMap(def *definition.Definition, variants []watch.Variant, read, picked int) api.ColumnMap {
	m := api.ColumnMap{Rows: []api.ColumnMapRow{}, Variants: []api.ColumnMapVariant{}, FilesRead: read, FilesPicked: picked}
	for _, c := range def.Columns {
		if c.Source == definition.FromCell && c.Position == 0 {
			m.Rows = append(m.Rows, api.ColumnMapRow{Column: c.Name, Headers: c.Headers, Required: c.Required})
		}
	}
	fits := make([][]shaping.Header, len(variants))
	for i, v := range variants {
		if v.Headers == nil {
			continue
		}
		fits[i] = shaping.Fits(def, v.Headers)
		for _, h := range fits[i] {
			if h.Fit == shaping.Extra && !slices.ContainsFunc(m.Rows, func(r api.ColumnMapRow) bool {
				return r.Column == "" && definition.Plain(r.Headers[0]) == definition.Plain(h.Written)
			}) {
				m.Rows = append(m.Rows, api.ColumnMapRow{Headers: []string{h.Written}})
			}
		}
	}
	for i, v := range variants {
		shown := api.ColumnMapVariant{Files: len(v.Files), First: []string{}, Broken: v.Broken, Cells: []api.ColumnMapCell{}}
		for _, path := range v.Files[:min(len(v.Files), 10)] {
			shown.First = append(shown.First, filename.Show(path))
		}
		for _, row := range m.Rows {
			cell := api.ColumnMapCell{Fit: api.ColumnMapCellFit(shaping.Absent)}
			if fits[i] == nil {
				cell.Fit = api.ColumnMapCellFitUnknown
			}
			for _, h := range fits[i] {
				if row.Column != "" && h.Column == row.Column || row.Column == "" && h.Fit == shaping.Extra && definition.Plain(h.Written) == definition.Plain(row.Headers[0]) {
					cell = api.ColumnMapCell{Fit: api.ColumnMapCellFit(h.Fit), Written: h.Written}
				}
			}
			shown.Cells = append(shown.Cells, cell)
		}
		m.Variants = append(m.Variants, shown)
	}
	return m
}
