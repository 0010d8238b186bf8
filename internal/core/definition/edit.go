package definition

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Set returns the text of a definition with one of its top keys (input, place
// or folder) given another value. All the rest, comments too, stays as it is.
// A text that does not read back so is not edited.
func Set(text, key, value string) (string, error) {
	edited, err := set(text, key, value)
	if err != nil {
		return "", err
	}
	root, err := mappingOf(edited)
	if err == nil {
		if _, node := find(root, key); node == nil || node.Value != value {
			err = errors.New("the value does not read back")
		}
	}
	if err != nil {
		return "", fmt.Errorf("%s cannot be set here, change the text by hand: %w", key, err)
	}
	return edited, nil
}

func set(text, key, value string) (string, error) {
	root, err := mappingOf(text)
	if err != nil {
		return "", err
	}
	if _, node := find(root, key); node != nil {
		return replaceScalar(text, node, value)
	}
	if root.Style&yaml.FlowStyle != 0 {
		return "", fmt.Errorf("the definition is written in braces, where nothing is put in; write it as lines of key: value")
	}
	after, _ := find(root, "place")
	if after == nil {
		return "", fmt.Errorf("the definition has no place")
	}
	lines := strings.SplitAfter(text, "\n")
	at := after.Line
	if !strings.HasSuffix(lines[at-1], "\n") {
		lines[at-1] += "\n"
	}
	return strings.Join(slices.Insert(lines, at, strings.Repeat(" ", after.Column-1)+key+": "+scalar(value)+"\n"), ""), nil
}

// Replace returns the text of a definition with a top key and all that belongs to
// it in the place of what it has, or before deliver, gate or the end. An empty
// block takes the key away. All the rest, comments too, stays as it is.
func Replace(text, key, block string) (string, error) {
	root, err := mappingOf(text)
	if err != nil {
		return "", err
	}
	if root.Style&yaml.FlowStyle != 0 {
		return "", fmt.Errorf("the definition is written in braces, where nothing is put in; write it as lines of key: value")
	}
	lines := strings.SplitAfter(text, "\n")
	if last := len(lines) - 1; lines[last] == "" {
		lines = lines[:last]
	} else {
		lines[last] += "\n"
	}
	// line returns where the i-th key begins, with the comments above it.
	line := func(i int) int {
		if 2*i >= len(root.Content) {
			return len(lines)
		}
		return commentsAbove(lines, root.Content[2*i].Line-1)
	}
	index := func(keys ...string) int {
		for i := 0; 2*i < len(root.Content); i++ {
			if slices.Contains(keys, root.Content[2*i].Value) {
				return i
			}
		}
		return -1
	}
	from, to := len(lines), len(lines)
	if i := index(key); i >= 0 {
		from, to = root.Content[2*i].Line-1, line(i+1)
	} else if i := index("columns", "deliver", "gate"); i >= 0 {
		from, to = line(i), line(i)
	}
	edited := strings.Join(lines[:from], "") + block + strings.Join(lines[to:], "")
	if _, err := mappingOf(edited); err != nil {
		return "", fmt.Errorf("%s cannot be put in here, change the text by hand: %w", key, err)
	}
	return edited, nil
}

// commentsAbove returns the line, from 0, at which the comments and blank lines
// directly above a line begin.
func commentsAbove(lines []string, at int) int {
	for at > 0 {
		if line := strings.TrimSpace(lines[at-1]); line != "" && line[0] != '#' {
			break
		}
		at--
	}
	return at
}

// Copy returns the text of a definition under another name. Deliveries that
// carry the old name get the new one, others have it added, since no two inputs
// may deliver the same.
func Copy(text, name string) (string, error) {
	root, err := mappingOf(text)
	if err != nil {
		return "", err
	}
	_, old := find(root, "input")
	if old == nil {
		return "", fmt.Errorf("the definition has no input")
	}
	before := old.Value
	if _, deliver := find(root, "deliver"); deliver != nil && deliver.Kind == yaml.SequenceNode {
		// From the last on, so that positions before stay right.
		for _, entry := range slices.Backward(deliver.Content) {
			for _, kind := range []string{"table", "file"} {
				if _, node := find(entry, kind); node != nil {
					if text, err = replaceScalar(text, node, rename(kind, node.Value, before, name)); err != nil {
						return "", err
					}
				}
			}
		}
	}
	return Set(text, "input", name)
}

func rename(kind, delivery, before, name string) string {
	if kind == "table" {
		before, name = strings.ReplaceAll(before, "-", "_"), strings.ReplaceAll(name, "-", "_")
	}
	if strings.Contains(delivery, before) {
		return strings.ReplaceAll(delivery, before, name)
	}
	if dot := strings.LastIndexByte(delivery, '.'); kind == "file" && dot > strings.LastIndexByte(delivery, '/') {
		return delivery[:dot] + " " + name + delivery[dot:]
	}
	if kind == "table" {
		return delivery + "_" + name
	}
	return delivery + " " + name
}

func mappingOf(text string) (*yaml.Node, error) {
	doc, err := document(text)
	if err != nil {
		return nil, err
	}
	if len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, &Invalid{[]Problem{{1, 1, "the definition is written as key: value pairs"}}}
	}
	return doc.Content[0], nil
}

