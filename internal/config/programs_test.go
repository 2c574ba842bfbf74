package config_test

import (
	"errors"
	"strings"
	"testing"

	"piedmont/internal/config"
	"piedmont/internal/kinds"
	"piedmont/internal/lang/golang"
)

const c = "[project]\nname = \"bells\"\n[program.bell]\nlanguage = \"c\"\nsource = \"src\"\nplatforms = " +
	"[\"linux/amd64\"]\n"

// Each fault of programs, toolchains and trials is told where it stands.
func TestProgramFaults(t *testing.T) {
	for _, f := range []struct{ text, want string }{
		{c + "tags = [\"x\"]\n", `piedmont.toml:7:1: language = "c" has no key "tags"; it is for go`},
		{c + "run = [\"make\"]\n", `language = "c" has no key "run"; it is for command`},
		{c + "digest = { \"linux/amd64\" = \"00\" }\n", `language = "c" has no key "digest"; it is for prebuilt`},
		{c + "link = \"statik\"\n", `unknown link "statik"; did you mean "static"?`},
		{c + "makes = \"lib\"\n", `unknown makes "lib"; there are program, library`},
		{c + "symbols = \"none\"\n", `unknown symbols "none"`},
		{c + "stamp = { \"a.b\" = \"x\" }\n", `"a.b" cannot be the name of a macro`},
		{c + "define = { X = \"{versoin}\" }\n", "unknown placeholder {versoin}"},
		{c + "libraries = [\"-lm\"]\n", `"-lm" is not the name of a library; write "m" for libm`},
		{c + "include = [\"../up\"]\n", `"../up" leaves the project`},
		{c + "sources = [\"[\"]\n", `"[" is not a pattern`},
		{c + "flags = [\"-o\"]\n", "-o is set by Piedmont itself"},
		{c + "needs = [\"gong\"]\n", `unknown program "gong"; there are bell`},
		{c + "needs = [\"bell\"]\n", "bell and bell need each other"},
		{c + "toolchain = \"hill\"\n", `unknown toolchain "hill"; none is defined`},
		{c + "missing-compiler = \"skip\"\n", `unknown missing compiler "skip"`},
		{c + "expect = { linkage = \"statically\" }\n", `unknown linkage "statically"; did you mean "static"?`},
		{c + "expect = { libc-at-most = \"two\" }\n", `"two" is not a version of glibc; write it as in "2.28"`},
		{c + "expect = { largest = \"big\" }\n", `"big" is not a size; write it as in "12 MiB"`},
		{c + "expect = { striped = true }\n", `unknown key "striped" in expect; did you mean "stripped"?`},
		{c + "expect = { stripped = \"yes\" }\n", "expected true or false, found a text"},
		{c + "makes = \"library\"\nexpect = { stripped = true }\n", "a static library is no executable"},
		{strings.Replace(c, `source = "src"`, `source = "src/{os}"`, 1), "it has no placeholders"},
		{strings.Replace(c, `"linux/amd64"`, `"linux/amd46"`, 1),
			`there is no platform "linux/amd46"; did you mean "linux/amd64"?`},
		{strings.Replace(c, `"linux/amd64"`, `"linux/arm/v9"`, 1), "arm has no variant \"v9\""},
		{strings.Replace(c, `"c"`, `"command"`, 1), `[program.bell] needs the key "run"`},
		{strings.Replace(c, `"c"`, `"command"`, 1) + "run = [[]]\n", "a command cannot be empty"},
		{strings.Replace(c, `"c"`, `"command"`, 1) + "run = \"make\"\n", "a shell must be named"},
		{strings.Replace(c, `"c"`, `"command"`, 1) + "run = [[\"make\", \"D={stag}\"]]\n",
			"unknown placeholder {stag}"},
		{strings.Replace(c, `"c"`, `"command"`, 1) + "run = [\"make\"]\nenv = { X = \"{stage.gong}\" }\n",
			"unknown placeholder {stage.gong}"},
		{strings.Replace(c, `"c"`, `"command"`, 1) + "run = [\"make\"]\nfile = \"/usr/bin/x\"\n",
			`"/usr/bin/x" leaves the project`},
		{strings.Replace(c, `"c"`, `"prebuilt"`, 1) + "digest = { \"linux/arm64\" = \"00\" }\n",
			"is not made for a platform \"linux/arm64\""},
		{strings.Replace(c, `"c"`, `"prebuilt"`, 1) + "digest = { \"linux/amd64\" = \"00\" }\n",
			`"00" is not a SHA-256`},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\n",
			`says neither "triplet" nor the path of its compiler`},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\ntriplet = \"x\"\narchive = \"a.tar\"\n",
			`an archive needs the key "sha256"`},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\ntriplet = \"x\"\nsha256 = \"00\"\n", "is not a SHA-256"},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\ntriplet = \"x\"\narchive = " +
			"\"ftp://a/b\"\nsha256 = \"" + strings.Repeat("0", 64) + "\"\n", "ftp: is no way to fetch an archive"},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\ntriplet = \"x\"\narchive = " +
			"\"https://me:pw@a/b\"\nsha256 = \"" + strings.Repeat("0", 64) + "\"\n", "no user and password"},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\ntools = { c = \"x\" }\n", `unknown tool "c"`},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\ntriplet = \"x\"\ndrop-folders = \"one\"\n",
			"expected a whole number"},
		{c + "[toolchain.hill]\nplatforms = [\"linux/amd64\"]\ntriplet = \"x\"\nenv = { A = \"{root}\" }\n",
			"unknown placeholder {root}"},
		{c + "[bundle.b]\ntrees = [\"bell\"]\n", "bell is one file and has no stage"},
		{c + "[bundle.b]\ntrees = [\"gong\"]\n", `unknown program "gong"`},
		{c + "[bundle.b]\ntrees = [{ from = \"x\" }]\n", `a tree needs "program"`},
		{c + "[packing]\neffort = \"huge\"\n", `unknown effort "huge"; there are fast, normal, small`},
	} {
		_, err := parseText(f.text)
		if err == nil || !strings.Contains(err.Error(), f.want) {
			t.Errorf("%s\ngives %v\nwant %s", f.text, err, f.want)
		}
	}
}

// A project without Go asks for no Go toolchain.
func TestNoGoIsAsked(t *testing.T) {
	t.Setenv("PATH", t.TempDir())
	if _, err := config.Parse("/p/piedmont.toml", []byte(c),
		kinds.New(kinds.Options{Ctx: t.Context(), Dir: t.TempDir()}).Tables()); err != nil {
		t.Error(err)
	}
	inGo := strings.Replace(c, `"c"`, `"go"`, 1)
	_, err := config.Parse("/p/piedmont.toml", []byte(inGo),
		kinds.New(kinds.Options{Ctx: t.Context(), Dir: t.TempDir()}).Tables())
	if !errors.Is(err, golang.ErrNoGo) {
		t.Errorf("a program in Go without a toolchain: %v", err)
	}
}
