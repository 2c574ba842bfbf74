package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/testclient"
)

// tried is a project whose one program does what its argument says, with
// trials that are given as TOML.
func tried(t testing.TB, trials string) string {
	t.Helper()
	return project(t, map[string]string{
		"go.mod": "module bell\n\ngo 1.22\n",
		"main.go": `package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

var version string

func main() {
	switch os.Args[1] {
	case "version":
		fmt.Println("bell", version)
	case "sleep":
		time.Sleep(time.Hour)
	case "hang": // with a child that leaves the process group, and one that does not
		for _, apart := range []bool{false, true} {
			c := exec.Command(os.Args[0], "sleep")
			c.SysProcAttr = &syscall.SysProcAttr{Setsid: apart}
			c.Start()
		}
		fmt.Println("rings on and on")
		time.Sleep(time.Hour)
	case "leave": // a child that goes on when this has ended
		c := exec.Command(os.Args[0], "sleep")
		c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
		c.Start()
	case "crash":
		fmt.Fprintln(os.Stderr, "about to crash")
		syscall.Kill(os.Getpid(), syscall.SIGKILL)
	case "fail":
		fmt.Fprintln(os.Stderr, "no such bell")
		os.Exit(7)
	case "place":
		home, _ := os.ReadDir(os.Getenv("HOME"))
		here, _ := os.ReadDir(".")
		wd, _ := os.Getwd()
		_, secret := os.LookupEnv("HUTBELL_SECRET")
		fmt.Println(len(home), len(here), filepath.Base(wd), secret, os.Getenv("HUT"))
	case "network":
		if _, err := net.DialTimeout("tcp", os.Args[2], time.Second); err != nil {
			fmt.Println("alone")
		}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		fmt.Println(l != nil, err)
	case "write":
		os.WriteFile("out.txt", []byte("x"), 0o644)
	}
}
`,
		"piedmont.toml": `[project]
name = "bell"
[program.bell]
language = "go"
source = "."
platforms = ["` + here + `"]
stamp = { "main.version" = "{version}" }
[bundle.bell]
programs = ["bell"]
folder = "bell-{version}"
[destination.share]
kind = "folder"
path = "../share"
` + trials,
	})
}

type triedAnswer struct {
	OK     bool `json:"ok"`
	Trials []struct {
		Trial, State, Why, Output, SHA256 string
		Offline                           bool
	} `json:"trials"`
}