func find(n *yaml.Node, key string) (name, value *yaml.Node) {
	if n.Kind != yaml.MappingNode {
		return nil, nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i], n.Content[i+1]
		}
	}
	return nil, nil
}

// replaceScalar puts another value where a scalar of one line stands.
func replaceScalar(text string, n *yaml.Node, value string) (string, error) {
	lines := strings.SplitAfter(text, "\n")
	if n.Kind != yaml.ScalarNode || n.Line > len(lines) {
		return "", fmt.Errorf("line %d holds no plain value", n.Line)
	}
	line := []rune(lines[n.Line-1])
	from := n.Column - 1
	end := from
	switch {
	case n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		quote := line[from]
		for end++; end < len(line); end++ {
			if line[end] == '\\' && quote == '"' {
				end++
			} else if line[end] == quote {
				if quote == '"' || end+1 == len(line) || line[end+1] != quote {
					break
				}
				end++ // a single quote is written twice
			}
		}
		end++
	case n.Style == 0:
		end += len([]rune(n.Value))
	default:
		return "", fmt.Errorf("line %d holds a value of several lines", n.Line)
	}
	if from > len(line) || end > len(line) {
		return "", fmt.Errorf("line %d holds a value of several lines", n.Line)
	}
	lines[n.Line-1] = string(line[:from]) + scalar(value) + string(line[end:])
	return strings.Join(lines, ""), nil
}

// scalar writes a value as YAML.
func scalar(value string) string {
	out, err := yaml.Marshal(value)
	if err != nil || strings.Contains(strings.TrimSpace(string(out)), "\n") {
		return fmt.Sprintf("%q", value)
	}
	return strings.TrimSpace(string(out))
}

// Difference is one line of two texts laid side by side.
type Difference struct {
	Sign string // "+" only in the new text, "-" only in the old, " " in both
	Text string
}

// Compare lays two texts side by side, line by line, by a longest common
// subsequence.
func Compare(before, after string) []Difference {
	a, b := strings.Split(strings.TrimSuffix(before, "\n"), "\n"), strings.Split(strings.TrimSuffix(after, "\n"), "\n")
	// common[i][j] is how many lines a[i:] and b[j:] have in common.
	common := make([][]int32, len(a)+1)
	for i := range common {
		common[i] = make([]int32, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	var list []Difference
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			list = append(list, Difference{" ", a[i]})
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && common[i+1][j] >= common[i][j+1]:
			list = append(list, Difference{"-", a[i]})
			i++
		default:
			list = append(list, Difference{"+", b[j]})
			j++
		}
	}
	return list
}
