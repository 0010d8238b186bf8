package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/shaping"
	"jorvex/internal/records"
	"jorvex/internal/refresh"
	"jorvex/internal/vault"
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

// noDelivery says that an input has not delivered yet.
func noDelivery(input string) error {
	return notFound("table of", input, "refresh it with: jorvex refresh "+input)
}

// GetTable implements the contract.
func (s *server) GetTable(ctx context.Context, request api.GetTableRequestObject) (api.GetTableResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	t, err := s.tableOf(ctx, in, request.Params)
	if err != nil {
		return nil, err
	}
	var at refresh.TableAt
	if file := request.Params.File; file != "" {
		if at.File = t.Find(file); at.File < 0 {
			return nil, notFound("file in the table", file, "its receipt lists those that fed it: jorvex receipt "+strconv.FormatInt(t.Receipt.Number, 10)+" -files")
		}
	}
	if err := readCursor(request.Params.Cursor, &at); err != nil {
		return nil, err
	}
	if at.File < 0 || at.Row < 0 {
		return nil, badRequest("the cursor was not made by this service; start again without one")
	}
	if where := request.Params.Where; where != "" {
		if err := t.Where(where); err != nil {
			return nil, badRequest("%s", err)
		}
	}
	tag := `"` + t.Version(definition.Format(fmt.Sprint("page ", at, request.Params.Limit, t.Receipt.Number)), request.Params.Where) + `"`
	if strings.Contains(request.Params.IfNoneMatch, tag) {
		return api.GetTable304Response{}, nil
	}
	page := api.TablePage{Receipt: t.Receipt.Number, Columns: []api.TableColumn{}, Items: []api.TableRow{}, Files: t.Receipt.Files, Rows: t.Receipt.Rows}
	for _, c := range t.Definition.Columns {
		page.Columns = append(page.Columns, api.TableColumn{Name: c.Name, Type: string(c.Type)})
	}
	rows, next, err := t.Rows(ctx, at, limit(request.Params.Limit))
	for _, r := range rows {
		page.Items = append(page.Items, api.TableRow{File: r.File, Row: r.Row, Values: r.Values})
	}
	if next != nil {
		page.Next = cursor(next)
	}
	return api.GetTable200JSONResponse{Body: page, Headers: api.GetTable200ResponseHeaders{ETag: tag}}, err
}

// tableOf opens the rows that are asked for.
func (s *server) tableOf(ctx context.Context, in records.Input, params api.GetTableParams) (t *refresh.Table, err error) {
	var stored receipt.Stored
	switch {
	case params.Rehearsal > 0:
		if stored, _, err = s.rehearsal(ctx, params.Rehearsal); err == nil {
			t, err = s.Runner.TableOf(ctx, stored, in)
		}
	case params.Receipt > 0:
		if stored, _, err = s.receipt(ctx, params.Receipt); err == nil {
			t, err = s.Runner.TableOf(ctx, stored, in)
		}
	default:
		t, err = s.Runner.Table(ctx, in)
	}
	if errors.Is(err, records.ErrNotFound) {
		err = noDelivery(in.Name)
	}
	return t, err
}

// CompareFile implements the contract.
func (s *server) CompareFile(ctx context.Context, request api.CompareFileRequestObject) (api.CompareFileResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	path, _, err := s.locate(ctx, in, request.Params.Path)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	d, err := s.Runner.Compare(ctx, in, path, request.Params.Before, request.Params.After)
	switch {
	case errors.Is(err, refresh.ErrOneVersion):
		return nil, newProblem(http.StatusNotFound, "one-version", "There is nothing to compare with", "versions are those that fed a delivery, and the present one", "there is one version of %s alone", filename.Show(path))
	case errors.Is(err, vault.ErrMissing):
		return nil, notFound("version of "+filename.Show(path), request.Params.Before+request.Params.After, "its story lists the versions that fed a delivery")
	case err != nil:
		return nil, err
	}
	shown := api.CompareFile200JSONResponse{
		Before: api.FileVersion{Digest: d.Before.Digest, Broken: d.Before.Broken}, After: api.FileVersion{Digest: d.After.Digest, Broken: d.After.Broken},
		ColumnsAdded: append([]string{}, d.ColumnsAdded...), ColumnsGone: append([]string{}, d.ColumnsGone...), ColumnsRespelt: []api.Respelt{},
		RowsAdded: d.Added, RowsGone: d.Gone, RowsAltered: d.Altered, Columns: append([]string{}, d.Columns...), Items: []api.RowDifference{},
	}
	for _, r := range d.ColumnsRespelt {
		shown.ColumnsRespelt = append(shown.ColumnsRespelt, api.Respelt{Before: r[0], After: r[1]})
	}
	for _, r := range d.First {
		shown.Items = append(shown.Items, api.RowDifference{Before: r.Before, After: r.After})
	}
	return shown, nil
}
