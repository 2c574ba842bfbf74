package main

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"piedmont/internal/release"
)

// bulky is a project with enough bytes that packing and uploading take a while.
func bulky() map[string]string {
	files := small()
	var text strings.Builder
	for i := uint32(1); text.Len() < 8<<20; i++ {
		x := i * 2654435761
		text.WriteByte(byte('a' + x>>28))
		text.WriteByte(byte('a' + x>>20&15))
	}
	files["blob.bin"] = text.String()
	files["piedmont.toml"] = strings.Replace(files["piedmont.toml"], `["LICENSE"]`, `["LICENSE", "blob.bin"]
formats  = ["tar.gz", "zip", "tar.zst"]`, 1)
	return files
}

// killAfter starts a call and ends it with SIGKILL after a while. It says
// whether the call had ended by itself.
func (c call) killAfter(t *testing.T, d time.Duration, args ...string) (ended bool) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = c.dir, append(environment(), c.env...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
		return true
	case <-time.After(d):
		_ = cmd.Process.Kill()
		<-done
		return false
	}
}

// poll looks at something again and again until the test stops it.
func poll(t *testing.T, look func() string) (stop func()) {
	t.Helper()
	quit := make(chan struct{})
	var group sync.WaitGroup
	group.Go(func() {
		for {
			select {
			case <-quit:
				return
			default:
			}
			if wrong := look(); wrong != "" {
				t.Error(wrong)
				return
			}
			time.Sleep(2 * time.Millisecond)
		}
	})
	return func() { close(quit); group.Wait() }
}

// wholeFolder says what is wrong with a release in a folder: it is there whole,
// or not at all.
func wholeFolder(dir string) string {
	data, err := os.ReadFile(filepath.Join(dir, release.Name))
	if err != nil {
		if _, err := os.Stat(dir); err == nil {
			if _, again := os.ReadFile(filepath.Join(dir, release.Name)); again != nil {
				return dir + " is there without a manifest"
			}
		}
		return ""
	}
	m, err := release.Parse(data)
	if err != nil {
		return err.Error()
	}
	for _, f := range m.Files {
		if info, err := os.Stat(filepath.Join(dir, f.Name)); err != nil || info.Size() != f.Size {
			return f.Name + " is not whole"
		}
	}
	if _, err := os.Stat(filepath.Join(dir, release.SumsName)); err != nil {
		return "the checksums are missing"
	}
	return ""
}

func TestKilledMake(t *testing.T) {
	undisturbed := project(t, bulky())
	call{dir: undisturbed}.ok(t, "make")
	dir := project(t, bulky())
	c := call{dir: dir}
	outbox := filepath.Join(dir, "outbox", "1.0.0")
	stop := poll(t, func() string { return wholeFolder(outbox) })
	killed := 0
	for d := 5 * time.Millisecond; d < 3*time.Second; d = d*5/4 + 3*time.Millisecond {
		if c.killAfter(t, d, "make") {
			// It came to its end: begin anew with an empty store and go on killing.
			if err := os.RemoveAll(filepath.Join(dir, ".piedmont")); err != nil {
				t.Fatal(err)
			}
			if d > time.Second {
				break
			}
			continue
		}
		killed++
	}
	c.ok(t, "make")
	stop()
	if killed < 8 {
		t.Errorf("only %d runs were killed", killed)
	}
	sameTree(t, filepath.Join(undisturbed, "outbox", "1.0.0"), outbox)
	if left, err := os.ReadDir(filepath.Join(dir, ".piedmont", "store", "tmp")); err != nil || len(left) > 0 {
		t.Errorf("left in the store: %v %v", left, err)
	}
}

