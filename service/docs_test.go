package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The examples of docs/service.md, sent one after the other, are answered with what
// stands below them.
func TestDocs(t *testing.T) {
	page, err := os.ReadFile("../docs/service.md")
	require.NoError(t, err)
	url, _, _, _ := start(t, t.TempDir())
	examples := regexp.MustCompile("(?s)```sh\n(curl .*?)\n```\n```json\n(.*?)\n```").FindAllStringSubmatch(string(page), -1)
	require.Len(t, examples, 7)
	for _, x := range examples {
		var want any
		require.NoError(t, json.Unmarshal([]byte(x[2]), &want), x[2])
		answer := curl(t, strings.ReplaceAll(x[1], "http://127.0.0.1:8470", url))
		var got any
		require.NoError(t, json.Unmarshal(answer, &got), "%s\n%s", x[1], answer)
		assert.Empty(t, missing("", want, got), "%s\n%s", x[1], answer)
	}
}

// curl does what the program of that name would, of which it knows what the docs use.
func curl(t *testing.T, command string) []byte {
	var args []string
	for _, m := range regexp.MustCompile(`(?s)'([^']*)'|([^\s\\]+)`).FindAllStringSubmatch(command, -1) {
		args = append(args, m[1]+m[2])
	}
	method, address, body, header := http.MethodGet, "", "", http.Header{}
	for i := 1; i < len(args); i++ {
		switch args[i] {
		case "-X":
			method, i = args[i+1], i+1
		case "-H":
			name, value, _ := strings.Cut(args[i+1], ": ")
			header.Set(name, value)
			i++
		case "-d", "--data-binary":
			method, body, i = http.MethodPost, args[i+1], i+1
		default:
			address = args[i]
		}
	}
	r, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(body))
	require.NoError(t, err, command)
	r.Header = header
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err, command)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return b
}

// missing tells what of a value is not in another, of which more members may be there; … is
// anything.
func missing(at string, want, got any) string {
	switch want := want.(type) {
	case map[string]any:
		object, _ := got.(map[string]any)
		for k, v := range want {
			if other, there := object[k]; !there {
				return at + "." + k + " is not there"
			} else if s := missing(at+"."+k, v, other); s != "" {
				return s
			}
		}
		return ""
	case []any:
		list, _ := got.([]any)
		if len(list) != len(want) {
			return fmt.Sprintf("%s has %d elements", at, len(list))
		}
		for i := range want {
			if s := missing(fmt.Sprintf("%s[%d]", at, i), want[i], list[i]); s != "" {
				return s
			}
		}
		return ""
	}
	if want != "…" && want != got {
		return fmt.Sprintf("%s is %v", at, got)
	}
	return ""
}
