package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A trial request is one that is wrong in one place.
type wrong struct {
	what, method, path, kind string
	body                     []byte
	status                   []int
}

// example is a value that a schema allows.
func example(s *openapi3.Schema) any {
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Pattern != "" && strings.Contains(s.Pattern, "{64}"):
		return strings.Repeat("0", 64)
	case s.Pattern != "":
		return fennick
	case s.Type.Is("integer"), s.Type.Is("number"):
		if s.Min != nil {
			return *s.Min
		}
		return 1.0
	case s.Type.Is("boolean"):
		return true
	case s.Type.Is("array"):
		return []any{example(s.Items.Value)}
	case s.Type.Is("object"):
		v := map[string]any{}
		for _, name := range s.Required {
			v[name] = example(s.Properties[name].Value)
		}
		return v
	}
	return strings.Repeat("x", max(1, int(s.MinLength)))
}

// spoilt are values that a schema does not allow, each wrong in another way.
func spoilt(s *openapi3.Schema) map[string]any {
	all := map[string]any{"another type": map[string]any{"x": 1}}
	if s.Type.Is("object") {
		all["another type"] = "x"
	}
	if s.Min != nil {
		all["below its range"] = *s.Min - 1
	}
	if s.Max != nil {
		all["above its range"] = *s.Max + 1
	}
	if s.Type.Is("integer") {
		all["no whole number"] = 1.5
	}
	if s.MaxLength != nil {
		all["too long"] = strings.Repeat("x", int(*s.MaxLength)+1)
	}
	if s.MinLength > 0 {
		all["too short"] = strings.Repeat("x", int(s.MinLength)-1)
	}
	if len(s.Enum) > 0 {
		all["none of its words"] = "x"
	}
	if s.Pattern != "" {
		all["not of its form"] = "9!"
	}
	if s.MaxItems != nil {
		all["too many"] = slices.Repeat([]any{example(s.Items.Value)}, int(*s.MaxItems)+1)
	}
	if s.MinItems > 0 {
		all["too few"] = []any{}
	}
	return all
}

// Every operation of the API is tried with each thing that its description does
// not allow. Only refusals come back, as problem details; a wrong method is told
// which there are; HEAD is answered as GET is.
func TestEveryOperationRefusesWhatIsNotDescribed(t *testing.T) {
	text, err := os.ReadFile("api/openapi.yaml")
	require.NoError(t, err)
	doc, err := openapi3.NewLoader().LoadFromData(text)
	require.NoError(t, err)
	url, api, log, _ := start(t, t.TempDir())
	pushHatchery(t, api)
	require.NotNil(t, upload(t, api, "night.csv", night(t)).JSON201)
	tried := 0
	for path, item := range doc.Paths.Map() {
		for method, o := range item.Operations() {
			for _, w := range wrongs(path, method, item, o) {
				tried++
				status, kind, answer, header := send(t, url, w)
				what := w.method + " " + w.path + ": " + w.what
				assert.Contains(t, w.status, status, "%.200s: %.200s", what, answer)
				if status == http.StatusNoContent || status == http.StatusOK {
					continue
				}
				assert.Equal(t, "application/problem+json", kind, "%.200s", what)
				var p struct{ Detail string }
				require.NoError(t, json.Unmarshal(answer, &p), "%.200s: %s", what, answer)
				assert.NotEmpty(t, p.Detail, "%.200s", what)
				assert.Equal(t, "no-store", header.Get("Cache-Control"), what)
				assert.NotEmpty(t, header.Get("Content-Security-Policy"), what)
				if status == http.StatusMethodNotAllowed {
					assert.Contains(t, header.Get("Allow"), method, what)
				}
			}
			if method == http.MethodGet {
				sameByHead(t, url, filled(path, item, o, nil))
			}
		}
	}
	assert.Greater(t, tried, 300)
	assert.NotContains(t, log.String(), "level=ERROR")
}

// filled is a path with its parameters, and its query, but for one that is left
// out or given another value.
func filled(path string, item *openapi3.PathItem, o *openapi3.Operation, other map[string]string) string {
	var query []string
	for _, p := range slices.Concat(item.Parameters, o.Parameters) {
		value := toText(example(p.Value.Schema.Value))
		if v, is := other[p.Value.Name]; is {
			value = v
		} else if !p.Value.Required {
			continue
		}
		switch {
		case p.Value.In == "path":
			path = strings.ReplaceAll(path, "{"+p.Value.Name+"}", value)
		case value != "\x00":
			query = append(query, p.Value.Name+"="+value)
		}
	}
	if extra, is := other["nonsense"]; is {
		query = append(query, "nonsense="+extra)
	}
	if len(query) == 0 {
		return "/api" + path
	}
	return "/api" + path + "?" + strings.Join(query, "&")
}

func toText(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	if all, is := v.([]any); is {
		return toText(all[0])
	}
	return strings.Trim(strings.ReplaceAll(string(text), `\u0000`, ""), `"`)
}

