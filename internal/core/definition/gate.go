package definition

import (
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Cause is what a gate decides on: something that is broken, missing or odd.
type Cause string

// The causes.
const (
	BrokenFile    Cause = "broken"
	MissingColumn Cause = "missing_column" // a required one, of a file
	NothingPicked Cause = "nothing_picked"
	MissingSlot   Cause = "missing"
	NotConverted  Cause = "not_converted" // values of a file
	Unusual       Cause = "unusual"       // amount of a file
	Unreachable   Cause = "unreachable"   // place
	InDoubt       Cause = "in_doubt"      // files that are gone, which is not believed
	Unknown       Cause = "unknown"       // files that could not be looked at
	Arriving      Cause = "arriving"
	NearMiss      Cause = "near_miss"
)

// Answer is what a gate answers to a cause.
type Answer string

// The answers.
const (
	Stop     Answer = "stop"
	LeaveOut Answer = "leave_out" // the file
	LastGood Answer = "last_good" // version of the file in its place
	GoOn     Answer = "go_on"     // with a warning
	Wait     Answer = "wait"      // for a person to decide
)

// A decision is a cause with the answers that it may have, the usual one first,
// and the one that a person's "go on" means.
type decision struct {
	cause   Cause
	answers []Answer
	goOn    Answer
}

var causes = []decision{
	{BrokenFile, []Answer{Stop, LeaveOut, LastGood, Wait}, LeaveOut},
	{MissingColumn, []Answer{Stop, LeaveOut, LastGood, Wait}, LeaveOut},
	{NothingPicked, []Answer{Stop, GoOn, Wait}, GoOn},
	{MissingSlot, []Answer{GoOn, Stop, Wait}, GoOn},
	{NotConverted, []Answer{GoOn, Stop, LeaveOut, LastGood, Wait}, GoOn},
	{Unusual, []Answer{GoOn, Stop, LeaveOut, LastGood, Wait}, GoOn},
	{Unreachable, []Answer{Stop, LastGood, Wait}, LastGood},
	{InDoubt, []Answer{Stop, LeaveOut, LastGood, Wait}, LeaveOut},
	{Unknown, []Answer{Stop, LeaveOut, LastGood, Wait}, LeaveOut},
	{Arriving, []Answer{Stop, LeaveOut, LastGood, Wait}, LeaveOut},
	{NearMiss, []Answer{GoOn, Stop, Wait}, GoOn},
}

func causeNames() (names []string) {
	for _, c := range Causes() {
		names = append(names, string(c))
	}
	return names
}

// Gate is what an input's gate answers.
type Gate struct {
	Answers map[Cause]Answer
	// Above is the share of a file's rows that may have values in a column that
	// do not convert.
	Above float64
}

// NewGate returns a gate with the usual answers.
func NewGate() Gate {
	g := Gate{Answers: map[Cause]Answer{}}
	for _, c := range causes {
		g.Answers[c.cause] = c.answers[0]
	}
	return g
}

// Answer is what the gate answers to a cause, of which a person may have
// accepted some.
func (g Gate) Answer(cause Cause, accepted []string) Answer {
	answer := g.Answers[cause]
	if answer == Wait && slices.Contains(accepted, string(cause)) {
		answer = causes[slices.IndexFunc(causes, func(d decision) bool { return d.cause == cause })].goOn
	}
	return answer
}

// Causes lists the causes, the weightiest first.
func Causes() (list []Cause) {
	for _, d := range causes {
		list = append(list, d.cause)
	}
	return list
}

func (r *reader) gate(n *yaml.Node) {
	g := &r.def.Gate
	seen := r.mapping(n, "gate", func(key string, v *yaml.Node) {
		d := causes[slices.IndexFunc(causes, func(d decision) bool { return string(d.cause) == key })]
		if d.cause == NotConverted && v.Kind == yaml.MappingNode {
			if r.mapping(v, "a gate's answer", func(key string, v *yaml.Node) {
				switch key {
				case "answer":
					r.gateAnswer(v, d)
				case "above":
					share, err := strconv.ParseFloat(strings.TrimSuffix(r.text(v, "above"), "%"), 64)
					if err != nil || !strings.HasSuffix(v.Value, "%") || share < 0 || share >= 100 {
						r.problem(v, "above is a share of the rows, as in 2%%")
					}
					g.Above = share / 100
				}
			})["answer"] == nil {
				r.problem(v, "say what the gate answers, as in not_converted: {above: 2%%, answer: stop}")
			}
			return
		}
		r.gateAnswer(v, d)
	})
	if seen[string(MissingColumn)] == nil && seen[string(BrokenFile)] != nil {
		g.Answers[MissingColumn] = g.Answers[BrokenFile]
	}
}

func (r *reader) gateAnswer(n *yaml.Node, d decision) {
	var names []string
	for _, a := range d.answers {
		names = append(names, string(a))
	}
	if answer := r.oneOf(n, "gate: "+string(d.cause), names...); answer != "" {
		r.def.Gate.Answers[d.cause] = Answer(answer)
	}
}
