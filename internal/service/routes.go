package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/receipt"
	"jorvex/internal/core/totals"
	"jorvex/internal/deliver"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// local is who asks, as long as there is one token.
const local = "local"

// GetHealth implements the contract.
func (s *server) GetHealth(context.Context, api.GetHealthRequestObject) (api.GetHealthResponseObject, error) {
	return api.GetHealth200JSONResponse{Status: api.Ok, Version: s.Version}, nil
}

// CreateSignInLink implements the contract.
func (s *server) CreateSignInLink(ctx context.Context, _ api.CreateSignInLinkRequestObject) (api.CreateSignInLinkResponseObject, error) {
	return api.CreateSignInLink201JSONResponse{Link: s.newLink()}, nil
}

func (s *server) place(ctx context.Context, name string) (records.Place, error) {
	p, err := s.Store.Place(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return p, notFound("place", name, "list the places with: jorvex place list")
	}
	return p, err
}

func (s *server) placeWithLook(ctx context.Context, p records.Place) (api.Place, error) {
	shown := shownPlace(p)
	standing, err := s.Watcher.Standing(ctx, p.Name)
	if err != nil {
		return shown, err
	}
	shown.Events, shown.Arriving, shown.Missing = standing.Events, standing.Arriving, standing.Missing
	shown.EverySeconds, shown.SettleSeconds = standing.Every.Seconds(), standing.Settle.Seconds()
	look, err := s.Store.LastLook(ctx, p.ID)
	if errors.Is(err, records.ErrNotFound) {
		return shown, nil
	}
	shown.LastLook = shownLook(p.Name, look)
	return shown, err
}

// ListPlaces implements the contract.
func (s *server) ListPlaces(ctx context.Context, _ api.ListPlacesRequestObject) (api.ListPlacesResponseObject, error) {
	list, err := s.Store.Places(ctx)
	if err != nil {
		return nil, err
	}
	page := api.ListPlaces200JSONResponse{Items: []api.Place{}}
	for _, p := range list {
		shown, err := s.placeWithLook(ctx, p)
		if err != nil {
			return nil, err
		}
		page.Items = append(page.Items, shown)
	}
	return page, nil
}

// CreatePlace implements the contract.
func (s *server) CreatePlace(ctx context.Context, request api.CreatePlaceRequestObject) (api.CreatePlaceResponseObject, error) {
	name := request.Body.Name
	if !definition.ValidName(name) {
		return nil, newProblem(http.StatusUnprocessableEntity, "bad-name", "The name cannot be used", "", "%q cannot name a place; use small letters, digits and single dashes", name)
	}
	if _, err := s.Allowed.Local(request.Body.Directory); err != nil {
		return nil, err
	}
	p := records.Place{Name: name, Kind: "local", Directory: request.Body.Directory}
	if err := setPace(&p, request.Body.EverySeconds, request.Body.SettleSeconds); err != nil {
		return nil, err
	}
	p, err := s.Store.CreatePlace(ctx, p)
	if errors.Is(err, records.ErrExists) {
		return nil, newProblem(http.StatusConflict, "exists", "The name is taken", "choose another name", "there is a place %q already", name)
	}
	if err != nil {
		return nil, err
	}
	if _, err := s.Watcher.Look(ctx, p); err != nil {
		return nil, err
	}
	if p, err = s.Store.Place(ctx, name); err != nil {
		return nil, err
	}
	shown, err := s.placeWithLook(ctx, p)
	return api.CreatePlace201JSONResponse(shown), err
}

// setPace takes a place's pace from seconds.
func setPace(p *records.Place, every, settle float64) error {
	const least = 0.1
	for name, seconds := range map[string]float64{"every_seconds": every, "settle_seconds": settle} {
		if seconds > 0 && seconds < least {
			return newProblem(http.StatusUnprocessableEntity, "bad-pace", "The pace cannot be used", "", "%s is %g; it is %g or more, or 0 for what the service was started with", name, seconds, least)
		}
	}
	p.EveryMS, p.SettleMS = int64(every*1000), int64(settle*1000)
	return nil
}

