package scene

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
)

// SVG gives the drawing as a document of its own. Text stays text.
func (s *Scene) SVG() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" width="%smm" height="%smm" viewBox="0 0 %s %s">`+"\n",
		number(s.W), number(s.H), number(s.W), number(s.H))
	b.WriteString("<title>" + escaped(s.Title) + "</title>\n")
	fmt.Fprintf(&b, `<rect width="%s" height="%s" fill="#ffffff"/>`+"\n", number(s.W), number(s.H))
	for _, p := range s.Shapes {
		b.WriteString(p.svg())
	}
	anchors := [...]string{Left: "start", Middle: "middle", Right: "end"}
	for _, t := range s.Texts {
		weight := "normal"
		if t.Bold {
			weight = "bold"
		}
		turned := ""
		if t.Turned {
			turned = fmt.Sprintf(` transform="rotate(-90 %s %s)"`, number(t.X), number(t.Y))
		}
		fmt.Fprintf(&b,
			`<text x="%s" y="%s"%s font-family="'DejaVu Sans', Verdana, sans-serif" font-size="%s" font-weight="%s" `+
				`text-anchor="%s" fill="%s">%s</text>`+"\n", number(t.X), number(t.Y), turned,
			number(t.Size*perPoint), weight, anchors[t.Side], t.Ink.hex(), escaped(t.Words))
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}

func (p Shape) svg() string {
	var b bytes.Buffer
	b.WriteString("<path d=\"")
	for i, q := range p.Points {
		b.WriteString(map[bool]string{true: "M", false: "L"}[i == 0] + number(q.X) + " " + number(q.Y))
	}
	if p.Closed {
		b.WriteString("Z")
	}
	fill, line := "none", "none"
	if p.Fill != nil {
		fill = p.Fill.hex()
	}
	if p.Line != nil {
		line = p.Line.hex()
	}
	dashes := make([]string, len(p.Dash))
	for i, d := range p.Dash {
		dashes[i] = number(d)
	}
	if len(dashes) > 0 {
		line += `" stroke-dasharray="` + strings.Join(dashes, " ")
	}
	fmt.Fprintf(&b, "\" fill=\"%s\" stroke=\"%s\" stroke-width=\"%s\"/>\n", fill, line, number(p.Width))
	return b.String()
}

func (i Ink) hex() string { return fmt.Sprintf("#%02x%02x%02x", i.R, i.G, i.B) }

// number writes millimetres to the hundredth, whatever the language of the system.
func number(x float64) string { return strconv.FormatFloat(x, 'f', 2, 64) }

func escaped(s string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(s)) // a buffer takes everything
	return b.String()
}
