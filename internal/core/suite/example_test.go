package suite_test

import (
	"context"
	"fmt"

	"eagerwindow/internal/core/contract"
	"eagerwindow/internal/core/jsontree"
	"eagerwindow/internal/core/suite"
)

// A suite runs over whatever sends its requests; what came is accepted, and it holds the next time.
func Example() {
	text := []byte(`arazzo: 1.0.1
info: {title: Tugs, version: 1.0.0}
sourceDescriptions: [{name: harbour, url: openapi.json, type: openapi}]
workflows:
  - workflowId: bram
    steps:
      - stepId: read
        operationId: get-tug
        parameters: [{name: id, in: path, value: 1}]
        successCriteria: [{condition: $response.body#/name == 'Bran'}] # as on the bow
`)
	description, _ := jsontree.Parse([]byte(`{"openapi": "3.1.0", "paths": {"/tugs/{id}":
		{"get": {"operationId": "get-tug", "responses": {"200": {"description": "A tug."}}}}}}`))
	described, err := contract.New(description.(*jsontree.Object))
	if err != nil {
		panic(err)
	}
	send := func(_ context.Context, r suite.Request) (suite.Answer, error) {
		fmt.Println(r.Method, r.Path)
		return suite.Answer{Status: 200, Body: []byte(`{"id": 1, "name": "Bram"}`)}, nil
	}
	for range 2 {
		read, err := suite.Parse(text)
		if err != nil {
			panic(err)
		}
		results, err := read.Run(context.Background(), suite.Options{Name: "tugs", Contract: described, Send: send})
		if err != nil {
			panic(err)
		}
		fmt.Println(results[0].Check, results[0].Passed, results[0].Failure)
		for _, a := range results[0].Amendments {
			fmt.Printf("line %d: %s\n", a.Line, a.To)
		}
		if text, err = suite.Amend(text, results[0].Amendments); err != nil {
			panic(err)
		}
	}
	// Output:
	// GET tugs/1
	// bram false does not hold: $response.body#/name == 'Bran'; $response.body#/name is Bram
	// line 10: $response.body#/name == 'Bram'
	// GET tugs/1
	// bram true
}
