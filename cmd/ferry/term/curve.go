package term

var sparkShapes = []rune("▁▂▃▄▅▆▇█")

// Spark draws values as a line of bars.
func Spark(values []float64) string {
	most := 0.0
	for _, f := range values {
		most = max(most, f)
	}
	out := make([]rune, 0, len(values))
	for _, f := range values {
		step := 0
		if most > 0 {
			step = int(f / most * float64(len(sparkShapes)-1))
		}
		out = append(out, sparkShapes[step])
	}
	return string(out)
}

// curveSteps is how many steps a curve has that is shown.
const curveSteps = 60

// Curve draws figures in no more steps than fit, the most of each; what is not known stays
// empty.
func Curve(figures []*float64) string {
	steps := min(len(figures), curveSteps)
	known, most := make([]bool, steps), make([]float64, steps)
	for i, f := range figures {
		if at := i * steps / len(figures); f != nil {
			known[at], most[at] = true, max(most[at], *f)
		}
	}
	drawn := []rune(Spark(most))
	for i := range drawn {
		if !known[i] {
			drawn[i] = ' '
		}
	}
	return string(drawn)
}
