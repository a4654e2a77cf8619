package design

import (
	"bytes"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// FileVersion is the version of the design file that is read and written.
const FileVersion = 1

// What a design file may at most hold. The limits are far above any estate and
// keep a hostile or mistaken file from costing memory or time.
const (
	MaxFileBytes = 8 << 20
	MaxFileMarks = 250_000 // line ends, colons, commas, dashes and brackets: what the parser's memory grows with
	maxDepth     = 64
	maxKeys      = 2000 // in one mapping: the parser looks through those before for each
)

// Read reads a design file. If anything is wrong it returns [Problems], each
// with line and column, and no design. Objects get IDs that follow from their
// paths, so that reading a file twice gives the same design.
func Read(file []byte) (*Design, error) {
	d, _, err := ReadLines(file)
	return d, err
}

// ReadLines is [Read], and tells on which line of the file, from 1, each object begins.
func ReadLines(file []byte) (*Design, map[ID]int, error) {
	root, err := parseYAML(file)
	if err != nil {
		return nil, nil, err
	}
	r := &reader{places: map[place]*node{}, byPath: map[string][]*Object{}}
	d := r.read(root)
	if len(r.problems) > 0 {
		return nil, nil, r.problems.sorted()
	}
	if problems := d.validate(); len(problems) > 0 {
		for n := range problems {
			p := &problems[n]
			at := r.places[place{p.Object, p.Field}]
			if at == nil {
				at = r.places[place{p.Object, ""}]
			}
			if at != nil {
				p.Line, p.Column = at.line, at.column
			}
		}
		return nil, nil, problems.sorted()
	}
	if d, err = d.sided(r.there); err != nil {
		return nil, nil, err
	}
	lines := map[ID]int{}
	for at, n := range r.places {
		if at.field == "" {
			lines[at.object] = n.line
		}
	}
	return d, lines, nil
}

type place struct {
	object ID
	field  string
}

type reader struct {
	problems Problems
	objects  []*Object
	nodes    []*node // of objects, at the same index
	places   map[place]*node
	byPath   map[string][]*Object
	there    *Design // what is built, where the file says it
}

func (r *reader) problem(subject string, n *node, field, why, want string) {
	if len(r.problems) <= maxProblems {
		r.problems = append(
			r.problems, Problem{Subject: subject, Field: field, Line: n.line, Column: n.column, Why: why, Want: want},
		)
	}
}

func (r *reader) read(root *node) *Design {
	if root.shape != mapping {
		r.problem(
			"", root, "", "the file holds "+root.shape.String(), "a design file begins with the line \"dravin: 1\"",
		)
		return nil
	}
	version := root.get("dravin")
	if version == nil {
		r.problem("", root, "dravin", "is missing", "a design file begins with the line \"dravin: 1\"")
		return nil
	}
	if version.text != strconv.Itoa(FileVersion) {
		r.problem(
			"", version, "dravin", fmt.Sprintf("version %q can not be read", version.text),
			fmt.Sprintf("this Dravin reads version %d", FileVersion),
		)
		return nil
	}
	name := ""
	if n := root.get("name"); n != nil {
		name = n.text
	}
	known := []string{"dravin", "name", keyBuilt}
	for _, s := range specs {
		if len(s.parents) == 0 {
			known = append(known, s.collection)
		}
	}
	for _, f := range root.fields {
		if !slices.Contains(known, f.key) {
			r.problem(
				"", &node{line: f.line, column: f.column}, f.key, "is not known here",
				"known are "+strings.Join(known, ", "),
			)
		}
	}
	r.collections(root, nil, "")
	for n, o := range r.objects {
		r.body(o, r.nodes[n])
	}
	d := New(name, r.objects)
	there := root.get(keyBuilt)
	if there == nil || len(r.problems) > 0 {
		return d
	}
	r.there = r.builtFrom(there, d)
	return d
}

// collections reads every list of objects that may stand in n.
func (r *reader) collections(n *node, parent *Object, path string) {
	for _, s := range specs {
		if !s.fits(parent) {
			continue
		}
		items := n.get(s.collection)
		if items == nil || items.shape == null {
			continue
		}
		if items.shape != list {
			r.problem("", items, join(path, s.collection), "is "+items.shape.String(), "a list is needed")
			continue
		}
		for _, item := range items.items {
			r.object(item, s, parent, path)
		}
	}
}

func (s *spec) fits(parent *Object) bool {
	if parent == nil {
		return len(s.parents) == 0
	}
	return slices.Contains(s.parents, parent.Kind)
}

func (r *reader) object(n *node, s *spec, parent *Object, path string) {
	if n.shape != mapping {
		r.problem(string(s.kind), n, "", "is "+n.shape.String(), "a mapping with a name is needed")
		return
	}
	name := n.get("name")
	if name == nil || name.shape != scalar || Slug(name.text) == "" {
		r.problem(
			string(s.kind)+" in "+orTop(path), n, "name", "is missing",
			"every "+string(s.kind)+" needs a name with a letter or digit",
		)
		return
	}
	full := strings.TrimPrefix(path+"/"+Slug(name.text), "/")
	o := &Object{Kind: s.kind, Name: name.text}
	if parent != nil {
		o.Parent = parent.ID
	}
	for _, first := range r.byPath[full] {
		if scope(first) == scope(o) {
			r.problem(
				string(s.kind)+" "+full, name, "name",
				fmt.Sprintf(
					"the name %q is taken by the %s %q in line %d", name.text, first.Kind, first.Name,
					r.places[place{first.ID, "name"}].line,
				),
				"names beside each other must differ in letters or digits",
			)
			return
		}
	}
	o.ID = IDFor(s.kind, full)
	r.objects, r.nodes = append(r.objects, o), append(r.nodes, n)
	r.places[place{o.ID, ""}] = n
	r.places[place{o.ID, "name"}] = name
	r.byPath[full] = append(r.byPath[full], o)
	r.collections(n, o, full)
}

func orTop(path string) string {
	if path == "" {
		return "the file"
	}
	return path
}

// IDFor derives an ID from a kind and a text.
func IDFor(k Kind, text string) ID {
	sum := sha256.Sum256([]byte(string(k) + "\x00" + text))
	return ID(strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:16]))
}

