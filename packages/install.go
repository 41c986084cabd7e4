package main

import (
	"debug/buildinfo"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"
	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb" // makes the formats known
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"

	"lastboard/internal/cli"
)

// places says where the files of an installed package stand, by the folder that they have in an
// archive.
var places = []struct{ from, to string }{
	{"man/", "/usr/share/man/man1/"},
	{"docs/", "/usr/share/doc/lastboard/"},
	{"LICENSE", "/usr/share/doc/lastboard/copyright"},
	{"README.md", "/usr/share/doc/lastboard/README.md"},
	{"completions/lastboard.fish", "/usr/share/fish/vendor_completions.d/lastboard.fish"},
	{"completions/_lastboard", "/usr/share/zsh/vendor-completions/_lastboard"},
	{"completions/lastboard.ps1", ""}, // for archives alone
	{"completions/lastboard", "/usr/share/bash-completion/completions/lastboard"},
}

// install makes the packages that a Linux system installs.
func install(out, program string, p platform, along []file, at time.Time) error {
	contents := files.Contents{{Source: program, Destination: "/usr/bin/lastboard",
		FileInfo: &files.ContentFileInfo{Mode: 0o755, MTime: at}}}
	for _, f := range along {
		for _, place := range places {
			rest, ok := strings.CutPrefix(f.to, place.from)
			if !ok {
				continue
			}
			if place.to != "" {
				contents = append(contents, &files.Content{Source: f.from, Destination: place.to + rest,
					FileInfo: &files.ContentFileInfo{Mode: 0o644, MTime: at}})
			}
			break
		}
	}
	for _, format := range []string{"deb", "rpm"} {
		packager, err := nfpm.Get(format)
		if err != nil {
			return err
		}
		info := nfpm.WithDefaults(&nfpm.Info{
			Name: "lastboard", Arch: p.machine, Platform: p.system, Version: cli.Version, Section: "database",
			Maintainer: "Lastboard", Description: "Changes the tables of a live database through versioned migrations",
			License: "MIT", MTime: at, Overridables: nfpm.Overridables{Contents: contents},
		})
		w, err := os.Create(filepath.Join(out, packager.ConventionalFileName(info)))
		if err != nil {
			return err
		}
		err = packager.Package(info, w)
		if closed := w.Close(); err == nil {
			err = closed
		}
		if err != nil {
			return fmt.Errorf("the %s cannot be made: %w", format, err)
		}
	}
	return nil
}

// parts writes what a program is built from, as CycloneDX has it.
func parts(program, path string, at time.Time) error {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return err
	}
	bom := cdx.NewBOM()
	bom.Metadata = &cdx.Metadata{Timestamp: at.UTC().Format(time.RFC3339),
		Component: &cdx.Component{Type: cdx.ComponentTypeApplication, Name: "lastboard", Version: cli.Version}}
	list := []cdx.Component{{Type: cdx.ComponentTypeLibrary, BOMRef: "pkg:golang/std@" + info.GoVersion, Name: "std",
		Version: info.GoVersion, PackageURL: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go")}}
	for _, d := range info.Deps {
		if d.Replace != nil {
			d = d.Replace
		}
		url := "pkg:golang/" + d.Path + "@" + d.Version
		list = append(list, cdx.Component{Type: cdx.ComponentTypeLibrary, BOMRef: url, Name: d.Path, Version: d.Version,
			PackageURL: url})
	}
	bom.Components = &list
	w, err := os.Create(path)
	if err != nil {
		return err
	}
	e := cdx.NewBOMEncoder(w, cdx.BOMFileFormatJSON)
	e.SetPretty(true)
	err = e.Encode(bom)
	if closed := w.Close(); err == nil {
		err = closed
	}
	return err
}
