package service

import (
	"context"
	"errors"
	"net/http"

	"jorvex/internal/api"
	"jorvex/internal/core/calendar"
	"jorvex/internal/core/condition"
	"jorvex/internal/core/definition"
	"jorvex/internal/core/filename"
	"jorvex/internal/core/selection"
	"jorvex/internal/records"
	"jorvex/internal/watch"
)

// judgeRuleless fills in the verdict of files that the input has no row for:
// no pattern matches them, or the list does not name them.
func (s *server) judgeRuleless(def *definition.Definition, list []records.Listed) {
	var files []selection.File
	var at []int
	for i, l := range list {
		if l.Verdict == "" {
			files = append(files, selection.File{Path: string(l.Path), Size: l.Size, Modified: l.Modified})
			at = append(at, i)
		}
	}
	if len(files) == 0 {
		return
	}
	judge := selection.New(def, selection.Surroundings{AsOf: s.Clock()})
	result := judge.Judge(files)
	for k, i := range at {
		d := &result.Decisions[k]
		list[i].Verdict, list[i].Reason, list[i].Sentence = string(d.Verdict), string(d.Code), judge.Words(result, k)
	}
}

// locate turns a path that was shown, from the place's root or from the input's
// folder, into raw bytes from the root, with what is recorded of it.
func (s *server) locate(ctx context.Context, in records.Input, shown string) (string, records.Listed, error) {
	file, err := definition.CleanPath(shown)
	if err != nil {
		return "", records.Listed{}, badRequest("%s", err)
	}
	def, err := definition.Parse(in.Text, s.Clock())
	if err != nil {
		return "", records.Listed{}, err
	}
	listed, err := s.Store.ListedFile(ctx, in, file)
	if errors.Is(err, records.ErrNotFound) && def.Folder != "" {
		if _, below := filename.Below(def.Folder, file); !below {
			file = def.Folder + "/" + file
			listed, err = s.Store.ListedFile(ctx, in, file)
		}
	}
	return file, listed, err
}

func shownSteps(steps []selection.Step) []api.Step {
	shown := make([]api.Step, 0, len(steps))
	for _, step := range steps {
		shown = append(shown, api.Step{Rule: step.Rule, Line: step.Line, Says: step.Says, Decides: step.Decides})
	}
	return shown
}

// ExplainFile implements the contract.
func (s *server) ExplainFile(ctx context.Context, request api.ExplainFileRequestObject) (api.ExplainFileResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	path, listed, err := s.locate(ctx, in, request.Params.Path)
	seen := err == nil
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	e, err := s.Watcher.Explain(ctx, in, path)
	if err != nil {
		return nil, err
	}
	shown := api.ExplainFile200JSONResponse{
		Path: filename.Show(path), Seen: seen, Verdict: api.Verdict(e.Row.Verdict), Reason: e.Row.Reason, Sentence: e.Row.Sentence,
		Rule: e.Row.Rule, State: api.State(listed.State), Steps: shownSteps(e.Steps), Findings: shownFindings(listed.Findings),
	}
	if seen && listed.Reason == string(selection.Gone) {
		shown.Verdict, shown.Reason, shown.Sentence = api.Verdict(listed.Verdict), listed.Reason, listed.Sentence
		shown.Steps = []api.Step{{Rule: "the last look", Says: listed.Sentence, Decides: true}}
	}
	return shown, nil
}

// TryFile implements the contract.
func (s *server) TryFile(ctx context.Context, request api.TryFileRequestObject) (api.TryFileResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	path, _, err := s.locate(ctx, in, request.Params.Path)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	t, err := s.Watcher.TryFile(ctx, in, path, request.Body)
	if err != nil {
		return nil, err
	}
	shown := api.TryFile200JSONResponse{File: shownTried(t.Tried), Steps: shownSteps(t.Steps), Totals: []api.Total{}, Displaced: []api.File{}}
	shown.File.Findings = shownFindings(t.Shaped.Findings)
	if t.Row.Verdict == string(selection.Picked) {
		shown.Rows = t.Shaped.Kept
		def, err := definition.Parse(in.Text, s.Clock())
		if err != nil {
			return nil, err
		}
		sums := t.Shaped.Sums
		for _, c := range def.Columns {
			if c.Total && len(sums) > 0 {
				shown.Totals = append(shown.Totals, api.Total{Column: c.Name, Sum: sums[0].String()})
				sums = sums[1:]
			}
		}
	}
	for _, d := range t.Displaced {
		shown.Displaced = append(shown.Displaced, shownTried(d))
	}
	return shown, nil
}

