package trial

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"piedmont/internal/base/platform"
	"piedmont/internal/base/process"
	"piedmont/internal/release"
)

func failed(t *testing.T, script string) error {
	t.Helper()
	return exec.Command("sh", "-c", script).Run()
}

func TestJudge(t *testing.T) {
	here := t.TempDir()
	if err := os.WriteFile(filepath.Join(here, "made"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		expect Outcome
		got    process.Result
		late   bool
		state  string
		why    string
	}{
		"well":          {Outcome{Is: "ring"}, process.Result{Stdout: "  ring\n"}, false, Passed, ""},
		"several lines": {Outcome{Is: "a\nb"}, process.Result{Stdout: "a\nb\n"}, false, Passed, ""},
		"other output": {Outcome{Is: "ring"}, process.Result{Stdout: "gong"}, false, Failed,
			`its output is "gong", and "ring" was expected`},
		"no output": {Outcome{Is: "ring"}, process.Result{}, false, Failed, "its output is empty"},
		"much output": {Outcome{Is: "ring"}, process.Result{Stdout: strings.Repeat("long ", 100) + "\nx"},
			false, Failed, "and so on"},
		"on stderr": {Outcome{Contains: []string{"ring"}}, process.Result{Stderr: "it rings"}, false,
			Passed, ""},
		"is is not stderr": {Outcome{Is: "ring"}, process.Result{Stderr: "ring"}, false, Failed, "empty"},
		"a file":           {Outcome{File: "made"}, process.Result{}, false, Passed, ""},
		"status":           {Outcome{Status: 3}, process.Result{Err: failed(t, "exit 3")}, false, Passed, ""},
		"wrong status": {Outcome{}, process.Result{Err: failed(t, "exit 3")}, false, Failed,
			"its exit status is 3, and 0 was expected"},
		"status 0": {Outcome{Status: 3}, process.Result{}, false, Failed,
			"its exit status is 0, and 3 was expected"},
		"a crash": {Outcome{}, process.Result{Err: failed(t, "kill -SEGV $$")}, false, Failed,
			"it crashed: segmentation fault"},
		"no loader": {Outcome{}, process.Result{Err: os.ErrNotExist}, false, Failed,
			"the loader or interpreter that it names is not there"},
		"late": {Outcome{}, process.Result{Err: failed(t, "kill -KILL $$")}, true, Failed,
			"still running after 5s"},
		"left running": {Outcome{}, process.Result{Err: exec.ErrWaitDelay}, false, Passed, ""},
	} {
		var r Result
		judge(runner{}, Trial{Expect: c.expect, Within: 5 * time.Second}, here, c.got, c.late, &r)
		if r.State != c.state || !strings.Contains(r.Why, c.why) {
			t.Errorf("%s: %s, %s", name, r.State, r.Why)
		}
	}
}

// What Wine lacks is not the program's fault; what the archive lacks is.
func TestWineLack(t *testing.T) {
	bad := errors.New("exit status 53")
	for said, want := range map[string]string{
		`0024:err:module:import_dll Library bcryptprimitives.dll (which is needed by L"Z:\\x.exe") not found`: NotTried,
		`0024:err:module:import_dll Library libwinpthread-1.dll (which is needed by L"Z:\\x.exe") not found`:  Failed,
		"fatal error: bcryptprimitives.dll not found":                                                         NotTried,
		"wine: could not load kernel32.dll, status c0000135":                                                  NotTried,
		"panic: no bell": "",
	} {
		if state, why := wineLack(process.Result{Stderr: said, Err: bad}); state != want {
			t.Errorf("%s: %q, %s", said, state, why)
		}
	}
	if state, _ := wineLack(process.Result{Stderr: "x.dll not found"}); state != "" {
		t.Error("a program that ended well lacks nothing")
	}
}

func TestEnds(t *testing.T) {
	var lines []string
	for range 100 {
		lines = append(lines, "line")
	}
	got := ends(process.Result{Stdout: "first\n" + strings.Join(lines, "\n"), Stderr: "last"})
	if !strings.HasPrefix(got, "first\n") || !strings.HasSuffix(got, "\nlast") || !strings.Contains(got, "[82 lines]") {
		t.Errorf("%s", got)
	}
}

func TestEmulator(t *testing.T) {
	if name, why, _ := Emulator(platform.Host()); name != "this system" || why != "" {
		t.Errorf("the system itself: %q, %s", name, why)
	}
	for _, on := range []platform.Platform{{OS: "plan9", Arch: "amd64"}, {OS: "windows", Arch: "arm64"}} {
		if name, why, _ := Emulator(on); name != "" || why == "" {
			t.Errorf("%s is run by %q", on, name)
		}
	}
}

// Results of other trials of the same files stay; those of other bytes go.
func TestRecord(t *testing.T) {
	dir := t.TempDir()
	m := &release.Manifest{Version: "1.0.0", Files: []release.Artifact{{Name: "a", SHA256: "11"},
		{Name: "b", SHA256: "22"}}}
	save := func(list ...Result) {
		t.Helper()
		if err := Save(dir, m, list); err != nil {
			t.Fatal(err)
		}
	}
	trials := []Trial{{Name: "x", File: "a", Required: true}, {Name: "y", File: "b", Required: true},
		{Name: "z", File: "b"}}
	result := func(i int, state, sum string) Result {
		return Result{Trial: trials[i].Name, File: trials[i].File, State: state, SHA256: sum, Asked: Asked(trials[i])}
	}
	outstanding := func(want ...string) {
		t.Helper()
		got, err := Outstanding(dir, m, trials)
		if err != nil || len(got) != len(want) {
			t.Fatalf("%q, %v", got, err)
		}
		for i := range want {
			if !strings.Contains(got[i], want[i]) {
				t.Errorf("%q, want %q", got[i], want[i])
			}
		}
	}
	outstanding(`"x" of a was not run`, `"y" of b was not run`)
	save(result(0, Passed, "11"))
	save(result(1, Failed, "22"))
	outstanding(`"y" of b failed`)
	save(result(1, Passed, "22"))
	outstanding()
	m.Files[0].SHA256 = "33"
	outstanding(`"x" of a was not run`)
	save(result(1, NotTried, "22"))
	if rec, err := Load(dir); err != nil || len(rec.Trials) != 1 {
		t.Errorf("%+v, %v", rec, err)
	}
	outstanding(`"x" of a was not run`, `"y" of b not tried`)
	trials[1].Run = []string{"other"} // another question
	outstanding(`"x" of a was not run`, `"y" of b was not run`)
}
