package client

import (
	"context"
	"fmt"
	"strings"

	"jorvex/internal/api"
)

const holdVerbs = "list INPUT | in INPUT FILE | out INPUT FILE | release INPUT FILE"

func inOrOut(h api.Hold) string {
	if h.In {
		return "in"
	}
	return "out"
}

func hold(ctx context.Context, c *Call) error {
	c.listing()
	note := c.Flags.String("note", "", "why, for whoever reads it later")
	until := c.Flags.String("until", "", "`day` or time at which it lapses by itself, as 2026-11-30")
	whileSame := c.Flags.Bool("while-same", false, "it lapses when the file's bytes change")
	verb, args, err := sub(c, map[string]int{"list": 1, "in": 2, "out": 2, "release": 2})
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		return c.listHolds(ctx, service, args[0])
	case "release":
		return c.release(ctx, service, args[0], args[1])
	}
	body := api.NewHold{Path: args[1], In: verb == "in", Note: *note, WhileSame: *whileSame}
	if *until != "" {
		if body.Until, err = parseMoment(*until, true); err != nil {
			return Usage("-until: %s", err)
		}
	}
	answer, err := service.CreateHoldWithResponse(ctx, args[0], body)
	if err != nil {
		return err
	}
	h := answer.JSON201
	if c.json {
		return c.printJSON(h)
	}
	fmt.Fprintf(c.Stdout, "%s is held %s%s\n", h.Path, inOrOut(*h), c.lapses(*h))
	return nil
}

// lapses tells when a hold ends by itself.
func (c *Call) lapses(h api.Hold) string {
	words := ""
	if !h.Until.IsZero() {
		words = " until " + c.moment(h.Until)
	}
	if h.WhileSame {
		words += " while its bytes stay the same"
	}
	return words
}

func (c *Call) listHolds(ctx context.Context, service *api.ClientWithResponses, input string) error {
	answer, err := service.ListHoldsWithResponse(ctx, input)
	if err != nil {
		return err
	}
	list := answer.JSON200
	t := columns("hold", "file", "by", "since", "ends", "note")
	for _, h := range list.Items {
		ends := strings.TrimSpace(c.lapses(h))
		if ends == "" {
			ends = "when it is released"
		}
		t.row(inOrOut(h), h.Path, h.By, c.moment(h.At), ends, h.Note)
	}
	for _, h := range list.Ended {
		t.row("was "+inOrOut(h), h.Path, h.By, c.moment(h.At), c.moment(h.EndedAt)+", "+h.EndedWhy, h.Note)
	}
	if len(list.Items)+len(list.Ended) == 0 && !c.json && !c.csv {
		fmt.Fprintln(c.Stdout, "no file is held")
		return nil
	}
	return c.show(t, list)
}

func (c *Call) release(ctx context.Context, service *api.ClientWithResponses, input, path string) error {
	answer, err := service.ListHoldsWithResponse(ctx, input)
	if err != nil {
		return err
	}
	for _, h := range answer.JSON200.Items {
		if h.Path != path && !strings.HasSuffix(h.Path, "/"+path) {
			continue
		}
		if _, err := service.EndHoldWithResponse(ctx, input, h.Id); err != nil {
			return err
		}
		if c.json {
			return c.printJSON(h)
		}
		fmt.Fprintf(c.Stdout, "%s is released; the rules decide again\n", h.Path)
		return nil
	}
	return &exitError{code: NotFound, message: fmt.Sprintf("%s has no hold; list them with: jorvex hold list %s", path, input)}
}
