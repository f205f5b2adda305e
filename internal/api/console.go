package api

import (
	"io/fs"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/paper/book"
)

// console serves the built console: its files by their names, and its first page for every address that the console itself
// understands.
func console(files fs.FS) echo.HandlerFunc {
	server := http.FileServerFS(files)
	return func(c *echo.Context) error {
		path := strings.TrimPrefix(c.Request().URL.Path, "/")
		if strings.HasPrefix(path, "api/") {
			return echo.ErrNotFound
		}
		h := c.Response().Header()
		if _, err := fs.Stat(files, path); err == nil && path != "" && path != "index.html" {
			if strings.HasPrefix(path, "assets/") { // their names change with their content
				h.Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			if strings.HasSuffix(path, ".webmanifest") {
				h.Set("Content-Type", "application/manifest+json")
			}
			server.ServeHTTP(c.Response(), c.Request())
			return nil
		}
		if strings.HasPrefix(path, "assets/") {
			return echo.ErrNotFound
		}
		h.Set("Cache-Control", "no-cache")
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			return err
		}
		return c.HTMLBlob(http.StatusOK, page)
	}
}

// documents serves what is written for people.
func documents(made func() (*book.Book, error)) echo.HandlerFunc {
	return func(c *echo.Context) error {
		pages, err := made()
		if err != nil {
			return err
		}
		page, ok := pages.Page(strings.TrimPrefix(c.Request().URL.Path, "/docs"))
		if !ok {
			return problemOf(http.StatusNotFound, "not-on-record", "there is no such page; /docs has the contents")
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		return c.HTMLBlob(http.StatusOK, page)
	}
}

// book makes the pages of the documents, with one more of every route.
func (a *api) book(docs fs.FS) (*book.Book, error) {
	doc, err := a.doc()
	if err != nil {
		return nil, err
	}
	every, err := reference(doc)
	if err != nil {
		return nil, err
	}
	return book.New(docs, map[string]string{"reference": every})
}
