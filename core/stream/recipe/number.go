package recipe

// expr is a number made of channel and stream: sums of products, as in (channel-1)*8+stream.
type expr struct {
	op              byte // 'n' for a number, 'c' for the channel, 's' for the stream, else + - *
	n               int64
	left, right     *expr
	channel, stream bool
}

func (e *expr) eval(v Values) int64 {
	switch e.op {
	case 'n':
		return e.n
	case 'c':
		return int64(v.Channel)
	case 's':
		return int64(v.Stream)
	}
	a, b := e.left.eval(v), e.right.eval(v)
	var out int64
	switch e.op {
	case '+':
		out = a + b
	case '-':
		out = a - b
	default:
		out = a * b
	}
	return max(min(out, maxNumber), -maxNumber) // far from overflow, whatever is multiplied
}

// sum reads product (("+" | "-") product)*.
func (p *parser) sum(depth int) (expr, error) { return p.chain(depth, "+-", p.product) }

// product reads factor ("*" factor)*.
func (p *parser) product(depth int) (expr, error) { return p.chain(depth, "*", p.factor) }

func (p *parser) chain(depth int, ops string, next func(int) (expr, error)) (expr, error) {
	left, err := next(depth)
	for n := 0; err == nil && p.at < len(p.text) && (p.text[p.at] == ops[0] || len(ops) > 1 && p.text[p.at] == ops[1]); n++ {
		if n == 8 {
			return left, p.fail("a number has too many parts")
		}
		op := p.text[p.at]
		p.at++
		var right expr
		if right, err = next(depth); err != nil {
			break
		}
		a, b := left, right
		left = expr{op: op, left: &a, right: &b, channel: a.channel || b.channel, stream: a.stream || b.stream}
	}
	return left, err
}

// factor reads a number, channel, stream, or a sum in round brackets.
func (p *parser) factor(depth int) (expr, error) {
	rest := p.text[p.at:]
	for _, name := range []struct {
		text string
		e    expr
	}{{"channel", expr{op: 'c', channel: true}}, {"stream", expr{op: 's', stream: true}}} {
		if len(rest) >= len(name.text) && rest[:len(name.text)] == name.text {
			p.at += len(name.text)
			return name.e, nil
		}
	}
	if rest != "" && rest[0] == '(' {
		if depth == maxDepth {
			return expr{}, p.fail("brackets stand too deep")
		}
		p.at++
		e, err := p.sum(depth + 1)
		if err != nil {
			return e, err
		}
		if p.at >= len(p.text) || p.text[p.at] != ')' {
			return e, p.fail("a bracket is not closed: ) is missing")
		}
		p.at++
		return e, nil
	}
	n, digits := int64(0), 0
	for digits < len(rest) && rest[digits] >= '0' && rest[digits] <= '9' {
		n = n*10 + int64(rest[digits]-'0')
		if digits++; digits > 6 {
			return expr{}, p.fail("a number has at most six digits")
		}
	}
	if digits == 0 {
		return expr{}, p.fail("here stands channel, stream or a number; words for the stream are written {tier:main|sub}")
	}
	p.at += digits
	return expr{op: 'n', n: n}, nil
}
