// Package client is the command line: flag-based commands over the HTTP
// contract. It decides nothing about files; it asks the service.
package client

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"jorvex/internal/api"
	"jorvex/internal/core/nearest"
)

// Exit codes, the same for every command.
const (
	Done         = 0
	Failed       = 1
	WrongUse     = 2
	GateStopped  = 3
	NotFound     = 4
	CannotReach  = 5
	helpRequired = -1
)

// Env is what a run of the program has from outside.
type Env struct {
	Stdout, Stderr io.Writer
	Getenv         func(string) string
	// Terminal tells whether Stderr is a terminal, where progress may be drawn.
	Terminal bool
	Version  string
}

// Command is one command of the program.
type Command struct {
	Name    string
	Args    string // after the name, in the usage
	Purpose string
	Example string
	// Run parses its flags with the set given, and runs.
	Run func(ctx context.Context, c *Call) error
}

// Call is one run of a command.
type Call struct {
	Env
	Flags   *flag.FlagSet
	args    []string
	command Command

	server, token, data string
	json, csv           bool
}

// exitError ends the program with a code and, unless it is empty, a message.
type exitError struct {
	code    int
	message string
	status  int // of HTTP, if the service refused something
}

func (e *exitError) Error() string { return e.message }

// Usage is an error of using a command wrongly.
func Usage(format string, args ...any) error {
	return &exitError{code: WrongUse, message: fmt.Sprintf(format, args...)}
}

// numbered reads the number of a receipt or a refresh.
func numbered(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, Usage("%q is no %s's number; jorvex refreshes lists them", text, what)
	}
	return n, nil
}

// Main runs the program and returns its exit code.
func Main(ctx context.Context, env Env, args []string, extra ...Command) int {
	commands := append(append([]Command{}, extra...), Commands()...)
	if len(args) == 0 || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" || args[0] == "help" {
		overview(env.Stdout, commands)
		if len(args) == 0 {
			return WrongUse
		}
		return Done
	}
	i := slices.IndexFunc(commands, func(c Command) bool { return c.Name == args[0] })
	if i < 0 {
		hint := "jorvex -h lists them"
		names := make([]string, 0, len(commands))
		for _, c := range commands {
			names = append(names, c.Name)
		}
		if near := nearest.Find(args[0], names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		fmt.Fprintf(env.Stderr, "jorvex: there is no command %q; %s\n", args[0], hint)
		return WrongUse
	}
	call := &Call{Env: env, command: commands[i], args: args[1:]}
	call.Flags = flag.NewFlagSet(args[0], flag.ContinueOnError)
	call.Flags.SetOutput(io.Discard)
	err := commands[i].Run(ctx, call)
	var exit *exitError
	switch {
	case err == nil:
		return Done
	case errors.As(err, &exit):
		if exit.code == helpRequired {
			return Done
		}
		if exit.message != "" {
			fmt.Fprintln(env.Stderr, "jorvex: "+exit.message)
		}
		return exit.code
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(env.Stderr, "jorvex: given up")
		return Failed
	}
	fmt.Fprintln(env.Stderr, "jorvex: "+err.Error())
	return Failed
}

func overview(w io.Writer, commands []Command) {
	fmt.Fprint(w, "Jorvex watches shared folders, picks the files that belong, combines them into\none table, and keeps a receipt of which files fed it.\n\nUsage: jorvex COMMAND [flags] [arguments]\n\n")
	t := table{}
	for _, c := range commands {
		t.row(c.Name, c.Purpose)
	}
	t.indent = "  "
	t.print(w)
	fmt.Fprint(w, "\njorvex COMMAND -h tells more. Exit codes: 0 done, 1 failed, 2 wrong use,\n3 a gate stopped it, 4 not found, 5 the service cannot be reached.\n")
}

// Parse reads flags and arguments, which may stand in any order, and checks how
// many arguments there are.
func (c *Call) Parse(least, most int) ([]string, error) {
	var given []string
	rest := c.args
	for {
		if err := c.Flags.Parse(rest); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				c.help()
				return nil, &exitError{code: helpRequired}
			}
			return nil, Usage("%s: %s; jorvex %s -h lists the flags", c.command.Name, err, c.command.Name)
		}
		rest = c.Flags.Args()
		if len(rest) == 0 {
			break
		}
		given = append(given, rest[0])
		rest = rest[1:]
	}
	if len(given) < least || len(given) > most {
		return nil, Usage("wrong number of arguments; write: jorvex %s %s", c.command.Name, c.command.Args)
	}
	return given, nil
}

