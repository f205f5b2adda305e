package redirect_test

import (
	"fmt"
	"net/http/httptest"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/wire/redirect"
)

func ExampleHandler() {
	handler := redirect.Handler(func(host string) (site.Redirect, bool) {
		return site.Redirect{Hostname: "ket-07.isles.saltmarsh.example", Scheme: "http", Port: 8081, Path: "/view", Status: 307},
			host == "cam.isles.saltmarsh.example"
	})
	reply := httptest.NewRecorder()
	handler.ServeHTTP(reply, httptest.NewRequest("GET", "http://cam.isles.saltmarsh.example/", nil))
	fmt.Println(reply.Code, reply.Header().Get("Location"))
	// Output: 307 http://ket-07.isles.saltmarsh.example:8081/view
}