// sided is the estate of a design as a file has it, with what the file says is built; nil: by its states.
func (d *Design) sided(there *Design) (*Design, error) {
	if there == nil {
		return Divided(d), nil
	}
	var plans []Edit
	for _, o := range d.all {
		if plan := asPlanned(o); plan != o {
			plans = append(plans, PutEdit(plan))
		}
	}
	out := d.Sketch(plans).WithBuilt(there)
	if problems := out.built.validate(); len(problems) > 0 {
		for n := range problems {
			problems[n].Subject = keyBuilt + ": " + problems[n].Subject
		}
		return nil, problems.sorted()
	}
	return out, nil
}

func (r *reader) body(o *Object, n *node) {
	s := specOf(o.Kind)
	also := []string{"name"}
	for _, c := range specs {
		if c.fits(o) {
			also = append(also, c.collection)
		}
	}
	body := reflect.New(s.body)
	d := r.decoder(o)
	d.placed = func(field string, n *node) { r.places[place{o.ID, field}] = n }
	d.mappingInto(n, "", body.Elem(), also)
	o.Body = body.Interface().(Body)
}

// decoder reads what an object says, references as paths.
func (r *reader) decoder(o *Object) *decoder {
	subject := string(o.Kind) + " " + o.Name
	return &decoder{
		problem: func(n *node, field, why, want string) { r.problem(subject, n, field, why, want) },
		resolve: func(n *node, field, text string, kinds []Kind) Ref {
			var fit []*Object
			for _, c := range r.byPath[strings.ToLower(strings.TrimSpace(text))] {
				if slices.Contains(kinds, c.Kind) {
					fit = append(fit, c)
				}
			}
			if len(fit) == 1 {
				return fit[0].ID
			}
			if len(r.problems) <= maxProblems { // looking for what was meant takes long
				r.problem(
					subject, n, field, fmt.Sprintf("no %s has the path %s", wordsOf(kinds), shown(text)),
					r.suggest(text, kinds),
				)
			}
			return ""
		},
	}
}

// suggest names the paths that a wrong reference may have meant.
func (r *reader) suggest(text string, kinds []Kind) string {
	var close, all []string
	last := Slug(text[strings.LastIndexByte(text, '/')+1:])
	for path, objects := range r.byPath {
		for _, o := range objects {
			if slices.Contains(kinds, o.Kind) {
				all = append(all, path)
				if Slug(o.Name) == last {
					close = append(close, path)
				}
			}
		}
	}
	if len(close) > 0 {
		all = close
	}
	if len(all) == 0 {
		return "the file has no " + wordsOf(kinds)
	}
	slices.Sort(all)
	return "there is " + strings.Join(all[:min(len(all), 5)], ", ")
}

func wordsOf(kinds []Kind) string { return joined(kinds, Word) }

func joined(kinds []Kind, word func(Kind) string) string {
	words := make([]string, len(kinds))
	for n, k := range kinds {
		words[n] = word(k)
	}
	return strings.Join(words, " or ")
}