// PacePlace implements the contract.
func (s *server) PacePlace(ctx context.Context, request api.PacePlaceRequestObject) (api.PacePlaceResponseObject, error) {
	p, err := s.place(ctx, request.Place)
	if err != nil {
		return nil, err
	}
	if err := setPace(&p, request.Body.EverySeconds, request.Body.SettleSeconds); err != nil {
		return nil, err
	}
	if p, err = s.Store.PacePlace(ctx, p.ID, p.EveryMS, p.SettleMS); err != nil {
		return nil, err
	}
	if err := s.Watcher.Pace(ctx, p); err != nil {
		return nil, err
	}
	shown, err := s.placeWithLook(ctx, p)
	return api.PacePlace200JSONResponse(shown), err
}

// MarkWritable implements the contract.
func (s *server) MarkWritable(ctx context.Context, request api.MarkWritableRequestObject) (api.MarkWritableResponseObject, error) {
	p, err := s.place(ctx, request.Place)
	if err != nil {
		return nil, err
	}
	if p, err = s.Store.OpenPlace(ctx, p.ID, request.Body.Writable); err != nil {
		return nil, err
	}
	shown, err := s.placeWithLook(ctx, p)
	return api.MarkWritable200JSONResponse(shown), err
}

// ForgetMount implements the contract.
func (s *server) ForgetMount(ctx context.Context, request api.ForgetMountRequestObject) (api.ForgetMountResponseObject, error) {
	p, err := s.place(ctx, request.Place)
	if err != nil {
		return nil, err
	}
	return api.ForgetMount204Response{}, s.Watcher.Unmounted(ctx, p)
}

// GetPlace implements the contract.
func (s *server) GetPlace(ctx context.Context, request api.GetPlaceRequestObject) (api.GetPlaceResponseObject, error) {
	p, err := s.place(ctx, request.Place)
	if err != nil {
		return nil, err
	}
	shown, err := s.placeWithLook(ctx, p)
	return api.GetPlace200JSONResponse(shown), err
}

// CreateLook implements the contract.
func (s *server) CreateLook(ctx context.Context, request api.CreateLookRequestObject) (api.CreateLookResponseObject, error) {
	p, err := s.place(ctx, request.Place)
	if err != nil {
		return nil, err
	}
	look, err := s.Watcher.Look(ctx, p)
	return api.CreateLook201JSONResponse(shownLook(p.Name, look)), err
}

func (s *server) input(ctx context.Context, name string) (records.Input, error) {
	in, err := s.Store.Input(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return in, notFound("input", name, "list the inputs with: jorvex input list")
	}
	return in, err
}

// inputs adds to inputs what other tables know of them.
func (s *server) inputs(ctx context.Context, list []records.Input) ([]api.Input, error) {
	ids := make([]int64, len(list))
	for i, in := range list {
		ids[i] = in.ID
	}
	last, err := s.Store.LastRefreshes(ctx, ids)
	if err != nil {
		return nil, err
	}
	next, err := s.Store.NextRuns(ctx, ids)
	if err != nil {
		return nil, err
	}
	receipts, err := s.Store.LastReceiptNumbers(ctx, ids)
	if err != nil {
		return nil, err
	}
	shown := make([]api.Input, 0, len(list))
	for _, in := range list {
		def, err := definition.Parse(in.Text, s.Clock())
		if err != nil {
			s.Log.Warn("a recorded definition is not valid", "input", in.Name, "error", err)
		}
		one := shownInput(in, def)
		if r, ok := last[in.ID]; ok {
			one.LastRefresh = shownRefresh(r)
		}
		one.LastReceipt = receipts[in.ID]
		one.NextRefresh = next[in.ID].UTC()
		if next[in.ID].IsZero() {
			one.NextRefresh = time.Time{}
		}
		shown = append(shown, one)
	}
	return shown, nil
}

// ListInputs implements the contract.
func (s *server) ListInputs(ctx context.Context, request api.ListInputsRequestObject) (api.ListInputsResponseObject, error) {
	var after string
	if err := readCursor(or(request.Params.Cursor), &after); err != nil {
		return nil, err
	}
	n := limit(or(request.Params.Limit))
	list, err := s.Store.Inputs(ctx, after, n+1)
	if err != nil {
		return nil, err
	}
	var page api.ListInputs200JSONResponse
	if len(list) > n {
		list = list[:n]
		page.Next = cursor(list[n-1].Name)
	}
	page.Items, err = s.inputs(ctx, list)
	return page, err
}

