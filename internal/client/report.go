package client

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"jorvex/internal/api"
	"jorvex/internal/core/definition"
)

const reportVerbs = "list | show NAME | add FILE | save FILE"

// report lists, shows and saves reports.
func report(ctx context.Context, c *Call) error {
	c.listing()
	over := c.Flags.String("over", "", "save: the `version` that was edited; read from the file's first line if empty")
	verb, args, err := sub(c, map[string]int{"list": 0, "show": 1, "add": 1, "save": 1})
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		answer, err := service.ListReportsWithResponse(ctx)
		if err != nil {
			return err
		}
		t := columns("report", "inputs", "next refresh", "title")
		for _, r := range answer.JSON200.Items {
			t.row(r.Name, strings.Join(r.Inputs, ", "), c.moment(r.NextRefresh), r.Title)
		}
		return c.show(t, answer.JSON200)
	case "show":
		r, err := getReport(ctx, service, args[0])
		if err != nil {
			return err
		}
		if c.json {
			return c.printJSON(r)
		}
		fmt.Fprintf(c.Stdout, "# %s, version %d\n%s", r.Name, r.Version, r.Definition)
		return nil
	}
	text, err := readDefinition(args[0])
	if err != nil {
		return err
	}
	line := madeFrom.FindString(text)
	text = strings.TrimPrefix(text, line)
	var saved *api.Report
	if verb == "add" {
		answer, err := service.CreateReportWithResponse(ctx, api.DefinitionText{Definition: text})
		if err != nil {
			return err
		}
		saved = answer.JSON201
	} else {
		if *over == "" && line != "" {
			*over = madeFrom.FindStringSubmatch(line)[2]
		}
		if saved, err = saveReport(ctx, service, args[0], text, *over); err != nil {
			return err
		}
	}
	if c.json {
		return c.printJSON(saved)
	}
	fmt.Fprintf(c.Stdout, "%s saved as version %d: %s\n", saved.Name, saved.Version, strings.Join(saved.Inputs, ", "))
	if !saved.NextRefresh.IsZero() {
		fmt.Fprintf(c.Stdout, "refreshed next at %s\n", c.moment(saved.NextRefresh))
	}
	return nil
}

func getReport(ctx context.Context, service *api.ClientWithResponses, name string) (*api.Report, error) {
	answer, err := service.GetReportWithResponse(ctx, name)
	if err != nil {
		return nil, err
	}
	return answer.JSON200, nil
}

// saveReport saves a definition over the version that it was made from.
func saveReport(ctx context.Context, service *api.ClientWithResponses, file, text, over string) (*api.Report, error) {
	version, err := strconv.ParseInt(over, 10, 64)
	if err != nil {
		return nil, &exitError{code: Failed, message: file + " does not say which version it was made from; add -over VERSION"}
	}
	def, err := definition.ParseReport(text)
	if err != nil {
		return nil, &exitError{code: Failed, message: "the definition is not valid:\n" + err.Error()}
	}
	answer, err := service.SaveReportWithResponse(ctx, def.Report, &api.SaveReportParams{Over: version}, api.DefinitionText{Definition: text})
	if err != nil {
		return nil, err
	}
	return answer.JSON200, nil
}