func TestKilledPublish(t *testing.T) {
	// The page reads slowly, so that the kill meets every moment of an upload.
	p := servePage(t, func(_ http.ResponseWriter, r *http.Request, _ http.Handler) bool {
		if r.Method == http.MethodPut {
			r.Body = struct {
				io.Reader
				io.Closer
			}{slowly{r.Body}, r.Body}
		}
		return false
	})
	dir := project(t, bulky())
	c := call{dir, p.env()}
	c.ok(t, "make")
	stopPage := poll(t, func() string { return wholePage(p.url + "/chime/1.0.0/") })
	share := filepath.Join(filepath.Dir(dir), "share")
	stopShare := poll(t, func() string { return wholeFolder(filepath.Join(share, "1.0.0")) })
	killed, ended := 0, false
	for d := 10 * time.Millisecond; !ended && killed < 60; d += 7 * time.Millisecond {
		if ended = c.killAfter(t, d, "publish"); !ended {
			killed++
		}
	}
	c.ok(t, "publish")
	stopPage()
	stopShare()
	t.Logf("%d runs were killed", killed)
	if killed < 8 {
		t.Errorf("only %d runs were killed", killed)
	}
	c.ok(t, "verify", p.url+"/chime/1.0.0/")
	c.ok(t, "verify", filepath.Join(share, "1.0.0"))
	for name, content := range tree(t, filepath.Join(dir, "outbox", "1.0.0")) {
		if got, err := os.ReadFile(filepath.Join(share, "1.0.0", name)); err != nil || string(got) != content {
			t.Errorf("%s in the folder is not that of the outbox: %v", name, err)
		}
	}
}

type slowly struct{ r io.Reader }

func (s slowly) Read(p []byte) (int, error) {
	time.Sleep(10 * time.Millisecond)
	return s.r.Read(p[:min(len(p), 32<<10)])
}

// wholePage says what is wrong with a release at an address.
func wholePage(address string) string {
	resp, err := http.Get(address + release.Name)
	if err != nil {
		return err.Error()
	}
	defer func() { _ = resp.Body.Close() }()
	if resp.StatusCode == http.StatusNotFound {
		return ""
	}
	var m release.Manifest
	if err := json.NewDecoder(resp.Body).Decode(&m); err != nil {
		return err.Error()
	}
	for _, f := range m.Files {
		head, err := http.Head(address + f.Name)
		if err != nil {
			return err.Error()
		}
		_ = head.Body.Close()
		if head.StatusCode != http.StatusOK || head.ContentLength != f.Size {
			return f.Name + " is not whole on the page"
		}
	}
	return ""
}

// Two at once end as one release, and two runs in one project wait for each other.
func TestTwoAtOnce(t *testing.T) {
	p := servePage(t, nil)
	one := project(t, bulky())
	two := filepath.Join(filepath.Dir(one), "second")
	git(t, filepath.Dir(one), "clone", "--quiet", one, two)
	var group sync.WaitGroup
	for _, dir := range []string{one, two, one, two} {
		group.Go(func() {
			if r := (call{dir, p.env()}).run(t, "ship"); r.code != 0 {
				t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
			}
		})
	}
	group.Wait()
	call{}.ok(t, "verify", p.url+"/chime/1.0.0/")
	call{}.ok(t, "verify", filepath.Join(filepath.Dir(one), "share", "1.0.0"))
	if left, err := os.ReadDir(filepath.Join(p.data, "projects", "chime", ".drafts")); err != nil || len(left) > 0 {
		t.Errorf("drafts are left: %v %v", left, err)
	}
}

func TestLockSaysWhoHoldsIt(t *testing.T) {
	dir := project(t, bulky())
	long := exec.Command(program, "make")
	long.Dir, long.Env = dir, environment()
	if err := long.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = long.Wait() }()
	for range 200 {
		if _, err := os.Stat(filepath.Join(dir, ".piedmont", "holder.json")); err == nil {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	r := call{dir: dir}.run(t, "make", "--no-wait")
	if r.code != 1 {
		t.Errorf("exit %d\n%s", r.code, r.err)
	}
	contains(t, r.err, "another run works in this project", "piedmont make")
	w := call{dir: dir}.ok(t, "make")
	contains(t, w.err, "waiting for another run")
}

func TestInterrupted(t *testing.T) {
	dir := project(t, bulky())
	cmd := exec.Command(program, "make")
	cmd.Dir, cmd.Env = dir, append(environment(), "GOCACHE="+t.TempDir())
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(700 * time.Millisecond)
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); code != 130 {
		t.Errorf("exit %d, want 130", code)
	}
	if _, err := os.Stat(filepath.Join(dir, "outbox", "1.0.0")); err == nil {
		t.Error("an outbox was laid out")
	}
	if out, err := exec.Command("pgrep", "-f", dir).Output(); err == nil {
		t.Errorf("children are left:\n%s", out)
	}
	call{dir: dir}.ok(t, "make")
}
