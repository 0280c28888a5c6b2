package declare

import (
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// form says what a node is.
type form uint8

const (
	nothing  form = iota // null, or no value
	single               // a text on its line, whatever it may mean elsewhere: numbers and days are texts here
	block                // a text of several lines, which ends with a line break of its own
	sequence             // its items are inside
	mapping              // its keys and values are inside, in turn
	wrapped              // a value, inside, with an anchor or tag before it, or the alias that stands for it
	lost                 // an alias of a name, text, that nothing above has
)

// node is a value of a part of a file, and its place in the part.
type node struct {
	form         form
	line, column int32 // from 1; columns count letters
	text         string
	inside       []node
}

// grow makes the tree that the YAML parser finds in a text, nil of an empty one. Of
// several documents all are in a sequence that has no place.
func grow(text string) (*node, error) {
	f, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return nil, err
	}
	g := grower{anchors: map[string]node{}}
	var bodies []node
	for _, d := range f.Docs {
		if d.Body != nil && d.Body.Type() != ast.CommentType {
			bodies = append(bodies, g.node(d.Body))
		}
	}
	switch len(bodies) {
	case 0:
		return nil, nil
	case 1:
		return &bodies[0], nil
	}
	return &node{form: sequence, inside: bodies}, nil
}

type grower struct{ anchors map[string]node }

func (g *grower) node(n ast.Node) node {
	if n == nil || n.GetToken() == nil {
		return node{line: 1, column: 1}
	}
	out := node{}
	tk := n.GetToken()
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 && !m.IsFlowStyle {
		tk = m.Values[0].Key.GetToken() // the mapping's own token is its first colon
	}
	if tk.Position != nil {
		out.line, out.column = int32(tk.Position.Line), int32(tk.Position.Column)
	}
	switch v := n.(type) {
	case *ast.MappingNode:
		out.form = mapping
		for _, p := range v.Values {
			out.inside = append(out.inside, g.node(p.Key), g.node(p.Value))
		}
	case *ast.MappingValueNode:
		out.form, out.inside = mapping, []node{g.node(v.Key), g.node(v.Value)}
	case *ast.SequenceNode:
		out.form = sequence
		for _, item := range v.Values {
			out.inside = append(out.inside, g.node(item))
		}
	case *ast.AnchorNode:
		value := g.node(v.Value)
		g.anchors[v.Name.GetToken().Value] = value
		out.form, out.inside = wrapped, []node{value}
	case *ast.AliasNode:
		name := v.Value.GetToken().Value
		if value, ok := g.anchors[name]; ok {
			out.form, out.inside = wrapped, []node{value}
		} else {
			out.form, out.text = lost, name
		}
	case *ast.TagNode:
		out.form, out.inside = wrapped, []node{g.node(v.Value)}
	case *ast.NullNode:
	case *ast.LiteralNode:
		out.form, out.text = block, v.Value.Value
	case *ast.MappingKeyNode:
		return g.node(v.Value)
	default:
		out.form, out.text = single, tk.Value
	}
	return out
}
