package paper

import (
	"bytes"
	"io"
	"strconv"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"

	"inkpost.example/inkpost/internal/core/sheet"
	"inkpost.example/inkpost/internal/core/site"
)

// The page, in millimetres.
const (
	margin   = 14.0
	pageWide = 210.0
	pageHigh = 297.0
	wide     = pageWide - 2*margin
	lineHigh = 4.2
	codeWide = 26.0
	cardHigh = 36.0
)

// pdf is a page that is being drawn on.
type pdf struct{ *fpdf.Fpdf }

// asPDF prints a sheet on A4.
func asPDF(w io.Writer, s sheet.Sheet, h Head) error {
	p := pdf{fpdf.New("P", "mm", "A4", "")}
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, margin)
	p.SetCellMargin(0)
	p.SetCatalogSort(true)
	p.AddUTF8FontFromBytes("text", "", goregular.TTF)
	p.AddUTF8FontFromBytes("text", "B", gobold.TTF)
	p.SetCreationDate(s.At)
	p.SetModificationDate(s.At)
	p.SetTitle(s.Title(), true)
	p.SetFooterFunc(func() {
		p.SetY(-margin + 3)
		p.faded(7)
		p.CellFormat(wide, 4, s.Title()+", "+h.Line(s)+", page "+strconv.Itoa(p.PageNo()), "", 0, "L", false, 0, "")
	})
	p.AddPage()
	if err := p.head(s, h); err != nil {
		return err
	}
	if len(h.Banner) > 0 {
		p.section("How it is now")
		p.lines(h.Banner)
	}
	if len(h.Changes) > 0 {
		p.section(h.since())
		p.lines(h.Changes)
	}
	for _, x := range s.Sections() {
		if len(x.Cards) > 0 {
			p.room(cardHigh + 12) // a title does not stand alone at the end of a page
		}
		p.section(x.Title)
		if x.Text != "" {
			p.lines([]string{x.Text})
		}
		if len(x.Rows) > 0 {
			p.table(x.Columns, x.Rows)
		}
		p.cards(x.Cards)
	}
	return p.Output(w)
}

func (p pdf) ink(size float64, style string) {
	p.SetTextColor(0x0E, 0x1B, 0x2C)
	p.SetFont("text", style, size)
}

func (p pdf) faded(size float64) {
	p.SetTextColor(0x55, 0x62, 0x73)
	p.SetFont("text", "", size)
}

// head prints the site's code and name, and beside them a QR code of its page.
func (p pdf) head(s sheet.Sheet, h Head) error {
	p.SetLineWidth(1)
	p.Line(margin, margin, margin+wide, margin)
	p.SetY(margin + 3)
	p.ink(26, "B")
	p.CellFormat(wide-codeWide, 11, s.Code, "", 1, "L", false, 0, "")
	p.ink(13, "B")
	p.MultiCell(wide-codeWide-4, 6, s.Name, "", "L", false)
	p.faded(8)
	p.MultiCell(wide-codeWide-4, 4, h.Line(s), "", "L", false)
	if s.URL == "" {
		return p.Error()
	}
	code, err := codeOf(s.URL)
	if err != nil {
		return err
	}
	p.RegisterImageOptionsReader("code", fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(code.PNG()))
	p.ImageOptions("code", margin+wide-codeWide, margin+2, codeWide, codeWide, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, s.URL)
	p.SetY(max(p.GetY(), margin+2+codeWide))
	return p.Error()
}

// room begins a new page where less than so much of this one is left.
func (p pdf) room(high float64) {
	if p.GetY()+high > pageHigh-margin {
		p.AddPage()
	}
}

func (p pdf) section(title string) {
	p.Ln(3)
	p.room(18)
	p.SetLineWidth(0.8)
	p.Line(margin, p.GetY(), margin+wide, p.GetY())
	p.Ln(1)
	p.ink(11, "B")
	p.CellFormat(wide, 6, title, "", 1, "L", false, 0, "")
}

