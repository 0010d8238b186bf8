package receipt

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"github.com/gowebpki/jcs"
)

// HandoverRecord is what came of handing over the files of a receipt: a record in a
// chain of its own, in canonical JSON as headers are.
type HandoverRecord struct {
	Form     string       `json:"form"`
	Number   int64        `json:"number,string"`
	Previous string       `json:"previous"`
	Receipt  int64        `json:"receipt,string"`
	Files    []HandedOver `json:"files"`
}

// HandedOver is one file of it.
type HandedOver struct {
	Path    string    `json:"path"` // as filename.Show writes it
	Digest  string    `json:"digest"`
	Action  string    `json:"action"`
	Target  string    `json:"target,omitempty"`
	Problem string    `json:"problem,omitempty"` // why it was left where it is
	Ended   time.Time `json:"ended"`
}

// AlteredHandover says that a handover record does not hold.
type AlteredHandover struct{ Number int64 }

func (e *AlteredHandover) Error() string {
	return fmt.Sprintf("handover record %d does not hold: it, its digest or the one before it was altered", e.Number)
}

// HandoverChain checks the records of handovers one after another.
type HandoverChain struct {
	Checked int64
	last    string
}

// Check holds the next record against those before.
func (c *HandoverChain) Check(s Stored) error {
	if c.last == "" {
		c.last = None
	}
	var r HandoverRecord
	again, err := jcs.Transform(s.Header)
	if err == nil {
		err = json.Unmarshal(s.Header, &r)
	}
	if err != nil || s.Number != c.Checked+1 || Digest(s.Header) != s.Digest || !bytes.Equal(again, s.Header) || r.Number != s.Number || r.Previous != c.last || s.Previous != c.last {
		return &AlteredHandover{c.Checked + 1}
	}
	c.last = s.Digest
	c.Checked++
	return nil
}