// prepare checks a definition that is to be saved.
func (s *server) prepare(ctx context.Context, text string) (records.NewDefinition, error) {
	def, err := definition.Parse(text, s.Clock())
	if err != nil {
		return records.NewDefinition{}, err
	}
	p, err := s.Store.Place(ctx, def.Place)
	if errors.Is(err, records.ErrNotFound) {
		return records.NewDefinition{}, newProblem(http.StatusUnprocessableEntity, "no-such-place", "The place is not known",
			"add it with: jorvex place add NAME DIRECTORY", "the definition names the place %q, which there is not", def.Place)
	}
	d := records.NewDefinition{Name: def.Input, Text: text, Digest: definition.Digest(text), Layout: def.LayoutDigest(), PlaceID: p.ID, At: s.Clock(), By: local}
	for _, delivery := range def.Delivery {
		d.Deliveries = append(d.Deliveries, records.Delivery{Kind: delivery.Kind(), Name: delivery.Template})
		if delivery.Table != "" {
			if err := deliver.NewTable(delivery, 0, 0, deliver.Before{}).Check(ctx, s.Store.Pool); err != nil {
				return d, newProblem(http.StatusConflict, "table-not-ours", "The table is somebody else's", "give the delivery another name", "%s", err)
			}
		}
	}
	d.Runs = s.runs(def.Refresh)
	return d, err
}

// runs is when refreshes are made without a person asking.
func (s *server) runs(when definition.Refresh) records.Runs {
	runs := records.Runs{Arrivals: when.Arrivals, Complete: when.Complete}
	if when.Schedule != nil {
		if next := when.Schedule.Next(s.Clock()); !next.IsZero() {
			runs.NextDue = &next
		}
	}
	return runs
}

// judged returns an input after its definition was saved and its files judged.
func (s *server) judged(ctx context.Context, name string) (api.Input, string, error) {
	in, err := s.Store.Input(ctx, name)
	if err != nil {
		return api.Input{}, "", err
	}
	if err := s.Watcher.Judge(ctx, in); err != nil {
		return api.Input{}, "", err
	}
	if in, err = s.Store.Input(ctx, name); err != nil {
		return api.Input{}, "", err
	}
	shown, err := s.inputs(ctx, []records.Input{in})
	if err != nil {
		return api.Input{}, "", err
	}
	return shown[0], etag(in), nil
}

func etag(in records.Input) string { return strconv.Quote(fmt.Sprintf("%d-%d", in.ID, in.Version)) }

// create adds a definition as a new input.
func (s *server) create(ctx context.Context, text string) (api.Input, string, error) {
	d, err := s.prepare(ctx, text)
	if err != nil {
		return api.Input{}, "", err
	}
	if _, err := s.Store.CreateInput(ctx, d); errors.Is(err, records.ErrExists) {
		return api.Input{}, "", newProblem(http.StatusConflict, "exists", "The name is taken", "save it over the input there is with: jorvex input save", "there is an input %q already", d.Name)
	} else if err != nil {
		return api.Input{}, "", err
	}
	return s.judged(ctx, d.Name)
}

// CreateInput implements the contract.
func (s *server) CreateInput(ctx context.Context, request api.CreateInputRequestObject) (api.CreateInputResponseObject, error) {
	shown, tag, err := s.create(ctx, request.Body.Definition)
	return api.CreateInput201JSONResponse{Body: shown, Headers: api.CreateInput201ResponseHeaders{ETag: tag}}, err
}

// GetInput implements the contract.
func (s *server) GetInput(ctx context.Context, request api.GetInputRequestObject) (api.GetInputResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	shown, err := s.inputs(ctx, []records.Input{in})
	if err != nil {
		return nil, err
	}
	return api.GetInput200JSONResponse{Body: shown[0], Headers: api.GetInput200ResponseHeaders{ETag: etag(in)}}, nil
}

