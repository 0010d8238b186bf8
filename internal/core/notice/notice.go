// Package notice decides what is worth telling somebody, words it, and signs
// it. It sends nothing.
package notice

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Kind is what a notice is about.
type Kind string

// The kinds. Those up to Complete are of something that lasts, and are told
// once for as long as it does.
const (
	Broken      Kind = "broken"      // picked files cannot be used
	Missing     Kind = "missing"     // expected files are due and not there
	Late        Kind = "late"        // expected files came after they were due
	InDoubt     Kind = "in_doubt"    // so many files are gone that it is not believed
	Unreachable Kind = "unreachable" // a place cannot be looked at
	Complete    Kind = "complete"    // all expected files of a period are there
	Delivered   Kind = "delivered"   // a refresh delivered
	Stopped     Kind = "stopped"     // a gate stopped a refresh
	Waiting     Kind = "waiting"     // a refresh waits for a person
	Failed      Kind = "failed"      // a refresh failed or was interrupted
)

// Kinds lists every kind, in the order that they are offered.
func Kinds() []Kind {
	return []Kind{Broken, Missing, Late, InDoubt, Unreachable, Complete, Delivered, Stopped, Waiting, Failed}
}

// ParseKind returns the kind of that name.
func ParseKind(text string) (Kind, bool) {
	return Kind(text), slices.Contains(Kinds(), Kind(text))
}

// News reports whether what holds already when it is first looked for is worth
// telling. That files of last year came late is not.
func (k Kind) News() bool { return k != Late && k != Complete }

var words = map[Kind]struct{ one, many string }{
	Broken:   {"%d file cannot be used", "%d files cannot be used"},
	Missing:  {"%d expected file is missing", "%d expected files are missing"},
	Late:     {"%d expected file came late", "%d expected files came late"},
	Complete: {"all expected files of %d period are there", "all expected files of %d periods are there"},
}

// MostNamed is how many of the things it is about a notice names.
const MostNamed = 20

// Subject is one of the things that a notice is about. Key tells it from
// others, Says names it.
type Subject struct{ Key, Says string }

// Fresh returns the subjects that were not told, and the keys of those that
// were told and are over.
func Fresh(told map[string]bool, now []Subject) (fresh []Subject, over []string) {
	still := make(map[string]bool, len(now))
	for _, s := range now {
		if !told[s.Key] && !still[s.Key] {
			fresh = append(fresh, s)
		}
		still[s.Key] = true
	}
	for key := range told {
		if !still[key] {
			over = append(over, key)
		}
	}
	slices.Sort(over)
	return fresh, over
}

// Sentence says in one line what the subjects of a kind came to.
func (k Kind) Sentence(subjects []Subject) string {
	w, counted := words[k]
	if !counted {
		return subjects[0].Says
	}
	if len(subjects) == 1 {
		return fmt.Sprintf(w.one, 1) + ": " + subjects[0].Says
	}
	return fmt.Sprintf(w.many, len(subjects)) + ", the first is " + subjects[0].Says
}

// Names lists the subjects as a notice names them.
func Names(subjects []Subject) []string {
	names := make([]string, 0, min(len(subjects), MostNamed))
	for _, s := range subjects[:min(len(subjects), MostNamed)] {
		names = append(names, s.Says)
	}
	return names
}

// Notice is something worth telling.
type Notice struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Kind     Kind      `json:"kind"`
	Place    string    `json:"place"`
	Input    string    `json:"input,omitempty"`
	Title    string    `json:"title,omitempty"` // of the input
	Sentence string    `json:"sentence"`
	Count    int       `json:"count"`
	Named    []string  `json:"named"`
	Link     string    `json:"link"` // to the console's page
}

// About names what the notice concerns.
func (n Notice) About() string {
	if n.Title != "" {
		return n.Title
	}
	if n.Input != "" {
		return n.Input
	}
	return n.Place
}

// Letter words some notices as one mail, in plain text.
func Letter(notices []Notice) (subject, body string) {
	abouts := []string{}
	for _, n := range notices {
		if !slices.Contains(abouts, n.About()) {
			abouts = append(abouts, n.About())
		}
	}
	subject = notices[0].About() + ": " + notices[0].Sentence
	if len(notices) > 1 {
		subject = fmt.Sprintf("%d notices about %s", len(notices), abouts[0])
		if more := len(abouts) - 1; more > 0 {
			subject += fmt.Sprintf(" and %d more", more)
		}
	}
	const widest = 150 // characters of a subject that mail programs still show
	if runes := []rune(subject); len(runes) > widest {
		subject = string(runes[:widest-1]) + "…"
	}
	var b strings.Builder
	for _, about := range abouts {
		fmt.Fprintf(&b, "%s\n", about)
		for _, n := range notices {
			if n.About() != about {
				continue
			}
			fmt.Fprintf(&b, "\n  %s\n", n.Sentence)
			if n.Count > 1 {
				for _, name := range n.Named {
					fmt.Fprintf(&b, "    %s\n", name)
				}
				if more := n.Count - len(n.Named); more > 0 {
					fmt.Fprintf(&b, "    and %d more\n", more)
				}
			}
			fmt.Fprintf(&b, "  %s\n  %s\n", n.At.UTC().Format("2006-01-02 15:04 MST"), n.Link)
		}
		b.WriteString("\n")
	}
	return subject, strings.TrimRight(b.String(), "\n") + "\n"
}

// SecretPrefix begins a secret, as the Standard Webhooks specification 1.0 has
// it.
const SecretPrefix = "whsec_"

// NewSecret makes a secret of 24 random bytes.
func NewSecret() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails
	return SecretPrefix + base64.StdEncoding.EncodeToString(b)
}

// Sign returns the headers that prove a message comes from who holds the secret
// (Standard Webhooks 1.0, "Signature scheme": HMAC-SHA256 over id, time and
// body with a full stop between them).
func Sign(secret, id string, at time.Time, body []byte) map[string]string {
	stamp := strconv.FormatInt(at.Unix(), 10)
	return map[string]string{"webhook-id": id, "webhook-timestamp": stamp, "webhook-signature": "v1," + signature(secret, id, stamp, body)}
}

func signature(secret, id, stamp string, body []byte) string {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, SecretPrefix))
	if err != nil {
		key = []byte(secret)
	}
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(id + "." + stamp + "."))
	mac.Write(body)
	return base64.StdEncoding.EncodeToString(mac.Sum(nil))
}

// Verify reports whether headers that Sign made belong to a body, and are not
// older than five minutes.
func Verify(secret string, header func(string) string, body []byte, now time.Time) error {
	stamp := header("webhook-timestamp")
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil {
		return fmt.Errorf("webhook-timestamp is %q, no number of seconds", stamp)
	}
	if away := now.Sub(time.Unix(seconds, 0)).Abs(); away > 5*time.Minute {
		return fmt.Errorf("the message was signed %s ago", away)
	}
	want := signature(secret, header("webhook-id"), stamp, body)
	for given := range strings.FieldsSeq(header("webhook-signature")) {
		if version, mac, _ := strings.Cut(given, ","); version == "v1" && hmac.Equal([]byte(mac), []byte(want)) {
			return nil
		}
	}
	return fmt.Errorf("webhook-signature does not belong to the message")
}
