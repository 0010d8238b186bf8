package definition

import (
	"time"

	"go.yaml.in/yaml/v3"
)

// Report is the definition of a report: inputs that are refreshed together.
type Report struct {
	Report  string // name, unique in the service
	Title   string
	Inputs  []string
	Zone    *time.Location
	Refresh Refresh
}

// ParseReport reads the definition of a report. What is wrong with it comes back as
// *Invalid.
func ParseReport(text string) (*Report, error) {
	doc, err := document(text)
	if err != nil {
		return nil, err
	}
	r := &reader{def: &Definition{Zone: time.UTC}}
	def := &Report{Zone: time.UTC}
	if len(doc.Content) == 0 {
		r.problem(&yaml.Node{Line: 1, Column: 1}, "the definition is empty; a report needs its name and inputs")
		return nil, &Invalid{r.problems}
	}
	seen := r.mapping(doc.Content[0], "the report", func(key string, v *yaml.Node) {
		switch key {
		case "report":
			if def.Report = r.text(v, "report"); !inputName.MatchString(def.Report) && def.Report != "" {
				r.problem(v, "%q cannot name a report; use small letters, digits and single dashes", def.Report)
			}
		case "title":
			def.Title = r.text(v, "title")
		case "zone":
			def.Zone = r.zone(v)
		case "inputs":
			known := map[string]bool{}
			for _, n := range r.list(v, "inputs") {
				name := r.text(n, "an input")
				if known[name] {
					r.problem(n, "the input %q stands twice", name)
				}
				known[name] = true
				def.Inputs = append(def.Inputs, name)
			}
		}
	})
	for _, key := range []string{"report", "inputs"} {
		if seen[key] == nil && doc.Content[0].Kind == yaml.MappingNode {
			r.problem(doc.Content[0], "the key %q is missing", key)
		}
	}
	if seen["refresh"] != nil {
		if def.Refresh = r.refresh(seen["refresh"], def.Zone); def.Refresh.Complete {
			r.problem(seen["refresh"], "complete is of an input that says which files are expected; give it to that")
		}
	}
	if len(r.problems) > 0 {
		return nil, &Invalid{r.problems}
	}
	return def, nil
}
