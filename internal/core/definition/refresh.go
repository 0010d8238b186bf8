package definition

import (
	"time"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/schedule"
)

// Refresh is when a refresh is made without a person asking for it.
type Refresh struct {
	Cron     []string           // expressions, as they are written
	Schedule *schedule.Schedule // of them; nil for none
	// Arrivals has changed files refreshed once nothing changed for so long; 0 for
	// never.
	Arrivals time.Duration
	Complete bool // when a period has all its files
}

// None reports whether only a person asks.
func (r Refresh) None() bool { return r.Schedule == nil && r.Arrivals == 0 && !r.Complete }

func (r *reader) zone(n *yaml.Node) *time.Location {
	zone, err := time.LoadLocation(r.text(n, "zone"))
	if err != nil || n.Value == "Local" {
		r.problem(n, "%q is no time zone; write its IANA name, as in Europe/Oslo", n.Value)
		return time.UTC
	}
	return zone
}

func (r *reader) refresh(n *yaml.Node, zone *time.Location) (when Refresh) {
	r.mapping(n, "refresh", func(key string, v *yaml.Node) {
		switch key {
		case "cron":
			for _, e := range r.oneOrMore(v, "cron") {
				text := r.text(e, "cron")
				if _, err := schedule.Parse(zone, text); err != nil {
					r.problem(e, "%s", err)
					continue
				}
				when.Cron = append(when.Cron, text)
			}
			if len(when.Cron) > 0 {
				when.Schedule, _ = schedule.Parse(zone, when.Cron...)
			}
		case "arrivals":
			quiet, err := time.ParseDuration(r.text(v, "arrivals"))
			if when.Arrivals = quiet; err != nil || quiet < time.Second || quiet > 24*time.Hour {
				r.problem(v, "arrivals is how long it must be quiet, from 1s to 24h, as in 5m")
			}
		case "complete":
			r.yesNo(v, "complete", &when.Complete)
		}
	})
	return when
}
