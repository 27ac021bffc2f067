package transport

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"rectura/service/api"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/labstack/echo/v4"
)

// A validator holds every request against openapi.yaml before a handler sees
// it.
type validator struct {
	router routers.Router
	own    string
	out    *Outside
}

func newValidator(o Options) (*validator, error) {
	doc, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		return nil, fmt.Errorf("reading the API's description: %w", err)
	}
	r, err := gorillamux.NewRouter(doc)
	if err != nil {
		return nil, fmt.Errorf("reading the API's description: %w", err)
	}
	return &validator{r, o.Own, o.Outside}, nil
}

func (v *validator) middleware(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		if !isAPI(c.Request()) {
			return next(c)
		}
		r := c.Request()
		if !slices.Contains(methods, r.Method) {
			return v.noRoute(c)
		}
		route, path, err := v.router.FindRoute(r)
		if err != nil {
			return v.noRoute(c)
		}
		if v.out != nil && v.out.Passes(route.Operation, r) {
			return v.out.Pass(c, route.Operation.OperationID, path)
		}
		if !slices.Contains(route.Operation.Tags, v.own) {
			return v.noRoute(c)
		}
		if err := check(r, route, path); err != nil {
			return err
		}
		return next(c)
	}
}

func isAPI(r *http.Request) bool { return strings.HasPrefix(r.URL.Path, "/api/") }

// check holds a request against the description of its operation.
func check(r *http.Request, route *routers.Route, path map[string]string) error {
	if err := checkQuery(r, route.Operation, route.PathItem); err != nil {
		return err
	}
	input := &openapi3filter.RequestValidationInput{Request: r, PathParams: path, Route: route, Options: &openapi3filter.Options{}}
	body, err := checkBody(r, route.Operation)
	if err != nil {
		return err
	}
	input.Options.ExcludeRequestBody = body == nil
	if body != nil {
		r.Body = io.NopCloser(bytes.NewReader(body))
	}
	if err := openapi3filter.ValidateRequest(r.Context(), input); err != nil {
		return unlike(err)
	}
	if body != nil {
		r.Body = io.NopCloser(bytes.NewReader(body))
	}
	return nil
}

// methods are those that operations may have.
var methods = []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete}

// noRoute tells what is at a path, if it is only the method that is not.
func (v *validator) noRoute(c echo.Context) error {
	r := c.Request()
	var allowed []string
	for _, method := range methods {
		other := r.Clone(r.Context())
		other.Method = method
		if _, _, err := v.router.FindRoute(other); err == nil {
			allowed = append(allowed, method)
			if method == http.MethodGet {
				allowed = append(allowed, http.MethodHead)
			}
		}
	}
	if len(allowed) > 0 {
		list := strings.Join(allowed, ", ")
		c.Response().Header().Set(echo.HeaderAllow, list)
		return Refuse(http.StatusMethodNotAllowed, Shown(r.Method)+" is not done here; it takes "+list+".")
	}
	return Refuse(http.StatusNotFound, "There is no "+Shown(r.URL.Path)+" here.")
}

// checkQuery refuses what the description does not speak of: unknown names, one
// value given twice, what is no text, and numbers that are none.
func checkQuery(r *http.Request, o *openapi3.Operation, path *openapi3.PathItem) error {
	known := map[string]*openapi3.Schema{}
	var names []string
	for _, p := range slices.Concat(path.Parameters, o.Parameters) {
		if p.Value.In == openapi3.ParameterInQuery {
			known[p.Value.Name] = p.Value.Schema.Value
			names = append(names, p.Value.Name)
		}
	}
	query, err := parseQuery(r)
	if err != nil {
		return err
	}
	for name, values := range query {
		schema := known[name]
		if schema == nil {
			hint := "it takes none"
			if len(names) > 0 {
				hint = "it takes " + strings.Join(names, ", ")
			}
			return Refuse(http.StatusBadRequest, "The query "+Shown(name)+" is unknown here; "+hint+".")
		}
		if len(values) > 1 && !schema.Type.Is(openapi3.TypeArray) {
			return Refuse(http.StatusBadRequest, "The query "+name+" is given "+strconv.Itoa(len(values))+" times; give it once.")
		}
		for _, value := range values {
			if !utf8.ValidString(value) || strings.ContainsFunc(value, unicode.IsControl) {
				return Refuse(http.StatusBadRequest, "The query "+name+" holds control characters, or is no UTF-8 text.")
			}
			if !schema.Type.Is(openapi3.TypeNumber) {
				continue
			}
			if v, err := strconv.ParseFloat(value, 64); err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
				return Refuse(http.StatusBadRequest, "The query "+name+": "+Shown(value)+" is no number.")
			}
		}
	}
	return nil
}