func (c *Call) help() {
	fmt.Fprintf(c.Stdout, "%s\n\nUsage: jorvex %s\n\nFlags:\n", c.command.Purpose, strings.TrimSpace(c.command.Name+" [flags] "+c.command.Args))
	t := table{indent: "  "}
	c.Flags.VisitAll(func(f *flag.Flag) {
		what, usage := flag.UnquoteUsage(f)
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" {
			usage += " (default " + f.DefValue + ")"
		}
		t.row(strings.TrimSpace("-"+f.Name+" "+what), usage)
	})
	t.print(c.Stdout)
	fmt.Fprintf(c.Stdout, "\nExample: %s\n", c.command.Example)
}

// DataDir returns the directory the local service keeps its data in.
func DataDir(getenv func(string) string) string {
	if dir := getenv("JORVEX_DATA"); dir != "" {
		return dir
	}
	if os.Geteuid() == 0 {
		return "/var/lib/jorvex" // the database's user cannot reach /root
	}
	if dir := getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "jorvex")
	}
	return filepath.Join(getenv("HOME"), ".local", "share", "jorvex")
}

// connected adds the flags of commands that ask the service.
func (c *Call) connected() {
	c.Flags.StringVar(&c.server, "server", c.Getenv("JORVEX_SERVER"), "`URL` of the service; the one running here if empty")
	c.Flags.StringVar(&c.token, "token", c.Getenv("JORVEX_TOKEN"), "`token` to present; read from the data directory if empty")
	c.Flags.StringVar(&c.data, "data", DataDir(c.Getenv), "`directory` the local service keeps its data in")
	c.Flags.BoolVar(&c.json, "json", false, "print one JSON document")
}

// listing adds the flags of commands that print a list.
func (c *Call) listing() {
	c.connected()
	c.Flags.BoolVar(&c.csv, "csv", false, "print comma-separated values")
}

// service returns a client of the contract.
func (c *Call) service() (*api.ClientWithResponses, error) {
	server, token := c.server, c.token
	if server == "" {
		address, err := os.ReadFile(filepath.Join(c.data, "address"))
		if err != nil {
			return nil, &exitError{code: CannotReach, message: fmt.Sprintf("no service runs here (nothing in %s); start one with jorvex serve, or name one with -server", c.data)}
		}
		server = strings.TrimSpace(string(address))
	}
	if token == "" {
		text, err := os.ReadFile(filepath.Join(c.data, "token"))
		if err != nil {
			return nil, &exitError{code: Failed, message: fmt.Sprintf("the token cannot be read: %v; give it with -token or JORVEX_TOKEN", err)}
		}
		token = strings.TrimSpace(string(text))
	}
	return Connect(server, token)
}

// Connect returns a client of the contract at an address. What the service
// refuses is an error of the call, and so is an answer of something else.
func Connect(server, token string) (*api.ClientWithResponses, error) {
	return api.NewClientWithResponses(server, api.WithHTTPClient(strict{}), api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
}

// strict does requests of which only what a service of Jorvex does comes back.
type strict struct{}

func (strict) Do(r *http.Request) (*http.Response, error) {
	answer, err := http.DefaultClient.Do(r)
	if errors.Is(err, context.Canceled) {
		return nil, err
	}
	if err != nil {
		return nil, &exitError{code: CannotReach, message: fmt.Sprintf("the service cannot be reached: %v; is it running?", err)}
	}
	if answer.StatusCode < 300 && answer.Header.Get(api.ContractHeader) != "" {
		return answer, nil
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return nil, &exitError{code: CannotReach, message: fmt.Sprintf("the answer broke off: %v", err)}
	}
	return nil, failure(answer.StatusCode, body)
}

// failure turns a problem document into the error of a command.
func failure(status int, body []byte) error {
	var p api.Problem
	if json.Unmarshal(body, &p) != nil || p.Detail == "" {
		return &exitError{code: Failed, message: fmt.Sprintf("the service answered something else: %.200s", body)}
	}
	message := p.Detail
	if len(p.Problems) > 0 {
		message = p.Title + ":"
		for _, fault := range p.Problems {
			message += fmt.Sprintf("\n  line %d, column %d: %s", fault.Line, fault.Column, fault.Message)
		}
	} else if p.Next != "" {
		message += "; " + p.Next
	}
	code := Failed
	if status == http.StatusNotFound {
		code = NotFound
	}
	return &exitError{code, message, status}
}

// refused tells whether the service answered with this status.
func refused(err error, status int) bool {
	var exit *exitError
	return errors.As(err, &exit) && exit.status == status
}

// printJSON prints one JSON document.
func (c *Call) printJSON(v any) error {
	e := json.NewEncoder(c.Stdout)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// given returns a parameter that is left out if it is the zero value.
func given[T comparable](v T) *T {
	var none T
	if v == none {
		return nil
	}
	return &v
}
