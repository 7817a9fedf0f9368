// Command goclient drives the client that oapi-codegen generates from the description: it reads, creates, changes with a version and
// deletes a tug, and prints what became of its pull, which has a decimal.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"log"
	"net/http"
	"os"

	"goclient/client"
)

func main() {
	if err := run(context.Background(), os.Args[1], os.Args[2]); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, url, token string) error {
	api, err := client.NewClientWithResponses(url, client.WithRequestEditorFn(func(_ context.Context, req *http.Request) error {
		req.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	if err != nil {
		return err
	}
	filter := "name eq 'Bram'"
	list, err := api.ListTugsWithResponse(ctx, &client.ListTugsParams{Filter: &filter})
	if err != nil {
		return err
	}
	name := list.JSON200.Value[0].Name
	made, err := api.CreateTugWithResponse(ctx, &client.CreateTugParams{}, client.TugCreate{Name: "Generated", BollardPullT: "1234.5"})
	if err != nil {
		return err
	}
	if made.JSON201 == nil {
		return fmt.Errorf("create: %s", made.Body)
	}
	id, version, pull := *made.JSON201.Id, made.HTTPResponse.Header.Get("ETag"), json.Number("1234.6")
	changed, err := api.ChangeTugWithResponse(ctx, id, &client.ChangeTugParams{IfMatch: &version}, client.TugChange{BollardPullT: &pull})
	if err != nil {
		return err
	}
	if changed.JSON200 == nil {
		return fmt.Errorf("change: %s", changed.Body)
	}
	stale, err := api.ChangeTugWithResponse(ctx, id, &client.ChangeTugParams{IfMatch: &version}, client.TugChange{BollardPullT: &pull})
	if err != nil {
		return err
	}
	gone, err := api.DeleteTugWithResponse(ctx, id, &client.DeleteTugParams{})
	if err != nil {
		return err
	}
	fmt.Println(name, made.JSON201.BollardPullT, changed.JSON200.BollardPullT, stale.StatusCode(), gone.StatusCode())
	return nil
}
