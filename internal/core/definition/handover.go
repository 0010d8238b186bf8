package definition

import (
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"

	"jorvex/internal/core/pathpattern"
)

// Handover is what becomes of the files that fed, once a refresh is delivered.
type Handover struct {
	Action HandoverAction // none if empty
	To     string         // folder from the place's root, with captures as <name>
	Keep   bool           // the files go on feeding, out of the vault
}

// HandoverAction is what is done with a file.
type HandoverAction string

// The actions.
const (
	CopyFile   HandoverAction = "copy"
	MoveFile   HandoverAction = "move"
	DeleteFile HandoverAction = "delete"
)

// Takes reports whether the files are not in their places afterwards.
func (h Handover) Takes() bool { return h.Action == MoveFile || h.Action == DeleteFile }

var captureIn = regexp.MustCompile(`<([^<>]*)>`)

// Folder returns the folder that a file with some captures goes to.
func (h Handover) Folder(captures map[string]string) string {
	return captureIn.ReplaceAllStringFunc(h.To, func(m string) string {
		return strings.NewReplacer("/", "_", "\x00", "_").Replace(captures[strings.Trim(m, "<>")])
	})
}

func (r *reader) handover(n *yaml.Node) {
	h := &r.def.Handover
	h.Keep = true
	actions := 0
	r.mapping(n, "handover", func(key string, v *yaml.Node) {
		switch key {
		case "copy", "move":
			actions++
			h.Action = HandoverAction(key)
			shown, err := pathpattern.Expand(r.text(v, key), r.value)
			if err != nil {
				r.problem(v, "%s", err)
				return
			}
			if h.To, err = CleanPath(shown); err != nil || h.To == "" {
				r.problem(v, "%s is a folder from the place's root, as in done/<year>", key)
				return
			}
			for _, m := range captureIn.FindAllStringSubmatch(h.To, -1) {
				r.capture(v, m[1])
			}
		case "delete":
			yes := false
			if r.yesNo(v, "delete", &yes); yes {
				actions++
				h.Action = DeleteFile
			}
		case "keep":
			r.yesNo(v, "keep", &h.Keep)
		}
	})
	if actions != 1 {
		r.problem(n, "a handover copies, moves or deletes, as in handover: {move: done/<year>}")
	}
}
