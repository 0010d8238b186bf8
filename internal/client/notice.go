package client

import (
	"context"
	"fmt"
	"strings"

	"jorvex/internal/api"
)

func notices(ctx context.Context, c *Call) error {
	c.listing()
	most := c.Flags.Int("most", 50, "at most this `number` of notices")
	unseen := c.Flags.Bool("unseen", false, "only those that nobody saw")
	seen := c.Flags.Bool("seen", false, "mark those that are listed, and all before them, as seen")
	if _, err := c.Parse(0, 0); err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	answer, err := service.ListNoticesWithResponse(ctx, &api.ListNoticesParams{Limit: given(min(max(*most, 1), 1000)), Unseen: *unseen})
	if err != nil {
		return err
	}
	page := answer.JSON200
	if *seen && len(page.Items) > 0 {
		if _, err := service.SeeNoticesWithResponse(ctx, api.SeeNoticesJSONRequestBody{Through: page.Items[0].Id}); err != nil {
			return err
		}
	}
	if len(page.Items) == 0 && !c.json && !c.csv {
		fmt.Fprintln(c.Stdout, "nothing to tell")
		return nil
	}
	t := columns("", "when", "kind", "about", "what", "sent to")
	for _, n := range page.Items {
		mark, about := "new", n.Input
		if n.Seen {
			mark = ""
		}
		if about == "" {
			about = n.Place
		}
		t.row(mark, c.moment(n.At), word(string(n.Kind)), about, n.Sentence, sentTo(n.Sends))
	}
	return c.show(t, page)
}

// sentTo tells how far a notice is on its way.
func sentTo(sends []api.NoticeSend) string {
	var parts []string
	for _, s := range sends {
		part := s.Address
		switch {
		case s.State == api.GivenUp:
			part += " (given up: " + s.Problem + ")"
		case s.State == api.Due && s.Attempts > 0:
			part += " (failed, tried again: " + s.Problem + ")"
		case s.State == api.Due:
			part += " (waiting)"
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, ", ")
}

const ruleVerbs = "list | show NAME | set NAME | drop NAME | try NAME"

// list splits a flag's value at commas.
func list(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

func noticeRule(ctx context.Context, c *Call) error {
	c.listing()
	inputs := c.Flags.String("inputs", "", "set: `names` of inputs, with commas between; all if empty")
	kinds := c.Flags.String("kinds", "", "set: what is worth telling, `kinds` with commas between: broken, missing, late, in_doubt, unreachable, complete, delivered, stopped, failed")
	mail := c.Flags.String("mail", "", "set: `addresses` that get a mail, with commas between")
	hook := c.Flags.String("hook", "", "set: `URL` of a web hook that gets a signed message")
	off := c.Flags.Bool("off", false, "set: keep the rule, and tell nothing by it")
	verb, args, err := sub(c, map[string]int{"list": 0, "show": 1, "set": 1, "drop": 1, "try": 1})
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		return c.listRules(ctx, service)
	case "show":
		answer, err := service.ListNoticeRulesWithResponse(ctx)
		if err != nil {
			return err
		}
		for _, r := range answer.JSON200.Items {
			if r.Name == args[0] {
				return c.showRule(r)
			}
		}
		return &exitError{code: NotFound, message: fmt.Sprintf("there is no notice rule %q; list the rules with: jorvex notice-rule list", args[0])}
	case "set":
		body := api.NoticeRuleBody{Inputs: list(*inputs), Mail: list(*mail), Hook: *hook, Off: *off}
		for _, kind := range list(*kinds) {
			body.Kinds = append(body.Kinds, api.NoticeKind(kind))
		}
		if len(body.Kinds) == 0 {
			return Usage("-kinds says what is worth telling, as in -kinds broken,missing")
		}
		answer, err := service.SaveNoticeRuleWithResponse(ctx, args[0], body)
		if err != nil {
			return err
		}
		return c.showRule(*answer.JSON200)
	case "drop":
		if _, err := service.DropNoticeRuleWithResponse(ctx, args[0]); err != nil {
			return err
		}
		fmt.Fprintf(c.Stdout, "the notice rule %s is gone\n", args[0])
		return nil
	}
	return c.tryRule(ctx, service, args[0])
}

func (c *Call) listRules(ctx context.Context, service *api.ClientWithResponses) error {
	answer, err := service.ListNoticeRulesWithResponse(ctx)
	if err != nil {
		return err
	}
	t := columns("rule", "tells", "of", "by mail", "by web hook")
	for _, r := range answer.JSON200.Items {
		name := r.Name
		if r.Off {
			name += " (off)"
		}
		t.row(name, kindNames(r.Kinds), inputNames(r.Inputs), strings.Join(r.Mail, ", "), r.Hook)
	}
	return c.show(t, answer.JSON200)
}

func kindNames(kinds []api.NoticeKind) string {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = word(string(k))
	}
	return strings.Join(names, ", ")
}

func inputNames(inputs []string) string {
	if len(inputs) == 0 {
		return "all inputs"
	}
	return strings.Join(inputs, ", ")
}

func (c *Call) showRule(r api.NoticeRule) error {
	if c.json {
		return c.printJSON(r)
	}
	t := &table{}
	t.row("rule", r.Name)
	t.row("tells", kindNames(r.Kinds))
	t.row("of", inputNames(r.Inputs))
	where := []string{"the console"}
	if len(r.Mail) > 0 {
		where = append(where, r.Mail...)
	}
	if r.Hook != "" {
		where = append(where, r.Hook)
	}
	t.row("to", strings.Join(where, ", "))
	if r.Secret != "" {
		t.row("secret", r.Secret)
	}
	if r.Off {
		t.row("off", "yes, it tells nothing")
	}
	t.print(c.Stdout)
	return nil
}

func (c *Call) tryRule(ctx context.Context, service *api.ClientWithResponses, name string) error {
	answer, err := service.TryNoticeRuleWithResponse(ctx, name)
	if err != nil {
		return err
	}
	if len(answer.JSON200.Items) == 0 && !c.json && !c.csv {
		fmt.Fprintf(c.Stdout, "the notice rule %s tells in the console alone\n", name)
		return nil
	}
	failed := 0
	t := columns("to", "result")
	for _, trial := range answer.JSON200.Items {
		result := "arrived"
		if trial.Problem != "" {
			result = trial.Problem
			failed++
		}
		t.row(trial.Address, result)
	}
	if err := c.show(t, answer.JSON200); err != nil {
		return err
	}
	if failed > 0 {
		return &exitError{code: Failed, message: fmt.Sprintf("%s of the rule %s could not be reached", plural(failed, "address"), name)}
	}
	return nil
}