func TestTrials(t *testing.T) {
	server := servePage(t, nil) // something that answers on loopback
	cases := []struct {
		name, toml string
		state      string
		why        string
	}{
		{"version", `run = ["bell", "version"]
expect = "bell {version}"`, "passed", ""},
		{"wrong version", `run = ["bell", "version"]
expect = "bell 9.9.9"`, "failed", `its output is "bell 1.0.0", and "bell 9.9.9" was expected`},
		{"crash", `run = ["bell", "crash"]`, "failed", "it crashed: killed"},
		{"status", `run = ["bell", "fail"]`, "failed", "its exit status is 7, and 0 was expected"},
		{"status as expected", `run = ["bell", "fail"]
expect = { status = 7, contains = "no such bell", matches = "such b.ll" }`, "passed", ""},
		{"contains", `run = ["bell", "version"]
expect = { contains = ["bell", "gong"] }`, "failed", `its output does not contain "gong"`},
		{"matches", `run = ["bell", "version"]
expect = { matches = "^gong" }`, "failed", `its output does not match "^gong"`},
		{"file", `run = ["bell", "write"]
expect = { file = "out.txt" }`, "passed", ""},
		{"no file", `run = ["bell", "version"]
expect = { file = "out.txt" }`, "failed", "there is no file out.txt afterwards"},
		{"clean place", `run = ["bell", "place"]
env = { HUT = "Karrenjoch" }
expect = "0 1 bell-{version} false Karrenjoch"`, "passed", ""},
		{"hang", `run = ["bell", "hang"]
within = "1500ms"`, "failed", "it was still running after 1.5s and was stopped"},
		{"leave", `run = ["bell", "leave"]`, "passed", ""},
		{"network", `run = ["bell", "network", "` + strings.TrimPrefix(server.url, "http://") + `"]
expect = "alone\ntrue <nil>"`, "passed", ""},
	}
	var toml strings.Builder
	for _, c := range cases {
		toml.WriteString("[trial." + strings.ReplaceAll(c.name, " ", "-") + "]\nbundle = \"bell\"\n" + c.toml + "\n")
	}
	dir := tried(t, toml.String())
	c := call{dir: dir, env: []string{"HUTBELL_SECRET=x"}}
	c.ok(t, "make")
	start := time.Now()
	r := c.run(t, "try", "--json")
	if r.code != 4 {
		t.Errorf("exit %d, want 4\n%s", r.code, r.err)
	}
	if took := time.Since(start); took > 30*time.Second {
		t.Errorf("the trials took %s: what hangs was not stopped", took)
	}
	got := decode[triedAnswer](t, r)
	for i, want := range cases {
		one := got.Trials[i]
		if want.name == "network" && !one.Offline {
			t.Log("this system does not let a program be without the network")
			continue
		}
		if one.State != want.state || !strings.Contains(one.Why, want.why) {
			t.Errorf("%s: %s, %s\n%s", want.name, one.State, one.Why, one.Output)
		}
	}
	// Nothing of it is left, in the outbox there is a record, and a person is
	// shown what a failed one said.
	time.Sleep(200 * time.Millisecond)
	if out, err := command("pgrep", "-f", "unpacked/bell-1.0.0/bell sleep").Output(); err == nil {
		t.Errorf("children are left: %s", out)
	}
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "piedmont-trial-*", "unpacked", "bell-1.0.0")); len(
		left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	record, err := os.ReadFile(filepath.Join(dir, "outbox", "1.0.0", "trials.json"))
	if err != nil {
		t.Fatal(err)
	}
	contains(t, string(record), `"piedmont-trials/1"`, `"sha256"`, "rings on and on")
	r = c.run(t, "try", "--trial", "crash", "--trial", "status")
	contains(t, r.out, "failed crash on "+here, "| about to crash", "$ bell fail", "| no such bell",
		"2 failed of 2 trials")
	contains(t, r.err, "2 trials did not pass")
	c.ok(t, "verify", filepath.Join(dir, "outbox", "1.0.0"))
	if m := decode[struct{ Unchanged bool }](t, c.ok(t, "make", "--json")); !m.Unchanged {
		t.Error("the record of trials made the outbox another one")
	}
	for _, bad := range [][]string{{"try", "--trial", "crush"}, {"try", "--platform", "linux/none"}} {
		if r := c.run(t, bad...); r.code != 2 {
			t.Errorf("%v: exit %d\n%s", bad, r.code, r.err)
		}
	}
}

