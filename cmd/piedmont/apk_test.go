package main

import (
	"bytes"
	"compress/gzip"
	"io"
	"testing"
)

// parts cuts a package for apk into its two members' contents.
func parts(t *testing.T, data []byte) (control, files []byte) {
	t.Helper()
	r := bytes.NewReader(data)
	z, err := gzip.NewReader(r)
	if err != nil {
		t.Fatal(err)
	}
	var out [][]byte
	for {
		z.Multistream(false)
		content, err := io.ReadAll(z)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, content)
		if err := z.Reset(r); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
	}
	return out[0], out[1]
}

func zipped(data []byte) []byte {
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	_, _ = z.Write(data)
	_ = z.Close()
	return buf.Bytes()
}

// swap replaces a text in the control member by one of the same length.
func swap(old, new string) func(*testing.T, []byte) []byte {
	return func(t *testing.T, data []byte) []byte {
		control, files := parts(t, data)
		if !bytes.Contains(control, []byte(old)) || len(old) != len(new) {
			t.Fatalf("%q cannot be swapped", old)
		}
		return append(zipped(bytes.Replace(control, []byte(old), []byte(new), 1)),
			data[len(data)-len(tailOf(t, data, files)):]...)
	}
}

// tailOf gives the second member as it is in the file.
func tailOf(t *testing.T, data, files []byte) []byte {
	t.Helper()
	for at := 1; at < len(data)-2; at++ {
		if data[at] != 0x1f || data[at+1] != 0x8b {
			continue
		}
		if z, err := gzip.NewReader(bytes.NewReader(data[at:])); err == nil {
			if content, err := io.ReadAll(z); err == nil && bytes.Equal(content, files) {
				return data[at:]
			}
		}
	}
	t.Fatal("there is no second member")
	return nil
}

// refiled writes the files' member anew, with what is done to its content.
func refiled(change func(files []byte) []byte) func(*testing.T, []byte) []byte {
	return func(t *testing.T, data []byte) []byte {
		_, files := parts(t, data)
		tail := tailOf(t, data, files)
		return append(bytes.Clone(data[:len(data)-len(tail)]), zipped(change(files))...)
	}
}

// spoilers damage a package for apk, each in its way.
var spoilers = map[string]func(*testing.T, []byte) []byte{
	"empty":   func(*testing.T, []byte) []byte { return nil },
	"cut off": func(_ *testing.T, d []byte) []byte { return d[:len(d)-20] },
	"first member only": func(t *testing.T, d []byte) []byte {
		_, f := parts(t, d)
		return d[:len(d)-len(tailOf(t, d, f))]
	},
	"something after it": func(_ *testing.T, d []byte) []byte { return append(bytes.Clone(d), "more"...) },
	"a bit in the files": func(_ *testing.T, d []byte) []byte { d = bytes.Clone(d); d[len(d)-40] ^= 4; return d },
	"no name":            swap("pkgname = ", "pkgnome = "),
	"another version":    swap("pkgver = 1.0.0-r0", "pkgver = 1.0.0-x0"),
	"no digest":          swap("datahash = ", "datahush = "),
	"another size":       swap("\nsize = ", "\nsiez = "),
	"a name in control":  swap(".post-install", ".post-instill"),
	"no shell":           swap("#!/bin/sh", "#!/bin/no"),
	"other bytes, other member": refiled(func(f []byte) []byte {
		return bytes.Replace(f, []byte("belld 1.0.0"), []byte("belld 6.6.6"), 1)
	}),
	"no end of the tar": refiled(func(f []byte) []byte { return f[:len(f)-1024] }),
	"an end in control": func(t *testing.T, d []byte) []byte {
		control, files := parts(t, d)
		return append(zipped(append(control, make([]byte, 1024)...)), tailOf(t, d, files)...)
	},
}
