package workbook

import (
	"context"
	"fmt"
	"strconv"
)

// gathering makes rows of cells that come one after the other, in order.
type gathering struct {
	ctx    context.Context
	f      func(*Row) error
	at     Row
	arena  []byte // values of the row at hand
	ends   []int  // of each
	open   bool
	unseen hiddenColumns
	// column is the last that was there, also a blank one; -1 before the first.
	column int
}

// row begins a row.
func (g *gathering) row(n int) error {
	if err := g.end(); err != nil {
		return err
	}
	if n <= g.at.Number || n > MaxRows {
		return fmt.Errorf("row %d follows row %d", n, g.at.Number)
	}
	if n&0xfff == 0 && g.ctx.Err() != nil {
		return g.ctx.Err()
	}
	g.open, g.column, g.at.Hidden = true, -1, false
	g.at.Number, g.at.Cells, g.arena, g.ends = n, g.at.Cells[:0], g.arena[:0], g.ends[:0]
	return nil
}

// begin is where the value of the next cell is appended.
func (g *gathering) begin() []byte { return g.arena }

// cell adds a cell whose value has been appended to what begin gave.
func (g *gathering) cell(c Cell, b []byte) error {
	from := len(g.arena)
	if n := len(g.at.Cells); !g.open || c.Column < 0 || c.Column >= MaxColumns ||
		n > 0 && c.Column <= g.at.Cells[n-1].Column {
		return fmt.Errorf("row %d: the cell %s is out of order", g.at.Number,
			ColumnName(c.Column)+strconv.Itoa(g.at.Number))
	}
	c.Hidden = g.unseen.has(c.Column)
	if g.arena = b; len(b) > longest {
		return fmt.Errorf("row %d has more than %d MiB", g.at.Number, longest>>20)
	}
	if c.Unstored = c.Unstored && len(b) == from; len(b) > from || c.Text || c.Unstored {
		g.at.Cells, g.ends = append(g.at.Cells, c), append(g.ends, len(b))
	}
	return nil
}

// end hands the row over.
func (g *gathering) end() error {
	if !g.open {
		return nil
	}
	g.open = false
	if len(g.at.Cells) == 0 {
		return nil
	}
	from := 0
	for i := range g.at.Cells {
		g.at.Cells[i].Value = g.arena[from:g.ends[i]]
		from = g.ends[i]
	}
	return g.f(&g.at)
}

// hiddenColumns are ranges of columns that are not seen.
type hiddenColumns [][2]int

func (h *hiddenColumns) add(from, to int) {
	if from >= 0 && to >= from && len(*h) < MaxColumns {
		*h = append(*h, [2]int{from, to})
	}
}

func (h hiddenColumns) has(c int) bool {
	for _, x := range h {
		if c >= x[0] && c <= x[1] {
			return true
		}
	}
	return false
}
