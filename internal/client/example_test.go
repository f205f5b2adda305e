package client_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"inkpost.example/inkpost/internal/client"
)

func Example() {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = fmt.Fprint(w, `[{"code": "KET-07", "name": "Lighthouse Museum", "need": "nothing"}]`)
	}))
	defer service.Close()
	c, err := client.New(service.URL, "the key of a person")
	if err != nil {
		fmt.Println(err)
		return
	}
	sites, err := c.Sites(context.Background())
	for _, s := range sites {
		fmt.Println(s.Code, s.Name)
	}
	fmt.Println(err)
	// Output:
	// KET-07 Lighthouse Museum
	// <nil>
}
