package selection

import (
	"path"
	"strings"
)

// Scratch is one kind of file that programs and systems leave behind, told by
// its whole name or by what the name starts and ends with, in small letters.
type Scratch struct {
	Name, Starts, Ends string
	What               string
}

// String shows the kind as a pattern.
func (s Scratch) String() string {
	if s.Name != "" {
		return s.Name
	}
	return s.Starts + "*" + s.Ends
}

// ScratchFiles is the list that inputs leave out unless told otherwise.
var ScratchFiles = []Scratch{
	{Starts: "~$", What: "lock file of an office program"},
	{Starts: ".~lock.", Ends: "#", What: "lock file of an office program"},
	{Starts: ".jorvex", What: "working file of Jorvex"},
	{Starts: ".", What: "hidden file"},
	{Ends: ".tmp", What: "temporary file"},
	{Ends: "~", What: "backup copy of an editor"},
	{Ends: ".part", What: "download that is not complete"},
	{Ends: ".partial", What: "download that is not complete"},
	{Ends: ".crdownload", What: "download that is not complete"},
	{Name: "thumbs.db", What: "thumbnails made by the system"},
	{Name: "desktop.ini", What: "folder settings made by the system"},
}

// scratch reports whether a file is one, by its name or a hidden folder above.
func scratch(below string) (Scratch, bool) {
	name := path.Base(below)
	for _, s := range ScratchFiles {
		if s.matches(name) {
			return s, true
		}
	}
	if below[0] == '.' || strings.Contains(below, "/.") {
		return Scratch{Name: ".*/", What: "inside a hidden folder"}, true
	}
	return Scratch{}, false
}

func (s Scratch) matches(name string) bool {
	if s.Name != "" {
		return strings.EqualFold(name, s.Name)
	}
	return len(name) >= len(s.Starts)+len(s.Ends) &&
		strings.EqualFold(name[:len(s.Starts)], s.Starts) &&
		strings.EqualFold(name[len(name)-len(s.Ends):], s.Ends)
}
