package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
	core "jorvex/internal/core/notice"
	"jorvex/internal/notice"
	"jorvex/internal/records"
)

// ListNotices implements the contract.
func (s *server) ListNotices(ctx context.Context, request api.ListNoticesRequestObject) (api.ListNoticesResponseObject, error) {
	var before int64
	if err := readCursor(or(request.Params.Cursor), &before); err != nil {
		return nil, err
	}
	n := limit(or(request.Params.Limit))
	list, err := s.Store.Notices(ctx, before, request.Params.Unseen, n+1)
	if err != nil {
		return nil, err
	}
	page := api.ListNotices200JSONResponse{Items: []api.Notice{}}
	if page.Unseen, err = s.Store.UnseenNotices(ctx); err != nil {
		return nil, err
	}
	if len(list) > n {
		list = list[:n]
		page.Next = cursor(list[n-1].ID)
	}
	for _, record := range list {
		page.Items = append(page.Items, s.shownNotice(record))
	}
	return page, nil
}

func (s *server) shownNotice(record records.Notice) api.Notice {
	n := s.Desk.Shown(record)
	shown := api.Notice{Id: n.ID, At: n.At, Kind: api.NoticeKind(n.Kind), Place: n.Place, Input: n.Input, Title: n.Title, Sentence: n.Sentence,
		Count: n.Count, Named: n.Named, Link: n.Link, Seen: record.Seen, Sends: []api.NoticeSend{}}
	for _, send := range record.Sends {
		shown.Sends = append(shown.Sends, api.NoticeSend{Rule: send.Rule, Channel: api.NoticeSendChannel(send.Channel), Address: send.Address,
			State: api.NoticeSendState(send.State), Attempts: send.Attempts, Problem: send.Problem, Due: send.Due.UTC(), Sent: at(send.Sent)})
	}
	return shown
}

// SeeNotices implements the contract.
func (s *server) SeeNotices(ctx context.Context, request api.SeeNoticesRequestObject) (api.SeeNoticesResponseObject, error) {
	if err := s.Store.SeeNotices(ctx, request.Body.Through); err != nil {
		return nil, err
	}
	s.Events.Publish("notice", map[string]int{"notices": 0})
	return api.SeeNotices204Response{}, nil
}

// ListNoticeRules implements the contract.
func (s *server) ListNoticeRules(ctx context.Context, _ api.ListNoticeRulesRequestObject) (api.ListNoticeRulesResponseObject, error) {
	list, err := s.Store.NoticeRules(ctx)
	if err != nil {
		return nil, err
	}
	page := api.ListNoticeRules200JSONResponse{Items: []api.NoticeRule{}}
	for _, r := range list {
		page.Items = append(page.Items, shownRule(r))
	}
	for _, kind := range core.Kinds() {
		page.Kinds = append(page.Kinds, api.NoticeKind(kind))
	}
	if s.Desk.Mail != nil {
		page.MailFrom = s.Desk.Mail.From
	}
	return page, nil
}

func shownRule(r records.NoticeRule) api.NoticeRule {
	shown := api.NoticeRule{Name: r.Name, Inputs: r.Inputs, Kinds: []api.NoticeKind{}, Mail: r.Mail, Hook: r.Hook, Secret: r.Secret, Off: r.Off}
	for _, kind := range r.Kinds {
		shown.Kinds = append(shown.Kinds, api.NoticeKind(kind))
	}
	return shown
}

// SaveNoticeRule implements the contract.
func (s *server) SaveNoticeRule(ctx context.Context, request api.SaveNoticeRuleRequestObject) (api.SaveNoticeRuleResponseObject, error) {
	refuse := func(next, format string, args ...any) error {
		return newProblem(http.StatusUnprocessableEntity, "bad-notice-rule", "The notice rule cannot be used", next, format, args...)
	}
	if !definition.ValidName(request.Rule) {
		return nil, refuse("use small letters, digits and single dashes", "%q cannot name a notice rule", request.Rule)
	}
	body := request.Body
	r := records.NoticeRule{Name: request.Rule, Inputs: body.Inputs, Mail: body.Mail, Hook: body.Hook, Off: body.Off}
	for _, kind := range body.Kinds {
		if !slices.Contains(r.Kinds, string(kind)) {
			r.Kinds = append(r.Kinds, string(kind))
		}
	}
	for _, name := range r.Inputs {
		if _, err := s.input(ctx, name); err != nil {
			return nil, err
		}
	}
	for _, address := range r.Mail {
		if err := notice.CheckAddress(address); err != nil {
			return nil, refuse("write it as name@host", "%s", err)
		}
	}
	if len(r.Mail) > 0 && s.Desk.Mail == nil {
		return nil, refuse("start the service with JORVEX_SMTP and JORVEX_MAIL_FROM", "no mail server is set up to send mail by")
	}
	if r.Hook != "" {
		if err := notice.CheckHook(r.Hook); err != nil {
			return nil, refuse("", "%s", err)
		}
		r.Secret = core.NewSecret()
	}
	saved, err := s.Store.SaveNoticeRule(ctx, r)
	return api.SaveNoticeRule200JSONResponse(shownRule(saved)), err
}

func (s *server) noRule(name string, err error) error {
	if errors.Is(err, records.ErrNotFound) {
		return notFound("notice rule", name, "list the rules with: jorvex notice-rule list")
	}
	return err
}

// DropNoticeRule implements the contract.
func (s *server) DropNoticeRule(ctx context.Context, request api.DropNoticeRuleRequestObject) (api.DropNoticeRuleResponseObject, error) {
	if err := s.Store.DropNoticeRule(ctx, request.Rule); err != nil {
		return nil, s.noRule(request.Rule, err)
	}
	return api.DropNoticeRule204Response{}, nil
}

// TryNoticeRule implements the contract.
func (s *server) TryNoticeRule(ctx context.Context, request api.TryNoticeRuleRequestObject) (api.TryNoticeRuleResponseObject, error) {
	r, err := s.Store.NoticeRule(ctx, request.Rule)
	if err != nil {
		return nil, s.noRule(request.Rule, err)
	}
	made := core.Notice{At: s.Clock().UTC(), Kind: core.Delivered, Place: "none", Sentence: fmt.Sprintf("this is a trial of the notice rule %s; nothing happened", r.Name), Count: 1, Named: []string{}, Link: s.Base + "/settings"}
	answer := api.TryNoticeRule200JSONResponse{Items: []api.NoticeTrial{}}
	try := func(channel, address string) {
		trial := api.NoticeTrial{Channel: api.NoticeTrialChannel(channel), Address: address}
		if err := s.Desk.Try(ctx, channel, address, r.Name, "trial", []core.Notice{made}); err != nil {
			trial.Problem = err.Error()
		}
		answer.Items = append(answer.Items, trial)
	}
	for _, address := range r.Mail {
		try("mail", address)
	}
	if r.Hook != "" {
		try("hook", r.Hook)
	}
	return answer, nil
}