// Publishing waits for the required trials on exactly these bytes.
func TestPublishWaitsForTrials(t *testing.T) {
	dir := tried(t, `
[trial.version]
bundle = "bell"
run = ["bell", "version"]
expect = "bell {version}"
required = true
`)
	c := call{dir: dir}
	refused := func(tells string) {
		t.Helper()
		r := c.run(t, "publish")
		if r.code != 4 || !strings.Contains(r.err, tells) {
			t.Errorf("exit %d, want 4 and %q\n%s", r.code, tells, r.err)
		}
		if _, err := os.Stat(filepath.Join(dir, "..", "share", "1.0.0")); err == nil {
			t.Fatal("it was published")
		}
	}
	c.ok(t, "make")
	refused(`trial "version" of bell-1.0.0-linux-amd64.tar.gz was not run on these bytes`)
	// A trial of other bytes does not count.
	c.ok(t, "try")
	source, err := os.ReadFile(filepath.Join(dir, "main.go"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, dir, map[string]string{"main.go": strings.Replace(string(source), `"bell", version`,
		`"gong", version`, 1)})
	git(t, dir, "commit", "--quiet", "--all", "--message", "Ring otherwise")
	git(t, dir, "tag", "--force", "v1.0.0")
	record, err := os.ReadFile(filepath.Join(dir, "outbox", "1.0.0", "trials.json"))
	if err != nil {
		t.Fatal(err)
	}
	c.ok(t, "make")
	refused("was not run on these bytes")
	write(t, filepath.Join(dir, "outbox", "1.0.0"), map[string]string{"trials.json": string(record)})
	refused("was not run on these bytes")
	write(t, filepath.Join(dir, "outbox", "1.0.0"), map[string]string{"trials.json": "{}"})
	if r := c.run(t, "publish"); r.code == 0 {
		t.Error("a damaged record let it pass")
	}
	// Nor does one that failed; ship stops there.
	r := c.run(t, "ship")
	if r.code != 4 {
		t.Errorf("ship: exit %d\n%s", r.code, r.err)
	}
	refused(`failed: its output is "gong 1.0.0"`)
	write(t, dir, map[string]string{"main.go": string(source)})
	git(t, dir, "commit", "--quiet", "--all", "--message", "Ring as before")
	git(t, dir, "tag", "--force", "v1.0.0")
	c.ok(t, "ship")
	if _, err := os.Stat(filepath.Join(dir, "..", "share", "1.0.0", "trials.json")); err == nil {
		t.Error("the record of this machine was published")
	}
}

// What cannot be tried here is told, and is a failure when it is required.
func TestNotTried(t *testing.T) {
	testclient.Need(t, "gcc")
	dir := tried(t, `
[program.far]
language = "go"
source = "."
platforms = ["darwin/arm64", "linux/s390x"]
[bundle.far]
programs = ["far"]
name = "far-{version}-{os}"
[trial.far]
bundle = "far"
run = ["far", "version"]
platforms = ["darwin/arm64"]
[trial.must]
bundle = "far"
run = ["far", "version"]
platforms = ["linux/s390x"]
required = true
`)
	source, err := os.ReadFile(filepath.Join(dir, "main.go"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, dir, map[string]string{"main.go": string(source)})
	bin := t.TempDir()
	for _, tool := range []string{"git", "go"} {
		if err := os.Symlink(testclient.Need(t, tool), filepath.Join(bin, tool)); err != nil {
			t.Fatal(err)
		}
	}
	c := call{dir: dir, env: []string{"PATH=" + bin}}
	c.ok(t, "make")
	contains(t, c.ok(t, "try", "--trial", "far").out,
		"not tried darwin/arm64: nothing on this machine runs such programs", "1 not tried of 1 trial")
	r := c.run(t, "try", "--trial", "must")
	if r.code != 4 {
		t.Errorf("exit %d, want 4", r.code)
	}
	contains(t, r.out+r.err, "there is no emulator qemu-s390x here (apt-get install qemu-user-static)",
		"1 trial that must pass could not be run here")
	contains(t, c.run(t, "ready").out, "obstacle  trials", `trial "must" is required on linux/s390x`,
		"apt-get install qemu-user-static")
}

// The faults of trials in piedmont.toml.
func TestTrialFaults(t *testing.T) {
	for toml, tells := range map[string]string{
		`[trial.a]
run = ["bell"]`: `needs the key "bundle"`,
		`[trial.a]
bundle = "bel"
run = ["bell"]`: `did you mean "bell"?`,
		`[trial.a]
bundle = "bell"
run = []`: "runs at least a program",
		`[trial.a]
bundle = "bell"
run = ["gong"]`: `the bundle bell holds no file gong`,
		`[trial.a]
bundle = "bell"
run = ["bell"]
within = "soon"`: `"soon" is not a time`,
		`[trial.a]
bundle = "bell"
run = ["bell"]
expect = { matches = "(" }`: "is not a pattern",
		`[trial.a]
bundle = "bell"
run = ["bell", "{version"]`: `"{" is never closed`,
		`[trial.a]
bundle = "bell"
run = ["bell"]
expect = { output = "x" }`: `unknown key "output"`,
	} {
		dir := tried(t, toml)
		r := call{dir: dir}.run(t, "plan")
		if r.code != 2 || !strings.Contains(r.err, tells) {
			t.Errorf("exit %d, want 2 and %q\n%s", r.code, tells, r.err)
		}
	}
}
