package term

import (
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Column is one column of a table.
type Column struct {
	Title string
	Right bool // numbers stand at the right
}

// Table writes rows under a quiet head, two spaces in, without lines around
// it; columns without any content are left out.
func (s *Screen) Table(columns []Column, rows [][]string) string {
	var keep []int
	for i := range columns {
		for _, r := range rows {
			if r[i] != "" {
				keep = append(keep, i)
				break
			}
		}
	}
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.Options{}
	style.Box = table.BoxStyle{PaddingLeft: "", PaddingRight: "  "}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	head := table.Row{}
	var configs []table.ColumnConfig
	for n, i := range keep {
		head = append(head, s.Paint(Soft, columns[i].Title))
		c := table.ColumnConfig{Number: n + 1}
		if columns[i].Right {
			c.Align, c.AlignHeader = text.AlignRight, text.AlignRight
		}
		configs = append(configs, c)
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, r := range rows {
		row := table.Row{}
		for _, i := range keep {
			row = append(row, r[i])
		}
		t.AppendRow(row)
	}
	lines := strings.Split(t.Render(), "\n")
	for i, line := range lines {
		lines[i] = "  " + strings.TrimRight(line, " ")
	}
	return strings.Join(lines, "\n")
}
