// Command growth draws how long commands take by the number of devices: growth FIGURES.csv PICTURE.png,
// from a table of what, devices, seconds as .ci/measure writes it. It is a module of its own, so that
// the program needs nothing of a plotting library.
package main

import (
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/plotutil"
	"gonum.org/v1/plot/vg"
)

// draw draws how long each command takes by the number of devices: a line for each command, from
// a table of what, devices, seconds.
func draw(from, to string) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	var order []string
	lines := map[string]plotter.XYs{}
	for i, r := range rows {
		if len(r) != 3 {
			return fmt.Errorf("%s:%d: say what, devices, seconds", from, i+1)
		}
		x, errX := strconv.ParseFloat(r[1], 64)
		y, errY := strconv.ParseFloat(r[2], 64)
		if errX != nil || errY != nil {
			if i == 0 {
				continue // its heads
			}
			return fmt.Errorf("%s:%d: %w", from, i+1, errors.Join(errX, errY))
		}
		if lines[r[0]] == nil {
			order = append(order, r[0])
		}
		lines[r[0]] = append(lines[r[0]], plotter.XY{X: x, Y: y})
	}
	p := plot.New()
	p.Title.Text = "Time by the number of devices, program and bench on the same two cores"
	p.X.Label.Text, p.Y.Label.Text = "devices", "seconds"
	p.X.Min, p.Y.Min = 0, 0
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	for i, what := range order {
		points := lines[what]
		slices.SortFunc(points, func(a, b plotter.XY) int { return int(a.X - b.X) })
		line, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return err
		}
		line.Color, dots.Color, dots.Shape = plotutil.Color(i), plotutil.Color(i), plotutil.Shape(i)
		p.Add(line, dots)
		p.Legend.Add(what, line, dots)
	}
	return p.Save(24*vg.Centimeter, 15*vg.Centimeter, to)
}

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "growth: say growth FIGURES.csv PICTURE.png")
		os.Exit(1)
	}
	if err := draw(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "growth:", err)
		os.Exit(1)
	}
}