// SaveInput implements the contract.
func (s *server) SaveInput(ctx context.Context, request api.SaveInputRequestObject) (api.SaveInputResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	conflict := newProblem(http.StatusPreconditionFailed, "edited-meanwhile", "Somebody else saved a version", "read the newest version and make the change there",
		"%s is at version %d, saved by %s at %s; nothing was overwritten", in.Name, in.Version, in.SavedBy, in.SavedAt.UTC().Format("2006-01-02 15:04:05Z"))
	if request.Params.IfMatch != etag(in) {
		return nil, conflict
	}
	d, err := s.prepare(ctx, request.Body.Definition)
	if err != nil {
		return nil, err
	}
	if d.Name != in.Name && !or(request.Params.Rename) {
		return nil, newProblem(http.StatusUnprocessableEntity, "other-input", "The definition is of another input", "keep the name, rename the input, or add it as a new one", "the definition names the input %q, not %q", d.Name, in.Name)
	}
	if d.Text == in.Text {
		shown, tag, err := s.judged(ctx, in.Name)
		return api.SaveInput200JSONResponse{Body: shown, Headers: api.SaveInput200ResponseHeaders{ETag: tag}}, err
	}
	switch err := s.Store.SaveInput(ctx, in.ID, in.Version, d); {
	case errors.Is(err, records.ErrConflict):
		return nil, conflict
	case errors.Is(err, records.ErrExists):
		return nil, newProblem(http.StatusConflict, "exists", "The name is taken", "choose another name", "there is an input %q already", d.Name)
	case err != nil:
		return nil, err
	}
	shown, tag, err := s.judged(ctx, d.Name)
	shown.LeftBehind = leftBehind(in.Text, shown.Deliveries, s.Clock())
	return api.SaveInput200JSONResponse{Body: shown, Headers: api.SaveInput200ResponseHeaders{ETag: tag}}, err
}

// leftBehind lists what a version of a definition delivered and the next does not.
func leftBehind(before string, now []string, at time.Time) (list []string) {
	def, err := definition.Parse(before, at)
	if err != nil {
		return nil
	}
	for _, d := range def.Delivery {
		if name := d.Kind() + " " + d.Name(); !slices.Contains(now, name) {
			list = append(list, name)
		}
	}
	return list
}

// ListFiles implements the contract.
func (s *server) ListFiles(ctx context.Context, request api.ListFilesRequestObject) (api.ListFilesResponseObject, error) {
	p := request.Params
	page, err := s.files(ctx, request.Input, or(p.Cursor), limit(or(p.Limit)), or(p.Q),
		records.FilesQuery{Verdict: string(or(p.Verdict)), State: string(or(p.State)), Reason: or(p.Reason), Near: or(p.Near), Held: or(p.Held)})
	return api.ListFiles200JSONResponse(page), err
}

// ListChanges implements the contract.
func (s *server) ListChanges(ctx context.Context, request api.ListChangesRequestObject) (api.ListChangesResponseObject, error) {
	page, err := s.files(ctx, request.Input, or(request.Params.Cursor), limit(or(request.Params.Limit)), "", records.FilesQuery{Changed: true})
	return api.ListChanges200JSONResponse(page), err
}

// files returns a page of a roster. A text is sought here and not in the
// database, which knows paths as bytes alone.
func (s *server) files(ctx context.Context, input, from string, n int, text string, q records.FilesQuery) (api.FilePage, error) {
	page := api.FilePage{Items: []api.File{}}
	in, err := s.input(ctx, input)
	if err != nil {
		return page, err
	}
	def, err := definition.Parse(in.Text, s.Clock())
	if err != nil {
		return page, err
	}
	q.After = []byte{}
	if err := readCursor(from, &q.After); err != nil {
		return page, err
	}
	text = strings.ToLower(text)
	q.Input, q.Folder, q.Limit = in, def.Folder, n+1
	if text != "" {
		q.Limit = 2000
	}
	for {
		list, err := s.Store.ListFiles(ctx, q)
		if err != nil {
			return page, err
		}
		s.judgeRuleless(def, list)
		for _, l := range list {
			q.After = l.SortKey
			if _, below := filename.Below(def.Folder, string(l.Path)); !below {
				continue
			}
			shown := shownFile(l)
			if text != "" && !strings.Contains(strings.ToLower(shown.Path), text) {
				continue
			}
			if len(page.Items) == n {
				page.Next = cursor(filename.SortKey(rawPath(page.Items[n-1].Path)))
				return page, nil
			}
			page.Items = append(page.Items, shown)
		}
		if len(list) < q.Limit {
			return page, nil
		}
	}
}