// anyKind asks for a kind, by the codes of all.
func anyKind() string {
	return "use one of " + joined(Kinds(), func(k Kind) string { return string(k) })
}

// one is a word with the article that goes before it.
func one(word string) string {
	if strings.ContainsAny(word[:1], "aeio") {
		return "an " + word
	}
	return "a " + word
}

// notUTF8 finds the first byte that belongs to no character.
func notUTF8(file []byte) (line, column int, found bool) {
	if utf8.Valid(file) {
		return 0, 0, false
	}
	for n := 0; n < len(file); {
		r, size := utf8.DecodeRune(file[n:])
		if r == utf8.RuneError && size == 1 {
			begin := bytes.LastIndexByte(file[:n], '\n') + 1
			return bytes.Count(file[:n], []byte{'\n'}) + 1, utf8.RuneCount(file[begin:n]) + 1, true
		}
		n += size
	}
	return 0, 0, false
}

// parseYAML turns a file into nodes. Anchors, aliases, tags and merge keys are
// refused: a design file has no use for them, and they can make a small file
// mean an enormous one.
func parseYAML(file []byte) (*node, error) {
	one := func(line, column int, why, want string) error {
		return Problems{{Line: line, Column: column, Why: why, Want: want}}
	}
	if len(file) > MaxFileBytes {
		return nil, one(
			1, 1, fmt.Sprintf("the file has more than %d MiB", MaxFileBytes>>20),
			"split the estate, or bring the data in as CSV",
		)
	}
	if marks, line := marksOf(file); marks > MaxFileMarks {
		return nil, one(
			line, 0, fmt.Sprintf("the file has %d line ends, colons, commas, dashes and brackets up to here", marks),
			fmt.Sprintf("a design file may have %d; bring the stock in as CSV", MaxFileMarks),
		)
	}
	if line, column, ok := tooDeep(file); ok {
		return nil, one(
			line, column, "the file is nested too deeply",
			fmt.Sprintf("a design file nests at most %d levels", maxDepth),
		)
	}
	if line := tooManyKeys(file); line > 0 {
		return nil, one(
			line, 0, fmt.Sprintf("a mapping has more than %d keys", maxKeys),
			"what there are many of stands in a list, each behind a dash",
		)
	}
	if n := bytes.IndexByte(file, 0); n >= 0 {
		line := bytes.Count(file[:n], []byte{'\n'}) + 1
		return nil, one(
			line, n-bytes.LastIndexByte(file[:n], '\n'), "the file is not text", "a design file is YAML in UTF-8",
		)
	}
	if line, column, ok := notUTF8(file); ok {
		return nil, one(line, column, "the file is not in UTF-8", "save it as UTF-8")
	}
	tree, err := parser.ParseBytes(bytes.TrimPrefix(file, []byte("\ufeff")), 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) && syntax.Token != nil {
			at := syntax.Token.Position
			return nil, one(
				at.Line, at.Column, "this is not YAML: "+syntax.Message,
				"check the indentation, the colons and the quotes here",
			)
		}
		return nil, one(1, 1, "this is not YAML", "a design file begins with the line \"dravin: 1\"")
	}
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return nil, one(1, 1, "the file is empty", "a design file begins with the line \"dravin: 1\"")
	}
	if len(tree.Docs) > 1 && tree.Docs[1].Body != nil {
		at := tree.Docs[1].Body.GetToken().Position
		return nil, one(at.Line, at.Column, "a second YAML document begins", "one file holds one design")
	}
	c := converter{}
	root := c.node(tree.Docs[0].Body, 0)
	if len(c.problems) > 0 {
		return nil, c.problems.sorted()
	}
	return root, nil
}

// tooManyKeys is the line on which a mapping has more keys than any may have; 0 if none has. Keys on lines of their own
// are told by how far they are set in, those in braces by the colons between these. What stands in texts is counted,
// too.
func tooManyKeys(file []byte) int {
	type block struct{ column, keys int }
	var open []block
	var flow []int // colons, by brace
	line := 0
	for text := range bytes.Lines(file) {
		line++
		bare := bytes.TrimLeft(text, " ")
		column := len(text) - len(bare)
		for len(bare) > 1 && bare[0] == '-' && bare[1] == ' ' { // an entry begins a mapping of its own
			rest := bytes.TrimLeft(bare[1:], " ")
			for len(open) > 0 && open[len(open)-1].column > column {
				open = open[:len(open)-1]
			}
			column += len(bare) - len(rest)
			bare = rest
		}
		if len(flow) == 0 && bytes.IndexByte(bare, ':') > 0 && bare[0] != '#' {
			for len(open) > 0 && open[len(open)-1].column > column {
				open = open[:len(open)-1]
			}
			if len(open) == 0 || open[len(open)-1].column < column {
				open = append(open, block{column: column})
			}
			if open[len(open)-1].keys++; open[len(open)-1].keys > maxKeys {
				return line
			}
		}
		for _, c := range bare {
			switch {
			case c == '{' && len(flow) < maxDepth:
				flow = append(flow, 0)
			case c == '}' && len(flow) > 0:
				flow = flow[:len(flow)-1]
			case c == ':' && len(flow) > 0:
				if flow[len(flow)-1]++; flow[len(flow)-1] > 4*maxKeys { // an address of IPv6 has seven
					return line
				}
			}
		}
	}
	return 0
}

