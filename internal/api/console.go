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
func documents(pages *book.Book) echo.HandlerFunc {
	return func(c *echo.Context) error {
		page, ok := pages.Page(strings.TrimPrefix(c.Request().URL.Path, "/docs"))
		if !ok {
			return problemOf(http.StatusNotFound, "not-on-record", "there is no such page; /docs has the contents")
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		return c.HTMLBlob(http.StatusOK, page)
	}
}
