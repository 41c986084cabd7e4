// Packages makes what people install: archives for Linux, macOS and Windows, a deb and an rpm, with man
// pages and completions, a list of what the program is built from, and checksums. It is a module of its
// own, so that the program needs nothing of it.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"lastboard/internal/cli"
)

// platforms are those that there are packages for.
var platforms = []platform{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"},
	{"windows", "amd64"}, {"windows", "arm64"}}

type platform struct{ system, machine string }

// program names the program's file.
func (p platform) program() string {
	if p.system == "windows" {
		return "lastboard.exe"
	}
	return "lastboard"
}

// name names what is made for it.
func (p platform) name() string { return "lastboard-" + cli.Version + "-" + p.system + "-" + p.machine }

func main() {
	root := flag.String("root", "..", "the folder of the program's module")
	out := flag.String("out", "../dist", "the folder for what is made")
	flag.Parse()
	if err := run(*root, *out); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(root, out string) error {
	if err := os.RemoveAll(out); err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "lastboard-packages-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	at, err := changed(root)
	if err != nil {
		return err
	}
	along, err := pages(root, filepath.Join(work, "along"), at)
	if err != nil {
		return err
	}
	for _, p := range platforms {
		fmt.Println(p.name())
		program := filepath.Join(work, p.name(), p.program())
		if err := build(root, program, p); err != nil {
			return err
		}
		files := append([]file{{program, p.program(), 0o755}}, along...)
		if err := archive(filepath.Join(out, p.name()+".tar.gz"), p.name(), files, at); err != nil {
			return err
		}
		if err := parts(program, filepath.Join(out, p.name()+".cdx.json"), at); err != nil {
			return err
		}
		if p.system == "linux" {
			if err := install(out, program, p, along, at); err != nil {
				return err
			}
		}
	}
	return sums(out)
}

// build compiles the program for a platform.
func build(root, program string, p platform) error {
	c := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", program, "./cmd/lastboard")
	c.Dir, c.Stderr = root, os.Stderr
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+p.system, "GOARCH="+p.machine)
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s/%s cannot be built: %w", p.system, p.machine, err)
	}
	return nil
}

// changed gives the time of the last change of the sources: what is made of the same is the same.
func changed(root string) (time.Time, error) {
	c := exec.Command("git", "log", "-1", "--format=%cI")
	c.Dir = root
	text, err := c.Output()
	if err != nil {
		return time.Time{}, fmt.Errorf("the time of the last change is not known: %w", err)
	}
	return time.Parse(time.RFC3339+"\n", string(text))
}
