package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"piedmont/internal/release"
)

// serve starts a release page and gives its address and a token.
func (b *bench) serve(data string) (address, token string, stop func(), err error) {
	out, err := exec.Command(b.piedmont, "serve", "token", "new", "bench", "--data", data, "--project", "*").Output()
	if err != nil {
		return "", "", nil, err
	}
	cmd := exec.Command(b.piedmont, "serve", "--quiet", "--data", data, "--listen", "127.0.0.1:0")
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		return "", "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", "", nil, err
	}
	line, err := bufio.NewReader(pipe).ReadString('\n')
	stop = func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
	return strings.TrimSuffix(strings.TrimSpace(line), "/"), strings.TrimSpace(string(out)), stop, err
}

// heavy writes a project whose only bundle holds one large file.
func (b *bench) heavy(name string, bytes int64, compressible bool) (string, error) {
	dir := filepath.Join(b.dir, name)
	err := writeFiles(dir, map[string]string{".gitignore": "blob\n", "piedmont.toml": "[project]\nname = \"" +
		name + "\"\n\n[bundle.data]\nfiles = [\"blob\"]\n\n" +
		"[destination.page]\nkind = \"release-page\"\nurl = \"env:BENCH_PAGE\"\ntoken = \"env:BENCH_TOKEN\"\n"})
	if err != nil {
		return "", err
	}
	if err := large(filepath.Join(dir, "blob"), bytes, compressible); err != nil {
		return "", err
	}
	return dir, commit(dir, "v1.0.0")
}

// memory: a bundle with a file of 2 GiB, made and sent.
func (b *bench) memory() error {
	project, err := b.heavy("heavy", 2<<30, true)
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(project) }()
	data := filepath.Join(b.dir, "pages-memory")
	defer func() { _ = os.RemoveAll(data) }()
	address, token, stop, err := b.serve(data)
	if err != nil {
		return err
	}
	defer stop()
	env := []string{"BENCH_PAGE=" + address, "BENCH_TOKEN=" + token}
	made, err := measure(project, env, b.piedmont, "make", "--jobs", jobs)
	if err != nil {
		return err
	}
	sent, err := measure(project, env, b.piedmont, "publish")
	if err != nil {
		return err
	}
	b.add(fmt.Sprintf("a bundle with a file of 2 GiB, made in %s and sent in %s: peak memory",
		seconds(made.wall), seconds(sent.wall)),
		mib(made.peak)+" and "+mib(sent.peak), "", "", "≤ 150 MiB")
	return nil
}

// upload: 1 GiB to a release page on this machine, beside curl to the same server.
func (b *bench) upload() error {
	project, err := b.heavy("bulk", 1<<30, false)
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(project) }()
	if _, err := measure(project, nil, b.piedmont, "make", "--jobs", jobs); err != nil {
		return err
	}
	data := filepath.Join(b.dir, "pages-upload")
	defer func() { _ = os.RemoveAll(data) }()
	address, token, stop, err := b.serve(data)
	if err != nil {
		return err
	}
	defer stop()
	shelf := filepath.Join(data, "projects", "bulk")
	outbox := filepath.Join(project, "outbox", "1.0.0")
	name := "bulk-1.0.0-data.tar.gz"
	n := 0
	curl := func() (usage, error) {
		n++
		draft, err := openDraft(address, token, outbox, fmt.Sprintf("2.0.%d", n))
		if err != nil {
			return usage{}, err
		}
		return measure(outbox, nil, "curl", "--silent", "--fail", "--header", "Authorization: Bearer "+token,
			"-T", name, address+draft+"/"+name)
	}
	ours := func() (usage, error) {
		return measure(project, []string{"BENCH_PAGE=" + address, "BENCH_TOKEN=" + token}, b.piedmont, "publish")
	}
	clear := func() error { return removeAll(shelf) }
	curlTook, err := median(5, clear, curl)
	if err != nil {
		return err
	}
	oursTook, err := median(5, clear, ours)
	if err != nil {
		return err
	}
	rate := func(d time.Duration) string { return fmt.Sprintf("%.0f MiB/s", 1024/d.Seconds()) }
	b.add("1 GiB to `piedmont serve` on loopback: publish beside `curl -T`, as a rate", rate(oursTook),
		rate(curlTook), ratio(curlTook, oursTook), "≥ 0.80")
	return nil
}

// openDraft opens the draft of the release in outbox under another version.
func openDraft(address, token, outbox, version string) (string, error) {
	encoded, err := os.ReadFile(filepath.Join(outbox, release.Name))
	if err != nil {
		return "", err
	}
	m, err := release.Parse(encoded)
	if err != nil {
		return "", err
	}
	m.Version = version
	if encoded, err = m.Encode(); err != nil {
		return "", err
	}
	req, err := http.NewRequest(http.MethodPost, address+"/api/"+m.Project.Name+"/drafts", bytes.NewReader(encoded))
	if err != nil {
		return "", err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer func() { _ = resp.Body.Close() }()
	var d struct{ ID string }
	if err := json.NewDecoder(resp.Body).Decode(&d); err != nil || d.ID == "" {
		return "", errors.Join(err, fmt.Errorf("no draft: %s", resp.Status))
	}
	return "/api/" + m.Project.Name + "/drafts/" + d.ID, nil
}