func (p pdf) lines(list []string) {
	p.ink(9, "")
	for _, l := range list {
		p.MultiCell(wide, lineHigh, l, "", "L", false)
	}
}

// table prints rows whose cells wrap. Every column has room for its longest word; what is left is shared by what is in them.
func (p pdf) table(columns []string, rows [][]string) {
	widths := p.widths(columns, rows)
	p.SetLineWidth(0.2)
	p.row(columns, widths, func() { p.faded(7) })
	for _, r := range rows {
		p.row(r, widths, func() { p.ink(8, "") })
	}
}

func (p pdf) widths(columns []string, rows [][]string) []float64 {
	p.ink(8, "")
	least, most := make([]float64, len(columns)), make([]float64, len(columns))
	var leastSum, mostSum float64
	for i, c := range columns {
		for _, cell := range append([]string{c}, column(rows, i)...) {
			most[i] = max(most[i], p.GetStringWidth(cell)+3)
			for _, word := range strings.Fields(cell) {
				least[i] = max(least[i], min(p.GetStringWidth(word)+3, wide/3.5))
			}
		}
		leastSum, mostSum = leastSum+least[i], mostSum+most[i]
	}
	if leastSum >= wide || mostSum <= wide { // too little room for whole words, or enough for everything
		for i := range most {
			most[i] *= wide / mostSum
		}
		return most
	}
	for i := range least {
		least[i] += (most[i] - least[i]) * (wide - leastSum) / (mostSum - leastSum)
	}
	return least
}

func column(rows [][]string, i int) []string {
	out := make([]string, len(rows))
	for k, r := range rows {
		out[k] = r[i]
	}
	return out
}

func (p pdf) row(cells []string, widths []float64, font func()) {
	font()
	split, high := make([][]string, len(cells)), 1
	for i, c := range cells {
		split[i] = append(split[i], p.SplitText(c, widths[i]-2)...)
		high = max(high, len(split[i]))
	}
	tall := float64(high)*lineHigh + 1
	p.room(tall)
	font()
	x, y := margin, p.GetY()
	for i := range cells {
		p.Rect(x, y, widths[i], tall, "D")
		for k, line := range split[i] {
			p.SetXY(x+1, y+0.5+float64(k)*lineHigh)
			p.CellFormat(widths[i]-2, lineHigh, line, "", 0, "L", false, 0, "")
		}
		x += widths[i]
	}
	p.SetXY(margin, y+tall)
}

// cards prints what stands in routers, two beside each other.
func (p pdf) cards(list []site.Card) {
	const gap = 4.0
	half := (wide - gap) / 2
	for i := 0; i < len(list); i += 2 {
		pair := list[i:min(i+2, len(list))]
		high := 0
		for _, c := range pair {
			high = max(high, len(c.Fields)+1)
		}
		tall := float64(high)*lineHigh + 2
		p.room(tall + 2)
		y := p.GetY()
		for k, c := range pair {
			p.card(c, margin+float64(k)*(half+gap), y, half, tall)
		}
		p.SetXY(margin, y+tall+2)
	}
}

func (p pdf) card(c site.Card, x, y, width, tall float64) {
	p.SetLineWidth(0.2)
	p.Rect(x, y, width, tall, "D")
	p.ink(8, "B")
	p.SetXY(x+1, y+1)
	p.CellFormat(width-2, lineHigh, p.fit(c.Title+", "+c.Where, width-2), "", 0, "L", false, 0, "")
	for i, f := range c.Fields {
		p.SetXY(x+1, y+1+float64(i+1)*lineHigh)
		p.faded(7)
		p.CellFormat(28, lineHigh, f.Label, "", 0, "L", false, 0, "")
		p.ink(8, "")
		p.CellFormat(width-30, lineHigh, p.fit(f.Value, width-30), "", 0, "L", false, 0, "")
	}
}

// fit shortens text to a width.
func (p pdf) fit(s string, width float64) string {
	if p.GetStringWidth(s) <= width {
		return s
	}
	r := []rune(s)
	for len(r) > 0 && p.GetStringWidth(string(r)+"…") > width {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}
