package e2e

import (
	"bufio"
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"stockade/internal/must"
)

// freeAddress gives an address of loopback that nobody listens on.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must.Do(t, err)
	defer l.Close()
	return l.Addr().String()
}

// shown compares what a document shows of an output with the output: … stands for any text, and a line of it
// alone for any lines.
func shown(document, output string) bool {
	pattern := ""
	for line := range strings.Lines(document) {
		line = strings.TrimRight(line, "\n")
		if line == "…" {
			pattern += `(?:.*\n)*?`
			continue
		}
		pattern += strings.ReplaceAll(regexp.QuoteMeta(line), "…", ".*") + ` *\n`
	}
	return regexp.MustCompile(`^` + pattern + `$`).MatchString(output)
}

func TestWhatADocumentShowsIsCompared(t *testing.T) {
	for _, c := range []struct {
		document, output string
		want             bool
	}{
		{"a … c\n…\nend\n", "a b c\nx\ny\nend\n", true},
		{"a … c\nend\n", "a b c\nx\nend\n", false},
		{"…\nend\n", "end\n", true},
		{"end\n", "the end\n", false},
		{"end\n", "end\nmore\n", false},
	} {
		if got := shown(c.document, c.output); got != c.want {
			t.Errorf("%q, %q: got %v, want %v", c.document, c.output, got, c.want)
		}
	}
}

// A reader of the tutorial alone gets to a machine that installs, and sees what the page shows.
func TestTheTutorialLeadsToAMachineThatInstalls(t *testing.T) {
	t.Parallel()
	d := startDemo(t)
	home := t.TempDir()
	env := []string{"HOME=" + home, "XDG_CONFIG_HOME=" + home, "LC_ALL=C.UTF-8"}
	for _, v := range d.env {
		if strings.HasPrefix(v, "PATH=") {
			env = append(env, v)
		}
	}
	api, packages := freeAddress(t), freeAddress(t)
	here := strings.NewReplacer("127.0.0.1:8540", api, "127.0.0.1:8541", packages)
	blocks, _ := blocksOf(t, "../docs/tutorial.md")
	m := newMachine(t, t.TempDir())
	for dir := m.root; dir != "/"; dir = filepath.Dir(dir) { // apt-get reads as another user
		if strings.HasPrefix(dir, os.TempDir()+"/") {
			must.Do(t, os.Chmod(dir, 0o755))
		}
	}
	state := filepath.Join(home, "variables")
	sh := func(script string) string {
		t.Helper()
		cmd := exec.Command("sh", "-c",
			"[ ! -e "+state+" ] || . "+state+"\nset -ae\n"+script+"\nexport -p >"+state)
		cmd.Dir, cmd.Env = d.folder, env
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", script, err, out)
		}
		return string(out)
	}
	ran, compared := 0, 0
	var said string
	for i, b := range blocks {
		text := here.Replace(b.text)
		switch {
		case b.language == "text" && strings.HasPrefix(text, "stockade serve"):
			said = served(t, d.folder, env, strings.Fields(text)[1:])
		case b.language == "text" && i > 0 && !strings.HasPrefix(text, "make build"):
			compared++
			if !shown(text, said) {
				t.Errorf("the tutorial shows\n%s\nand it is\n%s", text, said)
			}
		case b.language == "sh" && strings.HasPrefix(text, "# on the machine\n"):
			said = ""
			for line := range strings.Lines(text) {
				line = strings.TrimSpace(line)
				switch words := strings.Fields(line); {
				case words[0] == "#":
				case words[0] == "apt-get":
					out, err := m.apt(false, words[1:]...)
					if err != nil {
						t.Fatalf("%s: %v\n%s", line, err, out)
					}
					said += out
				case words[0] == "sh":
					said += sh(line + " " + m.root)
				default:
					said += sh(line)
				}
			}
		case b.language == "sh":
			ran++
			said = sh(text)
		}
	}
	if m.installed("sluicectl") == "" {
		t.Error("sluicectl is not installed")
	}
	if ran < 9 || compared < 9 {
		t.Errorf("got %d blocks of commands and %d of output, want at least 9 of each", ran, compared)
	}
}

// served runs the service of the tutorial, and gives what it printed when it was ready.
func served(t *testing.T, dir string, env, args []string) string {
	t.Helper()
	bin := ""
	for _, v := range env {
		if path, ok := strings.CutPrefix(v, "PATH="); ok {
			bin, _, _ = strings.Cut(path, ":")
		}
	}
	cmd := exec.Command(filepath.Join(bin, "stockade"), args...)
	var log bytes.Buffer
	cmd.Dir, cmd.Env, cmd.Stderr = dir, env, &log
	out, err := cmd.StdoutPipe()
	must.Do(t, err)
	must.Do(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	})
	said := ""
	for sc := bufio.NewScanner(out); sc.Scan(); {
		said += sc.Text() + "\n"
		if strings.HasPrefix(sc.Text(), "warden token") {
			return said
		}
	}
	t.Fatalf("the service did not start: %s%s", said, log.String())
	return ""
}
