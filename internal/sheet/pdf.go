package sheet

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"github.com/boombuler/barcode/qr"

	"twinshelf/internal/scene"
)

const (
	margin    = 18.0 // millimetres
	foot      = 16.0
	plain     = 9.5 // points
	fine      = 7.5
	head      = 11.5
	lineHigh  = 4.6 // millimetres, of plain text
	labelWide = 28.0
	codeWide  = 24.0
)

// Papers are the sizes that are printed on.
var Papers = []string{"A4", "Letter"}

// PDF gives the sheet as a document. The same case at the same time gives the same bytes.
func (s Sheet) PDF() ([]byte, error) { return s.ofCase("Job sheet", s.Blocks()) }

// ofCase is a paper on the case.
func (s Sheet) ofCase(kind string, blocks []Block) ([]byte, error) {
	return s.pdf(strings.TrimSpace(kind+" "+s.Job.Number), kind+" "+s.Job.Title(), s.Job.ID, blocks)
}

// pdf prints blocks under the shop's head: kind stands at the top, title at the foot, and subject is its ID.
func (h Head) pdf(kind, title, subject string, blocks []Block) ([]byte, error) {
	if err := CheckShop(h.Shop); err != nil {
		return nil, err
	}
	p := newPages(h, kind, title, subject)
	for _, b := range blocks {
		p.block(b)
	}
	var out bytes.Buffer
	if err := p.pdf.Output(&out); err != nil {
		return nil, fmt.Errorf("the sheet can't be made: %w", err)
	}
	return out.Bytes(), nil
}

// pages are what is being printed.
type pages struct {
	pdf  *fpdf.Fpdf
	wide float64 // of the text
	end  float64 // of the text on a page
}

func newPages(h Head, kind, title, subject string) *pages {
	size := h.Shop.Paper
	if size == "" {
		size = Papers[0]
	}
	f := fpdf.New("P", "mm", size, "")
	begin(f, title, h.Made)
	f.SetSubject(subject, true)
	f.SetAuthor(h.Shop.Name, true)
	f.AliasNbPages("{nb}")
	wide, high := f.GetPageSize()
	p := &pages{f, wide - 2*margin, high - foot - 4}
	f.SetFooterFunc(func() {
		p.font(fine, false)
		f.SetTextColor(0x55, 0x5C, 0x68)
		p.write(margin, high-foot+3, scene.Fit(title, fine, false, p.wide-30), "L")
		p.write(margin+p.wide-22, high-foot+3, fmt.Sprintf("page %d of {nb}", f.PageNo()), "L")
		f.SetTextColor(0, 0, 0)
	})
	f.AddPage()
	p.letterhead(h, kind)
	return p
}

// begin gives a document its fonts, its title and its time: the same contents give the same bytes.
func begin(f *fpdf.Fpdf, title string, made time.Time) {
	regular, bold := scene.Fonts()
	f.AddUTF8FontFromBytes("text", "", regular)
	f.AddUTF8FontFromBytes("text", "B", bold)
	f.SetMargins(margin, margin, margin)
	f.SetAutoPageBreak(false, foot)
	f.SetTitle(title, true)
	f.SetCreator("Twin Shelf", true)
	f.SetCreationDate(made)
	f.SetModificationDate(made)
	f.SetCatalogSort(true)
}

// drawingPDF is a drawing on a page of its size.
func drawingPDF(s *scene.Scene, made time.Time) ([]byte, error) {
	f := fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: fpdf.SizeType{Wd: s.W + 2*margin, Ht: s.H + 2*margin}})
	begin(f, s.Title, made)
	f.AddPage()
	p := &pages{f, s.W, s.H + 2*margin}
	p.drawing(s)
	var out bytes.Buffer
	if err := f.Output(&out); err != nil {
		return nil, fmt.Errorf("the drawing can't be made: %w", err)
	}
	return out.Bytes(), nil
}

// letterhead is who made the paper, and what it is.
func (p *pages) letterhead(h Head, kind string) {
	top := p.pdf.GetY()
	p.font(15, true)
	p.write(margin, top+6, scene.Fit(kind, 15, true, p.wide/2), "R")
	p.font(fine, false)
	p.write(margin, top+11, "printed "+h.Dates.Minute(h.Made), "R")
	x, y, bottom := margin, top+6, top+13
	if h.Logo != nil {
		w, high := p.logo(h.Logo, margin, top)
		x += w + 4
		bottom = top + high + 3
	}
	room := margin + p.wide/2 - x
	if h.Shop.Name != "" {
		p.font(head, true)
		for _, l := range scene.Wrap(h.Shop.Name, head, true, room) {
			p.write(x, y, l, "L")
			y += lineHigh + 0.6
		}
	}
	p.font(fine, false)
	for _, address := range h.Shop.Address {
		for _, l := range scene.Wrap(address, fine, false, room) {
			if l != "" {
				p.write(x, y, l, "L")
				y += 3.6
			}
		}
	}
	y = max(y, bottom)
	p.pdf.Line(margin, y, margin+p.wide, y)
	p.pdf.SetY(y + 3)
}