func shownTrialFiles(b watch.Beyond) api.TrialFiles {
	shown := api.TrialFiles{Files: b.Files, Items: []api.File{}}
	for _, t := range b.First {
		shown.Items = append(shown.Items, shownTried(t))
	}
	return shown
}

func shownFields(fields []condition.Field) []api.Field {
	shown := []api.Field{}
	for _, f := range fields {
		shown = append(shown, api.Field{Name: f.Name, Kind: api.FieldKind(f.Kind.String())})
	}
	return shown
}

// TryDefinition implements the contract.
func (s *server) TryDefinition(ctx context.Context, request api.TryDefinitionRequestObject) (api.TryDefinitionResponseObject, error) {
	body := request.Body
	after := []byte{}
	if err := readCursor(body.Cursor, &after); err != nil {
		return nil, err
	}
	var saved *records.Input
	if body.Input != "" {
		in, err := s.input(ctx, body.Input)
		if err != nil {
			return nil, err
		}
		saved = &in
	}
	asked := records.Request{Set: body.Set}
	if !body.AsOf.IsZero() {
		asked.AsOf = &body.AsOf
	}
	t, err := s.Watcher.Try(ctx, body.Definition, asked, saved)
	if errors.Is(err, records.ErrNotFound) {
		return nil, newProblem(http.StatusUnprocessableEntity, "no-such-place", "The place is not known", "add it with: jorvex place add NAME DIRECTORY", "the definition names a place that there is not")
	}
	if err != nil {
		return nil, err
	}
	show := string(body.Show)
	if show == "all" {
		show = ""
	}
	files, more := t.Files(show, body.Q, after, limit(body.Limit))
	shown := api.TryDefinition200JSONResponse{
		Counts: shownCounts(t.Counts), Rules: shownRules(t.Counts.Rules), Cures: shownCures(t.Counts.Cures), Findings: shownFindings(t.Counts.Findings),
		Gained: shownTrialFiles(t.Gained), Lost: shownTrialFiles(t.Lost), Captures: shownFields(t.Definition.Captures), Files: api.FilePage{Items: []api.File{}},
	}
	for _, f := range files {
		shown.Files.Items = append(shown.Files.Items, shownTried(f))
	}
	if more {
		shown.Files.Next = cursor(filename.SortKey(files[len(files)-1].Path))
	}
	return shown, nil
}

