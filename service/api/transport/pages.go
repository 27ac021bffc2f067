package transport

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"

	"github.com/labstack/echo/v4"
)

// serveConsole serves the console's files, and its start page for every path
// that is a page of it. A file that is packed beside itself, as a.js.gz is beside a.js, is sent
// packed to whoever can unpack it.
func serveConsole(e *echo.Echo, files fs.FS) {
	e.GET("/*", func(c echo.Context) error {
		r, header := c.Request(), c.Response().Header()
		name := strings.Trim(r.URL.Path, "/")
		asset := strings.HasPrefix(name+"/", "assets/")
		switch {
		case isFile(files, name) && path.Ext(name) != packed:
			if asset { // their names change with their contents
				header.Set(echo.HeaderCacheControl, "public, max-age=31536000, immutable")
			}
		case asset || !isPage(name):
			return Refuse(http.StatusNotFound, "There is no "+Shown(r.URL.Path)+" here.")
		default:
			header.Set(echo.HeaderCacheControl, "no-cache")
			name = ""
		}
		sent := name
		if name != "" && isFile(files, name+packed) {
			header.Add(echo.HeaderVary, echo.HeaderAcceptEncoding)
			if unpacks(r) {
				header.Set(echo.HeaderContentEncoding, "gzip")
				header.Set(echo.HeaderContentType, mime.TypeByExtension(path.Ext(name)))
				sent += packed
			}
		}
		r.URL.Path = "/" + sent
		http.FileServerFS(files).ServeHTTP(c.Response(), r)
		return nil
	})
}

// pages are the console's pages, which stand at the root and below each job (console/src/main.tsx).
var pages = []string{"now", "points", "rules", "bench"}

// isPage reports whether a path is one of the console's: the start, a job's, or a page of either.
func isPage(name string) bool {
	first, rest, below := strings.Cut(name, "/")
	if path.Ext(name) != "" {
		return false
	}
	return !below || first != "" && slices.Contains(pages, rest)
}

// packed is the extension of packed files.
const packed = ".gz"

func isFile(files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	return err == nil && info.Mode().IsRegular()
}

// unpacks tells whether whoever asks takes gzip.
func unpacks(r *http.Request) bool {
	for _, taken := range strings.Split(r.Header.Get(echo.HeaderAcceptEncoding), ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(taken), ";")
		if strings.TrimSpace(name) == "gzip" {
			switch strings.TrimSpace(weight) {
			case "q=0", "q=0.0", "q=0.00", "q=0.000":
				return false
			}
			return true
		}
	}
	return false
}