const (
	logoWide = 45.0 // millimetres, at the most
	logoHigh = 16.0
)

// logo prints the shop's picture, and gives how large it is.
func (p *pages) logo(l *Logo, x, y float64) (w, h float64) {
	w, h = l.within(logoWide, logoHigh)
	as := fpdf.ImageOptions{ImageType: "PNG"}
	p.pdf.RegisterImageOptionsReader("logo", as, bytes.NewReader(l.png))
	p.pdf.ImageOptions("logo", x, y, w, h, false, as, 0, "")
	return w, h
}

func (p *pages) font(size float64, bold bool) {
	style := ""
	if bold {
		style = "B"
	}
	p.pdf.SetFont("text", style, size)
}

// write puts a line of text at a base line: at the left, or ending at the right margin.
func (p *pages) write(x, y float64, words, side string) {
	if side == "R" {
		x = margin + p.wide - p.pdf.GetStringWidth(words)
	}
	p.pdf.Text(x, y, words)
}

// room makes sure that so many millimetres are left on the page.
func (p *pages) room(high float64) {
	if p.pdf.GetY()+high > p.end {
		p.pdf.AddPage()
		p.pdf.SetY(margin)
	}
}

func (p *pages) block(b Block) {
	switch {
	case b.Page:
		p.pdf.AddPage()
		p.pdf.SetY(margin)
	case b.Heading != "":
		p.room(30) // with what it is the heading of
		p.pdf.SetY(p.pdf.GetY() + 3)
		p.lines(b.Heading, head, true, 0, 5.4)
		p.pdf.SetY(p.pdf.GetY() + 1)
	case b.Alarm != "":
		p.alarm(b.Alarm)
	case b.Text != "":
		p.lines(b.Text, plain, false, 0, lineHigh)
	case b.Facts != nil:
		p.facts(b.Facts)
	case b.Table != nil:
		p.table(b.Table)
	case b.Drawing != nil:
		p.drawing(scene.Disks("Before and after", p.wide, b.Drawing, true))
	case b.Code != "":
		p.code(b.Code)
	case b.Sign != nil:
		p.sign(b.Sign)
	}
}

// lines prints a text over as many lines as it takes, from so many millimetres on.
func (p *pages) lines(words string, size float64, bold bool, from, high float64) {
	for _, l := range scene.Wrap(words, size, bold, p.wide-from) {
		p.room(high)
		p.font(size, bold)
		p.write(margin+from, p.pdf.GetY()+high-1.2, l, "L")
		p.pdf.SetY(p.pdf.GetY() + high)
	}
}

func (p *pages) alarm(words string) {
	p.room(2 * lineHigh)
	p.pdf.SetY(p.pdf.GetY() + 1.5)
	top, page := p.pdf.GetY(), p.pdf.PageNo()
	p.lines("‼ "+words, plain, true, 3, lineHigh)
	if p.pdf.PageNo() == page {
		p.pdf.SetLineWidth(0.8)
		p.pdf.Line(margin+0.5, top, margin+0.5, p.pdf.GetY())
		p.pdf.SetLineWidth(0.2)
	}
	p.pdf.SetY(p.pdf.GetY() + 1)
}

func (p *pages) facts(facts [][2]string) {
	last := ""
	for _, f := range facts {
		lines := scene.Wrap(f[1], plain, false, p.wide-labelWide)
		for i, l := range lines {
			p.room(lineHigh)
			y := p.pdf.GetY() + lineHigh - 1.2
			if i == 0 && f[0] != last {
				p.font(plain, true)
				p.write(margin, y, scene.Fit(f[0], plain, true, labelWide-2), "L")
			}
			p.font(plain, false)
			p.write(margin+labelWide, y, l, "L")
			p.pdf.SetY(p.pdf.GetY() + lineHigh)
		}
		last = f[0]
	}
	p.pdf.SetY(p.pdf.GetY() + 1)
}

func (p *pages) table(t *Table) {
	p.room(4 * lineHigh)
	p.row(t, t.Head, true)
	for _, r := range t.Rows {
		if p.pdf.GetY()+2*lineHigh > p.end {
			p.room(p.end)
			p.row(t, t.Head, true)
		}
		p.row(t, r, false)
	}
	p.pdf.SetY(p.pdf.GetY() + 2)
}

