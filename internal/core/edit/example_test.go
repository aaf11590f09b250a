package edit_test

import (
	"context"
	"fmt"

	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
)

// A list of edits is read once and applied to many messages.
func Example() {
	var edits []edit.Edit
	for _, text := range []string{"rename /temp=/celsius", "set header.source=warm-boxes", "compute /fahrenheit=double(body.temp) * 1.8 + 32.0"} {
		e, err := edit.Parse(text)
		if err != nil {
			panic(err)
		}
		edits = append(edits, e)
	}
	editor, err := edit.NewEditor(edits)
	if err != nil {
		panic(err)
	}
	editing := editor.Begin(context.Background())
	after, err := editing.Apply(&message.Stored{Message: message.Message{Body: []byte(`{"box":"box-7","temp":4.5}`)}}, expr.Facts{})
	fmt.Println(string(after.Body), after.Headers, err)
	_, err = editing.Apply(&message.Stored{Message: message.Message{Body: []byte(`{"box":"box-8"}`)}}, expr.Facts{})
	fmt.Println(err != nil, "when it does not apply")
	// Output:
	// {"box":"box-7","celsius":4.5,"fahrenheit":40.1} [{source warm-boxes}] <nil>
	// true when it does not apply
}