// rawPath turns a path that was shown back into bytes.
func rawPath(shown string) string {
	raw, err := filename.Parse(shown)
	if err != nil {
		return shown
	}
	return raw
}

// asked is what a request asks for.
func asked(body *api.RefreshRequest) (r records.Request) {
	if body == nil {
		return r
	}
	r.Set, r.Only, r.Rehearse = body.Set, body.Only, body.Rehearse
	if !body.AsOf.IsZero() {
		r.AsOf = &body.AsOf
	}
	return r
}

// CreateRefresh implements the contract.
func (s *server) CreateRefresh(ctx context.Context, request api.CreateRefreshRequestObject) (api.CreateRefreshResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	asked := asked(request.Body)
	if _, err := definition.ParseWith(in.Text, s.Clock(), asked.Set); err != nil {
		return nil, err
	}
	r, err := s.Runner.Ask(ctx, records.Subject{Input: in.ID, Inputs: []int64{in.ID}}, asked, local)
	return api.CreateRefresh202JSONResponse(shownRefresh(r)), err
}

// ListRefreshes implements the contract.
func (s *server) ListRefreshes(ctx context.Context, request api.ListRefreshesRequestObject) (api.ListRefreshesResponseObject, error) {
	var before int64
	if err := readCursor(or(request.Params.Cursor), &before); err != nil {
		return nil, err
	}
	var input *int64
	if name := or(request.Params.Input); name != "" {
		in, err := s.input(ctx, name)
		if err != nil {
			return nil, err
		}
		input = &in.ID
	}
	n := limit(or(request.Params.Limit))
	list, err := s.Store.Refreshes(ctx, input, before, n+1)
	if err != nil {
		return nil, err
	}
	page := api.ListRefreshes200JSONResponse{Items: []api.Refresh{}}
	if len(list) > n {
		list = list[:n]
		page.Next = cursor(list[n-1].ID)
	}
	for _, r := range list {
		page.Items = append(page.Items, shownRefresh(r))
	}
	return page, nil
}

// GetRefresh implements the contract.
func (s *server) GetRefresh(ctx context.Context, request api.GetRefreshRequestObject) (api.GetRefreshResponseObject, error) {
	r, err := s.Store.Refresh(ctx, request.Refresh)
	if errors.Is(err, records.ErrNotFound) {
		return nil, notFound("refresh", fmt.Sprint(request.Refresh), "list them with: jorvex refreshes")
	}
	if r.Ended != nil {
		s.Runner.Settled(ctx, r.ID)
	}
	if err != nil {
		return nil, err
	}
	shown := shownRefresh(r)
	if len(r.Rehearsal) > 0 {
		h, err := receipt.ParseHeader(r.Rehearsal)
		if err != nil {
			return nil, err
		}
		if shown.Rehearsal, err = s.shownAgainst(ctx, receipt.Stored{Header: r.Rehearsal}, h); err != nil {
			return nil, err
		}
	}
	return api.GetRefresh200JSONResponse(shown), nil
}

// CancelRefresh implements the contract.
func (s *server) CancelRefresh(ctx context.Context, request api.CancelRefreshRequestObject) (api.CancelRefreshResponseObject, error) {
	r, err := s.Runner.Cancel(ctx, request.Refresh, local)
	switch {
	case errors.Is(err, records.ErrNotFound):
		return nil, notFound("refresh", fmt.Sprint(request.Refresh), "list them with: jorvex refreshes")
	case errors.Is(err, records.ErrConflict):
		return nil, newProblem(http.StatusConflict, "not-running", "The refresh does not run", "list the refreshes with: jorvex refreshes", "refresh %d neither waits nor runs", request.Refresh)
	}
	return api.CancelRefresh200JSONResponse(shownRefresh(r)), err
}

