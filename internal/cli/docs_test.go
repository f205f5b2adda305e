package cli_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/docs"
	"inkpost.example/inkpost/internal/testbed"
)

var (
	fence = regexp.MustCompile("(?ms)^ *```([a-z]*)\n(.*?)^ *```$")
	typed = regexp.MustCompile(`(?m)^(?:\$ )?(?:bin/)?(inkpost(?:-agent)? .*)$`)
)

// blocks are the fenced parts of a document in one language.
func blocks(text, language string) (out []string) {
	for _, m := range fence.FindAllStringSubmatch(text, -1) {
		if m[1] == language {
			out = append(out, strings.ReplaceAll(m[2], "\\\n", ""))
		}
	}
	return out
}

// shell runs a script with inkpost on its path, as somebody who is logged in.
func (term *terminal) shell(script string, env ...string) (string, error) {
	term.t.Helper()
	bin := term.t.TempDir()
	require.NoError(term.t, os.Symlink(testbed.Program(term.t), filepath.Join(bin, "inkpost")))
	cmd := exec.CommandContext(term.t.Context(), "bash", "-euo", "pipefail", "-c", script)
	cmd.Dir = term.home
	cmd.Env = append(append(term.env, "PATH="+bin+":"+os.Getenv("PATH")), env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// Each guide is followed from its first line to its last, by itself: what stands in blocks of shell is typed as it stands there. Other
// blocks need a machine at a site, or are files; they are tried by make package-trial and by the tests of their parts.
func TestTheGuidesCanBeFollowed(t *testing.T) {
	t.Parallel()
	guides, err := fs.Glob(docs.Files(), "guides/*.md")
	require.NoError(t, err)
	require.Greater(t, len(guides), 10)
	commands := 0
	for _, guide := range guides {
		text, err := fs.ReadFile(docs.Files(), guide)
		require.NoError(t, err)
		script := strings.Join(blocks(string(text), "sh"), "\n")
		if script == "" {
			continue
		}
		commands += strings.Count(script, "inkpost ")
		t.Run(guide, func(t *testing.T) {
			t.Parallel()
			term := open(t, testbed.Start(t, nil))
			secret := filepath.Join(term.home, "quay-push.secret")
			require.NoError(t, os.WriteFile(secret, []byte("c2xpcHdheS1nYW5uZXQta2V0dGxlLXNlY3JldA==\n"), 0o600))
			if !strings.Contains(script, "zone add isles") { // a zone that there is already
				term.ok("zone", "add", zone, "--ns", "ns1."+zone+"=198.51.100.1")
			}
			out, err := term.shell(script)
			require.NoError(t, err, "%s", out)
		})
	}
	require.Greater(t, commands, 60)
}

// The examples of the API work as they stand there.
func TestTheExamplesOfTheAPIWork(t *testing.T) {
	t.Parallel()
	text, err := fs.ReadFile(docs.Files(), "api.md")
	require.NoError(t, err)
	var script strings.Builder
	for _, m := range fence.FindAllStringSubmatch(string(text), -1) {
		if m[1] == "sh" {
			script.WriteString(m[2])
		}
	}
	require.Greater(t, strings.Count(script.String(), "curl "), 15)
	s := testbed.Start(t, nil)
	out, err := open(t, nil).shell(script.String(), "URL="+s.URL, "KEY="+s.Key)
	require.NoError(t, err, "%s", out)
	require.Contains(t, out, "Lighthouse Museum")
	require.Contains(t, out, "inkpost_writer 1")
}

// Every command line in any document is one of the program's: the command is there, and its options are.
func TestEveryCommandLineInTheDocumentsExists(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	check := func(name, text string) {
		for _, m := range fence.FindAllStringSubmatch(text, -1) {
			for _, line := range typed.FindAllStringSubmatch(strings.ReplaceAll(m[2], "\\\n", ""), -1) {
				seen[strings.TrimSpace(strings.SplitN(line[1], " # ", 2)[0])+"\x00"+name] = true
			}
		}
	}
	require.NoError(t, fs.WalkDir(docs.Files(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || name == "third-party.md" {
			return err
		}
		text, err := fs.ReadFile(docs.Files(), name)
		check(name, string(text))
		return err
	}))
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	check("README.md", string(readme))
	require.Greater(t, len(seen), 150)
	term := open(t, nil)
	help := map[string]string{}
	for one := range seen {
		line, name, _ := strings.Cut(one, "\x00")
		words := strings.Fields(line)
		if words[0] == "inkpost-agent" {
			words = append([]string{"inkpost", "agent"}, words[1:]...)
		}
		var path, options []string
		for _, w := range words[1:] {
			if option, ok := strings.CutPrefix(w, "--"); ok {
				option, _, _ = strings.Cut(strings.Trim(option, "];|"), "=")
				options = append(options, option)
			}
		}
		for _, w := range words[1:] {
			if regexp.MustCompile(`^[a-z-]+$`).MatchString(w) && !strings.HasPrefix(w, "-") && len(path) < 3 {
				path = append(path, w)
				continue
			}
			break
		}
		found := ""
		for n := len(path); n > 0 && found == ""; n-- { // the longest that is a command
			at := strings.Join(path[:n], " ")
			if _, ok := help[at]; !ok {
				help[at], _, _ = term.run("", append(append([]string{}, path[:n]...), "--help")...)
			}
			if strings.Contains(help[at], "inkpost "+at) {
				found = help[at]
			}
		}
		require.NotEmpty(t, found, "%s: %s", name, line)
		for _, option := range options {
			require.Contains(t, found, "--"+option, "%s: %s", name, line)
		}
	}
}
