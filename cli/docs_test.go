package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The examples of the docs, blocks of "$ rectura …", print what stands below
// them; "$ cat FILE" shows a file that the commands after it use. -update writes
// down anew what they print.
func TestDocs(t *testing.T) {
	block := regexp.MustCompile("(?ms)^```\n(\\$ .*?)^```$")
	for _, page := range []string{"points.md", "recordings.md", "registers.md"} {
		t.Run(page, func(t *testing.T) {
			path, err := filepath.Abs(filepath.Join("../docs", page))
			require.NoError(t, err)
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			folder := t.TempDir()
			require.NoError(t, os.CopyFS(filepath.Join(folder, "examples", "hatchery"), os.DirFS("../examples/hatchery")))
			require.NoError(t, os.CopyFS(filepath.Join(folder, "examples", "raceway2"), os.DirFS("../examples/patterns/start-stop")))
			t.Chdir(folder)
			got := block.ReplaceAllStringFunc(string(text), func(s string) string {
				return "```\n" + runExample(t, strings.TrimSuffix(strings.TrimPrefix(s, "```\n"), "```")) + "```"
			})
			require.NotEqual(t, 0, len(block.FindAllString(got, -1)))
			if *update {
				require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
			}
			assert.Equal(t, string(text), got)
		})
	}
}

// runExample runs the commands of an example, and is the example as it should stand.
func runExample(t *testing.T, example string) string {
	var got strings.Builder
	for _, part := range strings.Split("\n"+strings.TrimSuffix(example, "\n"), "\n$ ")[1:] {
		command, printed, _ := strings.Cut(part, "\n")
		for strings.HasSuffix(command, "\\") {
			var more string
			more, printed, _ = strings.Cut(printed, "\n")
			command += "\n" + more
		}
		got.WriteString("$ " + command + "\n")
		args := words(strings.ReplaceAll(command, "\\\n", " "))
		switch args[0] {
		case "cat":
			require.NoError(t, os.MkdirAll(filepath.Dir(args[1]), 0o755))
			require.NoError(t, os.WriteFile(args[1], []byte(printed+"\n"), 0o644))
			got.WriteString(printed + "\n")
		case "rectura":
			out, _ := run(t, args[1:]...)
			got.WriteString(out)
		default:
			t.Fatalf("the docs' example %q is no command of ours", command)
		}
	}
	return got.String()
}