// AnswerRefresh implements the contract.
func (s *server) AnswerRefresh(ctx context.Context, request api.AnswerRefreshRequestObject) (api.AnswerRefreshResponseObject, error) {
	r, err := s.Runner.Answer(ctx, request.Refresh, request.Body.GoOn, local)
	if errors.Is(err, records.ErrConflict) {
		return nil, newProblem(http.StatusConflict, "not-asking", "The refresh does not ask", "list the refreshes with: jorvex refreshes", "refresh %d does not wait for an answer", request.Refresh)
	}
	return api.AnswerRefresh200JSONResponse(shownRefresh(r)), err
}

func (s *server) receipt(ctx context.Context, number int64) (receipt.Stored, receipt.Header, error) {
	stored, err := s.Store.Receipt(ctx, number)
	if errors.Is(err, records.ErrNotFound) {
		return stored, receipt.Header{}, notFound("receipt", fmt.Sprint(number), "list the refreshes and their receipts with: jorvex refreshes")
	}
	if err != nil {
		return stored, receipt.Header{}, err
	}
	h, err := receipt.ParseHeader(stored.Header)
	return stored, h, err
}

// GetReceipt implements the contract.
func (s *server) GetReceipt(ctx context.Context, request api.GetReceiptRequestObject) (api.GetReceiptResponseObject, error) {
	stored, h, err := s.receipt(ctx, request.Receipt)
	if err != nil {
		return nil, err
	}
	shown, err := s.shownAgainst(ctx, stored, h)
	if err != nil {
		return nil, err
	}
	handed, err := s.Store.Handovers(ctx, stored.Number)
	for _, h := range handed {
		shown.HandedOver = append(shown.HandedOver, api.HandedOver{Path: filename.Show(string(h.Path)), Action: h.Action, State: h.State,
			Target: filename.Show(string(h.Target)), Problem: h.Problem, Ended: at(h.Ended)})
	}
	return api.GetReceipt200JSONResponse(shown), err
}

// shownAgainst shows a receipt, or that of a rehearsal, against the one before.
func (s *server) shownAgainst(ctx context.Context, stored receipt.Stored, h receipt.Header) (api.Receipt, error) {
	shown := shownReceipt(stored, h)
	for i, d := range shown.Deliveries {
		switch shown.Deliveries[i].Where = d.Name; d.Kind {
		case api.DeliveryKindTable:
			shown.Deliveries[i].Where = deliver.Schema + "." + d.Name
		case api.DeliveryKindFile, api.DeliveryKindFolder:
			shown.Deliveries[i].Where = s.Folder.Path(d.Name)
		}
	}
	_, last, err := s.before(ctx, h)
	if err != nil || last.Number == 0 {
		return shown, err
	}
	shown.Before, shown.RowsMoved = last.Number, h.Rows-last.Rows
	for i, t := range shown.Totals {
		for _, old := range last.Totals {
			if old.Column == t.Column {
				shown.Totals[i].Moved, _ = totals.Difference(old.Sum, t.Sum)
			}
		}
	}
	return shown, nil
}

// ListReceiptFiles implements the contract.
func (s *server) ListReceiptFiles(ctx context.Context, request api.ListReceiptFilesRequestObject) (api.ListReceiptFilesResponseObject, error) {
	stored, _, err := s.receipt(ctx, request.Receipt)
	if err != nil {
		return nil, err
	}
	from := 0
	if err := readCursor(or(request.Params.Cursor), &from); err != nil {
		return nil, err
	}
	page := api.ListReceiptFiles200JSONResponse{Items: []api.ReceiptFile{}}
	n, i := limit(or(request.Params.Limit)), 0
	enough := errors.New("enough")
	err = watch.ReceiptFiles(s.Watcher, stored, 0, func(f receipt.File) error {
		if i++; i <= from {
			return nil
		}
		if len(page.Items) == n {
			page.Next = cursor(i - 1)
			return enough
		}
		page.Items = append(page.Items, shownReceiptFile(f))
		return nil
	})
	if errors.Is(err, enough) {
		err = nil
	}
	return page, err
}
