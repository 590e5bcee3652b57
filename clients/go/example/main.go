// Command example registers a version of a file and says which versions there are: example SERVER TOKEN FILE
package main

import (
	"context"
	"fmt"
	"log"
	"os"

	client "innerladder/clients/go"
)

func main() {
	ctx := context.Background()
	c := client.New(os.Args[1], os.Args[2])
	me, err := c.WhoAmI(ctx)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println("signed in as", me.Name)
	made, err := c.Register(ctx, client.Registration{
		Model: "heat-demand-go", Task: "regression", Metrics: map[string]float64{"rmse": 0.4},
	}, client.Artifacts(os.Args[3]))
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println("registered", made.Ref)
	part := client.Part{Limit: 1}
	for {
		var versions client.Listed[client.Version]
		if versions, err = c.Versions(ctx, "heat-demand-go", part); err != nil {
			log.Fatal(err)
		}
		for _, v := range versions.Items {
			fmt.Println(v.Ref, v.Rung, v.Metrics)
		}
		if part.Cursor = versions.Next; part.Cursor == "" {
			break
		}
	}
	if _, err = c.Model(ctx, "no-such-model"); err != nil {
		fmt.Println("refused:", client.CodeOf(err))
	}
}