func wrongs(path, method string, item *openapi3.PathItem, o *openapi3.Operation) []wrong {
	var all []wrong
	whole := filled(path, item, o, nil)
	refused := []int{http.StatusBadRequest, http.StatusUnprocessableEntity}
	kind, body := "", []byte(nil)
	var schema *openapi3.Schema
	if o.RequestBody != nil {
		for kind = range o.RequestBody.Value.Content {
			schema = o.RequestBody.Value.Content[kind].Schema.Value
		}
		body, _ = json.Marshal(example(schema)) // of what came from JSON
	}
	add := func(what, method, path, kind string, body []byte, status ...int) {
		all = append(all, wrong{what, method, path, kind, body, status})
	}
	for _, other := range []string{http.MethodPatch, http.MethodPut, http.MethodDelete, "NONSENSE"} {
		if other != "NONSENSE" && item.GetOperation(other) != nil {
			continue
		}
		add("another method", other, whole, "", nil, http.StatusMethodNotAllowed)
	}
	add("an unknown query", method, filled(path, item, o, map[string]string{"nonsense": "1"}), kind, body, http.StatusBadRequest)
	for _, p := range slices.Concat(item.Parameters, o.Parameters) {
		s := p.Value.Schema.Value
		if p.Value.Required && p.Value.In == "query" {
			add("without "+p.Value.Name, method, filled(path, item, o, map[string]string{p.Value.Name: "\x00"}), kind, body, refused...)
		}
		for what, value := range spoilt(s) {
			if s.Type.Is("array") || what == "another type" && s.Type.Is("string") || what == "too short" {
				continue // any text is one
			}
			add(
				p.Value.Name+" "+what,
				method,
				filled(path, item, o, map[string]string{p.Value.Name: strings.ReplaceAll(toText(value), `"`, "%22")}),
				kind,
				body,
				append(refused, http.StatusNotFound)...)
		}
		if p.Value.In == "query" && !s.Type.Is("array") {
			twice := filled(path, item, o, map[string]string{p.Value.Name: toText(example(s))})
			add(p.Value.Name+" twice", method, twice+"&"+p.Value.Name+"=1", kind, body, http.StatusBadRequest)
			add(
				p.Value.Name+" with a control character",
				method,
				filled(path, item, o, map[string]string{p.Value.Name: "%1b"}),
				kind,
				body,
				refused...)
		}
	}
	if o.RequestBody == nil {
		return all
	}
	add("another content type", method, whole, "text/html", body, http.StatusUnsupportedMediaType)
	add("no content type", method, whole, "", body, http.StatusUnsupportedMediaType)
	if kind != "application/json" {
		return all
	}
	for what, broken := range map[string]string{"no JSON": "{", "nothing": "", "null": "null", "a list": "[]", "more than one": string(body) + "x"} {
		add(what, method, whole, kind, []byte(broken), refused...)
	}
	changed := func(what string, change func(v map[string]any)) {
		v := example(schema).(map[string]any)
		change(v)
		text, err := json.Marshal(v)
		if err != nil {
			panic(err)
		}
		add(what, method, whole, kind, text, refused...)
	}
	changed("an unknown member", func(v map[string]any) { v["nonsense"] = 1 })
	for _, name := range schema.Required {
		changed("without "+name, func(v map[string]any) { delete(v, name) })
	}
	for name, member := range schema.Properties {
		for what, value := range spoilt(member.Value) {
			changed(name+" "+what, func(v map[string]any) { v[name] = value })
		}
		if member.Value.Type.Is("array") && member.Value.Items.Value.Type.Is("object") &&
			slices.Contains(slices.Collect(maps.Keys(schema.Properties)), name) {
			changed(name+" with an unknown member", func(v map[string]any) {
				one := example(member.Value.Items.Value).(map[string]any)
				one["nonsense"] = 1
				v[name] = []any{one}
			})
		}
	}
	return all
}

func send(t *testing.T, url string, w wrong) (status int, kind string, answer []byte, header http.Header) {
	t.Helper()
	q, err := http.NewRequestWithContext(t.Context(), w.method, url+w.path, bytes.NewReader(w.body))
	require.NoError(t, err, w.path)
	if w.kind != "" {
		q.Header.Set("Content-Type", w.kind)
	}
	var r *http.Response
	for { // so many requests in so short a time are held back now and then
		q.Body = io.NopCloser(bytes.NewReader(w.body))
		r, err = http.DefaultClient.Do(q)
		require.NoError(t, err)
		if r.StatusCode != http.StatusTooManyRequests {
			break
		}
		require.NoError(t, r.Body.Close())
	}
	answer, err = io.ReadAll(r.Body)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	return r.StatusCode, r.Header.Get("Content-Type"), answer, r.Header
}

func sameByHead(t *testing.T, url, path string) {
	t.Helper()
	get, kind, _, _ := send(t, url, wrong{method: http.MethodGet, path: path})
	head, headKind, body, _ := send(t, url, wrong{method: http.MethodHead, path: path})
	assert.Equal(t, get, head, path)
	assert.Equal(t, kind, headKind, path)
	assert.Empty(t, body, path)
}