// row prints a row; texts that are longer than their column take more lines.
func (p *pages) row(t *Table, cells []string, bold bool) {
	const size, gap = 8.5, 2.0
	wrapped := make([][]string, len(cells))
	most := 1
	for i, c := range cells {
		wrapped[i] = scene.Wrap(c, size, bold, t.Shares[i]*p.wide-gap)
		most = max(most, len(wrapped[i]))
	}
	for k := range most {
		p.room(lineHigh)
		p.font(size, bold)
		x, y := margin, p.pdf.GetY()+lineHigh-1.2
		for i := range cells {
			wide := t.Shares[i] * p.wide
			if k < len(wrapped[i]) {
				at := x
				if t.Right[i] {
					at = x + wide - gap - p.pdf.GetStringWidth(wrapped[i][k])
				}
				p.pdf.Text(at, y, wrapped[i][k])
			}
			x += wide
		}
		p.pdf.SetY(p.pdf.GetY() + lineHigh)
	}
	p.pdf.SetLineWidth(0.1)
	if bold {
		p.pdf.SetLineWidth(0.4)
	}
	p.pdf.Line(margin, p.pdf.GetY(), margin+p.wide, p.pdf.GetY())
	p.pdf.SetLineWidth(0.2)
}

// drawing prints a scene as it is.
func (p *pages) drawing(s *scene.Scene) {
	p.room(s.H + 2)
	x0, y0 := margin, p.pdf.GetY()+1
	for _, q := range s.Shapes {
		style := ""
		if q.Fill != nil {
			p.pdf.SetFillColor(int(q.Fill.R), int(q.Fill.G), int(q.Fill.B))
			style = "F"
		}
		if q.Line != nil {
			p.pdf.SetDrawColor(int(q.Line.R), int(q.Line.G), int(q.Line.B))
			p.pdf.SetLineWidth(q.Width)
			style += "D"
		}
		p.pdf.SetDashPattern(q.Dash, 0)
		for i, at := range q.Points {
			if i == 0 {
				p.pdf.MoveTo(x0+at.X, y0+at.Y)
				continue
			}
			p.pdf.LineTo(x0+at.X, y0+at.Y)
		}
		if q.Closed {
			p.pdf.ClosePath()
		}
		p.pdf.DrawPath(style)
	}
	for _, t := range s.Texts {
		p.font(t.Size, t.Bold)
		p.pdf.SetTextColor(int(t.Ink.R), int(t.Ink.G), int(t.Ink.B))
		before := p.pdf.GetStringWidth(t.Words) * [...]float64{scene.Left: 0, scene.Middle: 0.5, scene.Right: 1}[t.Side]
		if t.Turned {
			p.pdf.TransformBegin()
			p.pdf.TransformRotate(90, x0+t.X, y0+t.Y)
		}
		p.pdf.Text(x0+t.X-before, y0+t.Y, t.Words)
		if t.Turned {
			p.pdf.TransformEnd()
		}
	}
	p.pdf.SetDashPattern(nil, 0)
	p.pdf.SetTextColor(0, 0, 0)
	p.pdf.SetDrawColor(0, 0, 0)
	p.pdf.SetLineWidth(0.2)
	p.pdf.SetY(y0 + s.H + 2)
}

// code prints a text beside a square that says the same.
func (p *pages) code(words string) {
	p.room(codeWide + 3)
	y := p.pdf.GetY() + 1
	if !p.square(words, margin, y, codeWide) { // too long for one: the text is there
		p.lines(words, plain, true, 0, lineHigh)
		return
	}
	p.font(plain, true)
	p.write(margin+codeWide+3, y+codeWide/2+1.2, words, "L")
	p.pdf.SetY(y + codeWide + 2)
}

// square prints a text as a square that can be scanned; false where it is too long for one.
func (p *pages) square(words string, x, y, side float64) bool {
	square, err := qr.Encode(words, qr.M, qr.Auto)
	if err != nil {
		return false
	}
	n := square.Bounds().Dx()
	cell := side / float64(n+8) // with the quiet zone around it
	p.pdf.SetFillColor(0, 0, 0)
	for i := range n {
		for k := range n {
			if r, _, _, _ := square.At(i, k).RGBA(); r == 0 {
				p.pdf.Rect(x+cell*float64(i+4), y+cell*float64(k+4), cell, cell, "F")
			}
		}
	}
	return true
}

// sign prints lines for signatures, side by side.
func (p *pages) sign(who []string) {
	p.room(26)
	y := p.pdf.GetY() + 18
	wide := p.wide / float64(len(who))
	for i, w := range who {
		x := margin + float64(i)*wide
		p.pdf.Line(x, y, x+wide-8, y)
		p.font(fine, false)
		p.write(x, y+4, scene.Printable(w)+", date", "L")
	}
	p.pdf.SetY(y + 7)
}