func parseQuery(r *http.Request) (map[string][]string, error) {
	if _, err := http.NewRequest(http.MethodGet, "/?"+r.URL.RawQuery, nil); err != nil {
		return nil, Refuse(http.StatusBadRequest, "The query cannot be read.")
	}
	query := r.URL.Query()
	if strings.Contains(r.URL.RawQuery, ";") {
		return nil, Refuse(http.StatusBadRequest, "The query has a semicolon; its parts are joined by &.")
	}
	return query, nil
}

// checkBody reads the body of a request that is described as JSON; that of an
// upload is left to whoever reads it as it comes in.
func checkBody(r *http.Request, o *openapi3.Operation) ([]byte, error) {
	if o.RequestBody == nil {
		if r.ContentLength > 0 || len(r.TransferEncoding) > 0 {
			return nil, Refuse(http.StatusBadRequest, "This takes no body.")
		}
		return nil, nil
	}
	var wanted string
	for wanted = range o.RequestBody.Value.Content {
	}
	kind, _, err := mime.ParseMediaType(r.Header.Get(echo.HeaderContentType))
	if err != nil || kind != wanted {
		return nil, Refuse(http.StatusUnsupportedMediaType, "The body must be sent as "+wanted+".")
	}
	if wanted != echo.MIMEApplicationJSON {
		return nil, nil
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	if len(bytes.TrimSpace(body)) == 0 {
		return nil, Refuse(http.StatusBadRequest, "The body is empty; it is a JSON object.")
	}
	var any json.RawMessage
	if err := json.Unmarshal(body, &any); err != nil {
		return nil, Refuse(http.StatusBadRequest, "The body is no JSON: "+err.Error()+".")
	}
	return body, nil
}

// unlike says how a request is not as it is described.
func unlike(err error) error {
	var request *openapi3filter.RequestError
	var schema *openapi3.SchemaError
	errors.As(err, &request)
	where, what := "The request", err.Error()
	if request != nil {
		what = request.Error()
		if request.Err != nil {
			what = request.Err.Error()
		} else if request.Reason != "" {
			what = request.Reason
		}
		switch {
		case request.Parameter != nil:
			where = "The " + request.Parameter.In + " " + request.Parameter.Name
		case request.RequestBody != nil:
			where = "The body"
		}
	}
	if errors.As(err, &schema) {
		what = schema.Reason
		if at := strings.Join(schema.JSONPointer(), "/"); at != "" {
			where += ", at /" + at
		}
	}
	return Refuse(http.StatusUnprocessableEntity, where+": "+firstLine(what)+".")
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return strings.TrimSuffix(Shown(s), ".")
}

// Shown returns a text of a request as an answer may hold it: short, and without
// control characters.
func Shown(s string) string {
	const widest = 200
	s = strings.ToValidUTF8(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '·'
		}
		return r
	}, s), "·")
	if r := []rune(s); len(r) > widest {
		return string(r[:widest]) + "…"
	}
	return s
}

// headAsGet lets HEAD be answered as GET is; net/http leaves the body out.
func headAsGet(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodHead {
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		next.ServeHTTP(w, r)
	})
}

// named gives the work of a request the name that the client gives it.
func named(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		r := c.Request()
		if name := r.Header.Get(echo.HeaderXRequestID); name != "" && len(name) <= 64 && Shown(name) == name {
			c.SetRequest(r.WithContext(WithName(r.Context(), name)))
		}
		return next(c)
	}
}
