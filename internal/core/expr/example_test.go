package expr_test

import (
	"context"
	"errors"
	"fmt"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
)

// A condition is compiled once and matched by as many as there are.
func Example() {
	warm, err := expr.Compile(`body.celsius > 8 && key.startsWith("box-")`)
	if err != nil {
		panic(err)
	}
	matcher := warm.Matcher(context.Background())
	for _, body := range []string{`{"celsius":9.5}`, `{"celsius":4}`, `{"fahrenheit":49}`, `no JSON`} {
		fits, err := matcher.Match(&message.Stored{Message: message.Message{Key: "box-7", Body: []byte(body)}})
		fmt.Println(fits, err)
	}
	// Output:
	// true <nil>
	// false <nil>
	// false <nil>
	// false <nil>
}

// What does not compile says where, and what was perhaps meant.
func ExampleCompile() {
	_, err := expr.Compile("bodi.celsius > 8")
	var wrong *expr.Error
	if errors.As(err, &wrong) {
		fmt.Println(wrong.Column, wrong.Problem)
	}
	// Output:
	// 1 there is no "bodi"
}