// ListHolds implements the contract.
func (s *server) ListHolds(ctx context.Context, request api.ListHoldsRequestObject) (api.ListHoldsResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Holds(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	ended, err := s.Store.EndedHolds(ctx, in.ID, 50)
	shown := api.ListHolds200JSONResponse{Items: []api.Hold{}, Ended: []api.Hold{}}
	for _, h := range list {
		shown.Items = append(shown.Items, shownHold(h))
	}
	for _, h := range ended {
		shown.Ended = append(shown.Ended, shownHold(h))
	}
	return shown, err
}

// CreateHold implements the contract.
func (s *server) CreateHold(ctx context.Context, request api.CreateHoldRequestObject) (api.CreateHoldResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	path, _, err := s.locate(ctx, in, request.Body.Path)
	if errors.Is(err, records.ErrNotFound) {
		return nil, notFound("file", filename.Show(path), "list the files with: jorvex files "+in.Name)
	}
	if err != nil {
		return nil, err
	}
	def, err := definition.Parse(in.Text, s.Clock())
	if err != nil {
		return nil, err
	}
	if _, below := filename.Below(def.Folder, path); !below {
		return nil, newProblem(http.StatusUnprocessableEntity, "outside-folder", "The file is not the input's", "move the input's folder, or hold the file for another input",
			"%s does not lie below %s", filename.Show(path), filename.Show(def.Folder))
	}
	h := records.Hold{Path: []byte(path), In: request.Body.In, Note: request.Body.Note, By: local, At: s.Clock()}
	if until := request.Body.Until; !until.IsZero() {
		if !until.After(h.At) {
			return nil, newProblem(http.StatusUnprocessableEntity, "hold-over", "The hold would be over", "choose a later time", "%s is past", until.UTC().Format("2006-01-02 15:04Z"))
		}
		h.Until = &until
	}
	if request.Body.WhileSame {
		if h.Digest, err = s.Watcher.DigestOf(ctx, in, path); err != nil {
			return nil, newProblem(http.StatusUnprocessableEntity, "unreadable", "The file cannot be read", "hold it without binding the hold to its bytes", "%s: %s", filename.Show(path), err)
		}
	}
	made, err := s.Store.CreateHold(ctx, in.ID, h)
	if errors.Is(err, records.ErrExists) {
		return nil, newProblem(http.StatusConflict, "held-already", "The file is held already", "release it first, with: jorvex hold release "+in.Name+" FILE", "%s has a hold that binds", filename.Show(path))
	}
	if err != nil {
		return nil, err
	}
	return api.CreateHold201JSONResponse(shownHold(made)), s.Watcher.Judge(ctx, in)
}

// EndHold implements the contract.
func (s *server) EndHold(ctx context.Context, request api.EndHoldRequestObject) (api.EndHoldResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	if err := s.Store.EndHold(ctx, in.ID, request.Hold, s.Clock(), "released by "+local); errors.Is(err, records.ErrNotFound) {
		return nil, notFound("hold that binds", "", "list the holds with: jorvex hold list "+in.Name)
	} else if err != nil {
		return nil, err
	}
	return api.EndHold204Response{}, s.Watcher.Judge(ctx, in)
}

// ListVersions implements the contract.
func (s *server) ListVersions(ctx context.Context, request api.ListVersionsRequestObject) (api.ListVersionsResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	var before int64
	if err := readCursor(or(request.Params.Cursor), &before); err != nil {
		return nil, err
	}
	n := limit(or(request.Params.Limit))
	list, err := s.Store.Versions(ctx, in.ID, before, n+1)
	page := api.ListVersions200JSONResponse{Items: []api.Version{}}
	if len(list) > n {
		list = list[:n]
		page.Next = cursor(list[n-1].Version)
	}
	for _, v := range list {
		page.Items = append(page.Items, api.Version{Version: v.Version, Definition: v.Text, Digest: v.Digest, SavedAt: v.SavedAt.UTC(), SavedBy: v.SavedBy})
	}
	return page, err
}

// CompareVersions implements the contract.
func (s *server) CompareVersions(ctx context.Context, request api.CompareVersionsRequestObject) (api.CompareVersionsResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	shown := api.CompareVersions200JSONResponse{From: request.Params.From, To: or(request.Params.To), Lines: []api.DifferenceLine{}}
	if shown.To == 0 {
		shown.To = in.Version
	}
	var texts [2]string
	for i, version := range []int64{shown.From, shown.To} {
		v, err := s.Store.Version(ctx, in.ID, version)
		if errors.Is(err, records.ErrNotFound) {
			return nil, newProblem(http.StatusNotFound, "not-found", "Not found", "list the versions with: jorvex input versions "+in.Name, "%s has no version %d", in.Name, version)
		}
		if err != nil {
			return nil, err
		}
		texts[i] = v.Text
	}
	for _, d := range definition.Compare(texts[0], texts[1]) {
		shown.Lines = append(shown.Lines, api.DifferenceLine{Sign: api.DifferenceLineSign(d.Sign), Text: d.Text})
	}
	return shown, nil
}

// CopyInput implements the contract.
func (s *server) CopyInput(ctx context.Context, request api.CopyInputRequestObject) (api.CopyInputResponseObject, error) {
	in, err := s.input(ctx, request.Input)
	if err != nil {
		return nil, err
	}
	text, err := definition.Copy(in.Text, request.Body.Name)
	if err != nil {
		return nil, err
	}
	shown, tag, err := s.create(ctx, text)
	return api.CopyInput201JSONResponse{Body: shown, Headers: api.CopyInput201ResponseHeaders{ETag: tag}}, err
}

// GetVocabulary implements the contract.
func (s *server) GetVocabulary(context.Context, api.GetVocabularyRequestObject) (api.GetVocabularyResponseObject, error) {
	shown := api.GetVocabulary200JSONResponse{Fields: shownFields(condition.FileFields(nil)), Verbs: map[string][]string{}, Languages: calendar.Languages()}
	for _, k := range []condition.Kind{condition.Text, condition.Number, condition.Date, condition.Time} {
		shown.Verbs[k.String()] = condition.Verbs(k)
	}
	for _, f := range selection.ScratchFiles {
		shown.Scratch = append(shown.Scratch, struct {
			Pattern string `json:"pattern"`
			What    string `json:"what"`
		}{f.String(), f.What})
	}
	return shown, nil
}
