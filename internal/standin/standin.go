// Package standin has small stand-ins for what notices are sent to: a mail
// server that keeps what it is handed, and a web hook that checks signatures.
// They listen on loopback, for the demo and for tests.
package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/mail"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"jorvex/internal/core/notice"
)

// Outbox is both stand-ins. What arrives is kept as files in a directory, the
// mails as mail-0001.eml, the messages to the hook as hook-0001.json.
type Outbox struct {
	SMTP string // address of the mail server, smtp://host:port
	Hook string // URL of the web hook

	dir  string
	smtp *smtp.Server
	http *http.Server

	mu    sync.Mutex
	mails int
	hooks int
	fail  error
}

// Open starts both. secret returns what messages to the hook must be signed
// with; nil takes unsigned ones too.
func Open(dir string, secret func() string) (*Outbox, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	o := &Outbox{dir: dir}
	for _, kept := range []struct {
		pattern string
		count   *int
	}{{"mail-*.eml", &o.mails}, {"hook-*.json", &o.hooks}} {
		before, err := filepath.Glob(filepath.Join(dir, kept.pattern))
		if err != nil {
			return nil, err
		}
		*kept.count = len(before)
	}
	mails, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	hooks, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	o.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{o}, nil }))
	o.smtp.Domain, o.smtp.MaxMessageBytes, o.smtp.ReadTimeout = "skerry.example", 1<<20, 10*time.Second
	o.http = &http.Server{Handler: o.take(secret), ReadHeaderTimeout: 10 * time.Second}
	o.SMTP, o.Hook = "smtp://"+mails.Addr().String(), "http://"+hooks.Addr().String()+"/"
	go func() { _ = o.smtp.Serve(mails) }()
	go func() { _ = o.http.Serve(hooks) }()
	return o, nil
}

// Close stops both.
func (o *Outbox) Close() error {
	_ = o.smtp.Close()
	return o.http.Shutdown(context.Background())
}

// Fail has both refuse what they are sent with an error, or take it again with
// nil.
func (o *Outbox) Fail(err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.fail = err
}

func (o *Outbox) keep(count *int, pattern string, content []byte) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.fail != nil {
		return o.fail
	}
	*count++
	return os.WriteFile(filepath.Join(o.dir, fmt.Sprintf(pattern, *count)), content, 0o644)
}

// session is one conversation with the mail server, which takes mail from
// anybody to anybody.
type session struct{ outbox *Outbox }

func (s *session) Reset()                               {}
func (s *session) Logout() error                        { return nil }
func (s *session) Mail(string, *smtp.MailOptions) error { return nil }
func (s *session) Rcpt(string, *smtp.RcptOptions) error { return nil }

func (s *session) Data(r io.Reader) error {
	content, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return s.outbox.keep(&s.outbox.mails, "mail-%04d.eml", content)
}

func (o *Outbox) take(secret func() string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		if err == nil && secret != nil {
			err = notice.Verify(secret(), r.Header.Get, body, time.Now())
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnauthorized)
			return
		}
		if err := o.keep(&o.hooks, "hook-%04d.json", body); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	}
}

// Mails returns the mails that arrived, the first one first.
func (o *Outbox) Mails() ([]*mail.Message, error) {
	var list []*mail.Message
	err := o.each("mail-*.eml", func(content []byte) error {
		m, err := mail.ReadMessage(bytes.NewReader(content))
		list = append(list, m)
		return err
	})
	return list, err
}

// Hooks returns the notices that were posted, the first one first.
func (o *Outbox) Hooks() ([]notice.Notice, error) {
	var list []notice.Notice
	err := o.each("hook-*.json", func(content []byte) error {
		var n notice.Notice
		err := json.Unmarshal(content, &n)
		list = append(list, n)
		return err
	})
	return list, err
}

func (o *Outbox) each(pattern string, read func([]byte) error) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	names, err := filepath.Glob(filepath.Join(o.dir, pattern)) // sorted
	for _, name := range names {
		var content []byte
		if content, err = os.ReadFile(name); err == nil {
			err = read(content)
		}
		if err != nil {
			break
		}
	}
	return err
}