// marksOf counts what makes a file large for a parser, up to one more than is
// allowed, and the line where that is.
func marksOf(file []byte) (marks, line int) {
	line = 1
	for n, c := range file {
		switch c {
		case '\n':
			line++
			marks++
		case ':', ',', '[', ']', '{', '}', '"', '\'':
			marks++
		case '#':
			marks += 2
		case '-', '?', '&', '*', '!', '|', '>':
			if n == 0 || file[n-1] == ' ' || file[n-1] == '\n' { // inside a word it is a letter
				marks++
			}
		}
		if marks > MaxFileMarks {
			break
		}
	}
	return marks, line
}

// tooDeep looks for nesting that would exhaust the stack of any recursive
// parser, without parsing.
func tooDeep(file []byte) (line, column int, found bool) {
	line, depth, dashes, start := 1, 0, 0, true
	for n, c := range file {
		column++
		switch c {
		case '\n':
			line, column, dashes, start = line+1, 0, 0, true
			continue
		case '[', '{':
			depth++
		case ']', '}':
			depth = max(0, depth-1)
		case '-', '?':
			if start && n+1 < len(file) && file[n+1] == ' ' {
				dashes++
			}
		case ' ':
		default:
			start = false
		}
		if depth > maxDepth || dashes > maxDepth || (start && column > 16*maxDepth) {
			return line, column, true
		}
	}
	return 0, 0, false
}

type converter struct{ problems Problems }

func (c *converter) problem(n ast.Node, why, want string) {
	if len(c.problems) > maxProblems {
		return
	}
	p := Problem{Line: 1, Column: 1, Why: why, Want: want}
	if t := n.GetToken(); t != nil && t.Position != nil {
		p.Line, p.Column = t.Position.Line, t.Position.Column
	}
	c.problems = append(c.problems, p)
}

func (c *converter) node(from ast.Node, depth int) *node {
	out := &node{}
	if from == nil {
		return out
	}
	if t := from.GetToken(); t != nil && t.Position != nil {
		out.line, out.column = t.Position.Line, t.Position.Column
	}
	if depth > maxDepth {
		c.problem(from, "the file is nested too deeply", fmt.Sprintf("a design file nests at most %d levels", maxDepth))
		return out
	}
	switch from := from.(type) {
	case *ast.MappingNode:
		c.fields(out, from.Values, depth)
	case *ast.MappingValueNode:
		c.fields(out, []*ast.MappingValueNode{from}, depth)
	case *ast.SequenceNode:
		out.shape = list
		for _, v := range from.Values {
			out.items = append(out.items, c.node(v, depth+1))
		}
	case *ast.NullNode:
	case *ast.StringNode:
		out.shape, out.text = scalar, from.Value
	case *ast.LiteralNode:
		out.shape, out.text = scalar, from.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		out.shape, out.text = scalar, from.GetToken().Value
	default:
		c.problem(from, "anchors, aliases, tags and merge keys are not used in a design file", "write the value out")
	}
	return out
}

func (c *converter) fields(out *node, values []*ast.MappingValueNode, depth int) {
	out.shape = mapping
	seen := map[string]bool{}
	for n, v := range values {
		key, ok := v.Key.(ast.ScalarNode)
		if !ok || v.Key.IsMergeKey() {
			c.problem(v, "this key is not a plain word", "write the keys out, one by one")
			continue
		}
		text := fmt.Sprint(key.GetValue())
		at := key.GetToken().Position
		if n == 0 {
			out.line, out.column = at.Line, at.Column
		}
		if seen[text] {
			c.problem(v.Key, fmt.Sprintf("%q is given twice", text), "keep one of them")
		}
		seen[text] = true
		out.fields = append(
			out.fields, field{key: text, value: c.node(v.Value, depth+1), line: at.Line, column: at.Column},
		)
	}
}
