// Package formula is arithmetic of columns: numbers, names of columns, + - * /
// and parentheses, computed exactly.
//
//	f, err := formula.Parse("(freight_t + mail_t) / sailings")
//	value, ok := f.Value(func(column string) (*big.Rat, bool) { … })
package formula

import (
	"fmt"
	"math/big"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Formula is a parsed formula. It is safe for use by many goroutines.
type Formula struct {
	text string
	root node
	// Names are the columns it asks for, each once, in order.
	Names []string
}

// String returns the formula as it was written.
func (f *Formula) String() string { return f.text }

// Value computes the formula. It has no value where a column has none, or
// something is divided by zero.
func (f *Formula) Value(column func(name string) (*big.Rat, bool)) (*big.Rat, bool) {
	return f.root.value(column)
}

type node interface {
	value(column func(name string) (*big.Rat, bool)) (*big.Rat, bool)
}

type number struct{ *big.Rat }

func (n number) value(func(string) (*big.Rat, bool)) (*big.Rat, bool) { return n.Rat, true }

type name string

func (n name) value(column func(string) (*big.Rat, bool)) (*big.Rat, bool) { return column(string(n)) }

type operation struct {
	sign        byte
	left, right node
}

func (o operation) value(column func(string) (*big.Rat, bool)) (*big.Rat, bool) {
	left, ok := o.left.value(column)
	if !ok {
		return nil, false
	}
	right, ok := o.right.value(column)
	if !ok {
		return nil, false
	}
	result := new(big.Rat)
	switch o.sign {
	case '+':
		return result.Add(left, right), true
	case '-':
		return result.Sub(left, right), true
	case '*':
		return result.Mul(left, right), true
	}
	if right.Sign() == 0 {
		return nil, false
	}
	return result.Quo(left, right), true
}

// mostLong keeps a formula from being deeper than can be computed.
const mostLong = 1000

type parser struct {
	text string
	pos  int
	f    *Formula
}

// Parse reads a formula.
func Parse(text string) (*Formula, error) {
	p := &parser{text: text, f: &Formula{text: text}}
	if len(text) > mostLong {
		return nil, fmt.Errorf("the formula is longer than %d characters", mostLong)
	}
	root, err := p.sum()
	if err != nil {
		return nil, err
	}
	if p.peek() != 0 {
		return nil, p.fault("+, -, * or / is expected")
	}
	p.f.root = root
	return p.f, nil
}

func (p *parser) fault(message string) error {
	at := "at its end"
	if p.pos < len(p.text) {
		r, _ := utf8.DecodeRuneInString(p.text[p.pos:])
		at = fmt.Sprintf("at %q, character %d", r, utf8.RuneCountInString(p.text[:p.pos])+1)
	}
	return fmt.Errorf("the formula %q, %s: %s", p.text, at, message)
}

// peek returns the next byte that is no space, 0 at the end.
func (p *parser) peek() byte {
	for p.pos < len(p.text) && p.text[p.pos] == ' ' {
		p.pos++
	}
	if p.pos == len(p.text) {
		return 0
	}
	return p.text[p.pos]
}

func (p *parser) sum() (node, error)     { return p.chain("+-", p.product) }
func (p *parser) product() (node, error) { return p.chain("*/", p.unit) }

func (p *parser) chain(signs string, part func() (node, error)) (node, error) {
	left, err := part()
	for err == nil {
		sign := p.peek()
		if sign == 0 || !strings.ContainsRune(signs, rune(sign)) {
			return left, nil
		}
		p.pos++
		var right node
		right, err = part()
		left = operation{sign, left, right}
	}
	return nil, err
}

func (p *parser) unit() (node, error) {
	switch c := p.peek(); {
	case c == '-':
		p.pos++
		right, err := p.unit()
		return operation{'-', number{new(big.Rat)}, right}, err
	case c == '(':
		p.pos++
		inside, err := p.sum()
		if err != nil {
			return nil, err
		}
		if p.peek() != ')' {
			return nil, p.fault("a closing parenthesis is expected")
		}
		p.pos++
		return inside, nil
	case c >= '0' && c <= '9' || c == '.':
		end := p.pos
		for end < len(p.text) && (p.text[end] >= '0' && p.text[end] <= '9' || p.text[end] == '.') {
			end++
		}
		value, ok := new(big.Rat).SetString(p.text[p.pos:end])
		if !ok {
			return nil, p.fault("this is no number")
		}
		p.pos = end
		return number{value}, nil
	}
	end := p.pos
	for end < len(p.text) {
		r, size := utf8.DecodeRuneInString(p.text[end:])
		if r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			break
		}
		end += size
	}
	if end == p.pos {
		return nil, p.fault("a column, a number or ( is expected")
	}
	column := p.text[p.pos:end]
	p.pos = end
	known := false
	for _, n := range p.f.Names {
		known = known || n == column
	}
	if !known {
		p.f.Names = append(p.f.Names, column)
	}
	return name(column), nil
}

// decimals is how many digits are kept of what has no end.
const decimals = 12

// Append writes a value with at most round decimals; with round below 0 as it is,
// or with 12 decimals where it has no end.
func Append(into []byte, value *big.Rat, round int) []byte {
	digits, exact := value.FloatPrec()
	switch {
	case round >= 0:
		digits = min(digits, round)
		if !exact {
			digits = round
		}
	case !exact:
		digits = decimals
	}
	text := value.FloatString(digits)
	if strings.Contains(text, ".") {
		text = strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
	}
	if text == "-0" {
		text = "0"
	}
	return append(into, text...)
}
