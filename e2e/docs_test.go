package e2e

import (
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ydrion/cli"
	"ydrion/testbed"
)

var (
	shownBlock = regexp.MustCompile(`(?m)^    (?:bin/)?(ydrion [^\n#]*)`)
	shownWords = regexp.MustCompile("`(ydrion [^`]*)`")
	shellWord  = regexp.MustCompile(`"[^"]*"|'[^']*'|\S+`)
)

// wordsOf splits a command as a shell would, as far as the documents need that.
func wordsOf(line string) (words []string) {
	line, _, _ = strings.Cut(line, " | ")
	line, _, _ = strings.Cut(line, " > ")
	for _, w := range shellWord.FindAllString(line, -1) {
		words = append(words, strings.Trim(w, `"'`))
	}
	return words[1:]
}

// TestCommandsShown: every command that a document or a help text shows exists with its flags.
func TestCommandsShown(t *testing.T) {
	shown := map[string]string{}
	documents, err := filepath.Glob("../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range append(documents, "../README.md") {
		content, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range append(shownBlock.FindAllStringSubmatch(string(content), -1), shownWords.FindAllStringSubmatch(string(content), -1)...) {
			shown[found[1]] = name
		}
	}
	help := func(words ...string) string {
		var out, errOut strings.Builder
		if code := cli.Main(append(words, "--help"), &out, &errOut); code != 0 {
			t.Errorf("%v: exit code %d: %s", words, code, errOut.String())
		}
		return out.String()
	}
	for _, c := range regexp.MustCompile(`(?m)^  ([a-z-]+) +[A-Z]`).FindAllStringSubmatch(help(), -1) {
		if c[1] == "help" || c[1] == "completion" {
			continue
		}
		_, examples, has := strings.Cut(help(c[1]), "Examples:")
		if !has {
			t.Errorf("the help of %s shows no example", c[1])
		}
		for _, found := range regexp.MustCompile(`(?m)^  (ydrion [^\n]*)`).FindAllStringSubmatch(examples, -1) {
			shown[found[1]] = "the help of " + c[1]
		}
	}
	if len(shown) < 80 {
		t.Errorf("only %d commands were found", len(shown))
	}
	for line, where := range shown {
		var out, errOut strings.Builder
		if code := cli.Main(append(wordsOf(line), "--help"), &out, &errOut); code != 0 {
			t.Errorf("%s shows %q: %s", where, line, errOut.String())
		}
		if !strings.Contains(line, " completion") && len(wordsOf(line)) > 0 && !strings.Contains(out.String(), "Usage:\n  ydrion "+firstCommand(wordsOf(line))) {
			t.Errorf("%s shows %q, which is not a command", where, line)
		}
	}
}

// firstCommand is the first word that is neither a flag nor its value.
func firstCommand(words []string) string {
	for i := 0; i < len(words); i++ {
		if words[i] == "--data" {
			i++
		} else if !strings.HasPrefix(words[i], "-") {
			return words[i]
		}
	}
	return ""
}

// TestFirstTenMinutes does what the README tells a newcomer to do, line by line, in a place of
// its own.
func TestFirstTenMinutes(t *testing.T) {
	content, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := strings.Cut(string(content), "## Ten minutes with it")
	text, _, _ = strings.Cut(text, "\n## ")
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	place, database := t.TempDir(), testbed.EmptyDatabase(t)
	if err := os.CopyFS(filepath.Join(place, "demo"), os.DirFS(filepath.Join(root, "demo"))); err != nil {
		t.Fatal(err)
	}
	t.Chdir(place)
	var out, errOut strings.Builder
	if code := cli.Main([]string{"demo", "--once", "--folder", ".demo", "--listen", "127.0.0.1:0", "--database-url", database}, &out, &errOut); code != 0 {
		t.Fatalf("%d %s%s", code, out.String(), errOut.String())
	}
	b := testbed.Start(t, testbed.In(filepath.Join(place, ".demo"), database))
	listed := func(query url.Values) string { // the pickup that the line before has listed
		page, err := b.Client.Pickups(t.Context(), query)
		if err != nil || len(page.Items) == 0 {
			t.Fatalf("%+v %v", page, err)
		}
		return fmt.Sprint(page.Items[0].ID)
	}
	did := 0
	for _, line := range strings.Split(text, "\n") {
		line, is := strings.CutPrefix(line, "    ")
		if !is {
			continue
		}
		did++
		line, comment, _ := strings.Cut(line, "#")
		words, is := strings.CutPrefix(strings.TrimSpace(line), "bin/")
		if !is {
			if said, err := exec.CommandContext(t.Context(), "sh", "-c", line).CombinedOutput(); err != nil {
				t.Errorf("%s: %v %s", line, err, said)
			}
			if strings.HasPrefix(line, "cp ") {
				b.Ended(filepath.Base(strings.TrimSpace(line)), 0)
			}
			continue
		}
		args := wordsOf(words)
		if strings.Contains(comment, "the number that was listed") {
			query := url.Values{"limit": {"1"}}
			if strings.Contains(line, "decide") {
				query.Set("state", "held")
			}
			number := listed(query)
			for i, a := range args {
				if strings.Trim(a, "0123456789") == "" {
					args[i] = number
				}
			}
		}
		var out, errOut strings.Builder
		code := cli.Main(args, &out, &errOut)
		if code > 1 || code == 1 && errOut.Len() > 0 || out.Len() == 0 {
			t.Errorf("%s: exit code %d, %d bytes: %s", line, code, out.Len(), errOut.String())
		}
		if code == 1 && !strings.Contains(line, " try ") && !strings.Contains(line, "broken") {
			t.Errorf("%s: exit code 1: %s", line, out.String())
		}
	}
	if did < 15 {
		t.Errorf("only %d lines were done", did)
	}
}
