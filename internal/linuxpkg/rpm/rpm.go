// Package rpm writes and reads packages of RPM's format 4: a lead, a header of
// signatures and digests, the header with all that the package says, and the
// files as a compressed cpio archive. Source: RPM's documentation, "Package
// Format" (version 4).
package rpm

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path"
	"strings"

	"piedmont/internal/format/archive"
	"piedmont/internal/linuxpkg"
)

// compressors are RPM's names for how the payload is compressed.
var compressors = map[string]struct{ name, flags string }{"gz": {"gzip", "9"}, "xz": {"xz", "6"}, "zst": {"zstd", "19"}}

// Write writes a package. compression is gz, xz or zst.
func Write(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string, o archive.Options) error {
	o.Time = p.Time
	files := linuxpkg.WithFolders(p.Files, false)
	// The headers carry sizes and digests of the payload, so it is written aside.
	sum := sha256.New()
	payload := archive.NewSpool(sum)
	defer payload.Close()
	plain, err := writePayload(ctx, payload, files, compression, o)
	if err != nil {
		return err
	}
	main, err := mainHeader(p, files, compression, hex.EncodeToString(sum.Sum(nil)))
	if err != nil {
		return err
	}
	for _, part := range [][]byte{lead(p), signature(main, payload.Size(), plain), main} {
		if _, err := w.Write(part); err != nil {
			return err
		}
	}
	_, err = payload.WriteTo(w)
	return err
}

// lead is what files were known by before there were headers; only its magic
// and types are still read.
func lead(p *linuxpkg.Package) []byte {
	b := make([]byte, 96)
	copy(b, []byte{0xed, 0xab, 0xee, 0xdb, 3, 0, 0, 0, 0, 1})
	copy(b[10:75], p.Name+"-"+p.Version+"-"+p.Revision)
	b[77], b[79] = 1, 5 // Linux; the signature is a header
	return b
}

// signature carries digests and sizes; a signature would be one more entry. It
// fills up to 8 bytes.
func signature(main []byte, payload, plain int64) []byte {
	var h header
	one, two := sha1.Sum(main), sha256.Sum256(main)
	h.text(sigSHA1, hex.EncodeToString(one[:]))
	h.text(sigSHA256, hex.EncodeToString(two[:]))
	if size := int64(len(main)) + payload; size > 1<<32-1 || plain > 1<<32-1 {
		h.int64s(sigLongSize, uint64(size))
		h.int64s(sigLongArchive, uint64(plain))
	} else {
		h.int32s(sigSize, uint32(size))
		h.int32s(sigPayloadSize, uint32(plain))
	}
	out := h.encode(tagSignatures)
	return append(out, make([]byte, -len(out)&7)...)
}

func mainHeader(p *linuxpkg.Package, files []linuxpkg.File, compression, payloadDigest string) ([]byte, error) {
	var h header
	h.texts(tagI18NTable, []string{"C"})
	h.text(tagName, p.Name)
	h.text(tagVersion, p.Version)
	h.text(tagRelease, p.Revision)
	if p.Epoch > 0 {
		h.int32s(tagEpoch, uint32(p.Epoch))
	}
	h.translated(tagSummary, p.Summary)
	description := strings.TrimSpace(p.Description)
	if description == "" {
		description = p.Summary
	}
	h.translated(tagDescription, description)
	h.int32s(tagBuildTime, uint32(p.Time.Unix()))
	h.text(tagBuildHost, "localhost")
	if size := p.InstalledSize(); size > 1<<32-1 {
		h.int64s(tagLongSize, uint64(size))
	} else {
		h.int32s(tagSize, uint32(size))
	}
	h.text(tagLicense, p.License)
	h.text(tagPackager, p.Maintainer)
	group := p.Section
	if group == "" {
		group = "Unspecified"
	}
	h.translated(tagGroup, group)
	h.text(tagURL, p.Homepage)
	h.text(tagOS, "linux")
	h.text(tagArch, p.Arch)
	h.text(tagPlatform, p.Arch+"-linux")
	h.text(tagSourceRPM, p.Source+"-"+p.Version+"-"+p.Revision+".src.rpm")
	h.text(tagRPMVersion, "4.18.0")
	h.text(tagEncoding, "utf-8")
	h.text(tagPayloadFormat, "cpio")
	h.text(tagPayloadCompressor, compressors[compression].name)
	h.text(tagPayloadFlags, compressors[compression].flags)
	h.texts(tagPayloadDigest, []string{payloadDigest})
	h.int32s(tagPayloadDigestAlgo, algoSHA256)
	programs := scripts(&h, p.Scripts)
	if err := relations(&h, p, files, compression, programs); err != nil {
		return nil, err
	}
	changelog(&h, p)
	fileTags(&h, p, files)
	return h.encode(tagImmutable), nil
}

// scripts adds the scriptlets, and gives the flags of what they need.
func scripts(h *header, s linuxpkg.Scripts) uint32 {
	at := func(moment string) string { return s.At(linuxpkg.RPM, moment) }
	either := func(fresh, upgrade string) string {
		switch {
		case fresh == "" && upgrade == "":
			return ""
		case fresh == upgrade:
			return fresh
		}
		return "if [ \"$1\" -eq 1 ]; then\n" + orNothing(fresh) + "else\n" + orNothing(upgrade) + "fi\n"
	}
	// The argument is the number of versions that will be there afterwards.
	last := func(text, else_ string) string {
		switch {
		case text == "" && else_ == "":
			return ""
		case else_ == "":
			return "if [ \"$1\" -eq 0 ]; then\n" + text + "fi\n"
		}
		return "if [ \"$1\" -eq 0 ]; then\n" + orNothing(text) + "else\n" + else_ + "fi\n"
	}
	var flags uint32
	for _, one := range []struct {
		tag, program uint32
		flag         uint32
		text         string
	}{
		{tagPreIn, tagPreInProg, sensePre, either(at(linuxpkg.BeforeInstall), at(linuxpkg.BeforeUpgrade))},
		{tagPostIn, tagPostInProg, sensePost, either(at(linuxpkg.AfterInstall), at(linuxpkg.AfterUpgrade))},
		{tagPreUn, tagPreUnProg, sensePreUn, last(at(linuxpkg.BeforeRemove), "")},
		{tagPostUn, tagPostUnProg, sensePostUn, last(at(linuxpkg.AfterRemove), s.Restarted())},
	} {
		if one.text != "" {
			h.text(one.tag, strings.TrimRight(one.text, "\n"))
			h.text(one.program, "/bin/sh")
			flags |= one.flag
		}
	}
	return flags
}

func orNothing(text string) string {
	if text == "" {
		return ":\n"
	}
	return text
}

func changelog(h *header, p *linuxpkg.Package) {
	if len(p.Changes) == 0 {
		return
	}
	lines := make([]string, len(p.Changes))
	for i, c := range p.Changes {
		lines[i] = "- " + c
	}
	if p.Notes != "" {
		lines = append(lines, "- "+p.Notes)
	}
	// Days are told, at noon.
	noon := p.Time.UTC().Truncate(24*3600*1e9).Unix() + 12*3600
	h.int32s(tagChangelogTime, uint32(noon))
	h.texts(tagChangelogName, []string{p.Maintainer + " - " + evr(p)})
	h.texts(tagChangelogText, []string{strings.Join(lines, "\n")})
}

func evr(p *linuxpkg.Package) string { return p.Full() }

func fileTags(h *header, p *linuxpkg.Package, files []linuxpkg.File) {
	if len(files) == 0 {
		return
	}
	var sizes, mtimes, flags, verify, devices, inodes, dirs []uint32
	var long []uint64
	var modes, rdevs []uint16
	var digests, links, users, groups, langs, names, folders []string
	index := map[string]uint32{}
	large := large(files)
	for i, f := range files {
		dir := "/" + path.Dir(f.Path) + "/"
		if path.Dir(f.Path) == "." {
			dir = "/"
		}
		if _, ok := index[dir]; !ok {
			index[dir] = uint32(len(folders))
			folders = append(folders, dir)
		}
		dirs, names = append(dirs, index[dir]), append(names, path.Base(f.Path))
		size, digest := f.Size, f.SHA256
		switch {
		case f.Dir():
			size, digest = 4096, ""
		case f.Link != "":
			size, digest = int64(len(f.Link)), ""
		}
		sizes, long = append(sizes, uint32(size)), append(long, uint64(size))
		digests, links = append(digests, digest), append(links, f.Link)
		modes, rdevs = append(modes, uint16(f.Unix())), append(rdevs, 0)
		mtimes, verify = append(mtimes, uint32(p.Time.Unix())), append(verify, 0xffffffff)
		users, groups, langs = append(users, f.Owner), append(groups, f.Group), append(langs, "")
		devices, inodes = append(devices, 1), append(inodes, uint32(i+1))
		var flag uint32
		if f.Keep {
			flag |= fileConfig | fileNoReplace
		}
		switch f.Kind {
		case linuxpkg.KindDoc:
			flag |= fileDoc
		case linuxpkg.KindLicense:
			flag |= fileLicense
		}
		flags = append(flags, flag)
	}
	if large {
		h.int64s(tagLongFileSizes, long...)
	} else {
		h.int32s(tagFileSizes, sizes...)
	}
	h.int16s(tagFileModes, modes)
	h.int16s(tagFileRdevs, rdevs)
	h.int32s(tagFileMtimes, mtimes...)
	h.texts(tagFileDigests, digests)
	h.texts(tagFileLinkTos, links)
	h.int32s(tagFileFlags, flags...)
	h.texts(tagFileUserName, users)
	h.texts(tagFileGroupName, groups)
	h.int32s(tagFileVerifyFlags, verify...)
	h.int32s(tagFileDevices, devices...)
	h.int32s(tagFileInodes, inodes...)
	h.texts(tagFileLangs, langs)
	h.int32s(tagDirIndexes, dirs...)
	h.texts(tagBaseNames, names)
	h.texts(tagDirNames, folders)
	h.int32s(tagFileDigestAlgo, algoSHA256)
}

// large says whether a file has more bytes than cpio can count.
func large(files []linuxpkg.File) bool {
	for _, f := range files {
		if f.Size > 1<<32-1 {
			return true
		}
	}
	return false
}

// writePayload writes the files as cpio's "newc" form, whose numbers are eight
// hexadecimal digits, and gives the plain size. With files of 4 GiB and more,
// each entry is only the number of its file, as RPM has it since 4.12.
func writePayload(ctx context.Context, w io.Writer, files []linuxpkg.File, compression string, o archive.Options) (int64, error) {
	s, err := archive.NewStream(w, compression, o)
	if err != nil {
		return 0, err
	}
	var total int64
	put := func(text string) error {
		text += strings.Repeat("\x00", -(int(total)+len(text))&3)
		n, err := io.WriteString(s, text)
		total += int64(n)
		return err
	}
	stripped := large(files)
	for i, f := range files {
		if err := put(cpioHeader(f, i, stripped, o)); err != nil {
			return 0, err
		}
		switch {
		case f.Dir():
		case f.Link != "":
			if err := put(f.Link); err != nil {
				return 0, err
			}
		default:
			if _, err := s.File(ctx, f.Entry()); err != nil {
				return 0, err
			}
			total += f.Size
			if err := put(""); err != nil {
				return 0, err
			}
		}
	}
	if err := put(newc(0, 0, 1, 0, 0, "TRAILER!!!")); err != nil {
		return 0, err
	}
	return total, s.Close()
}

func cpioHeader(f linuxpkg.File, i int, stripped bool, o archive.Options) string {
	if stripped {
		return fmt.Sprintf("07070X%08x", i)
	}
	size := f.Size
	switch {
	case f.Dir():
		size = 0
	case f.Link != "":
		size = int64(len(f.Link))
	}
	nlink := int64(1)
	if f.Dir() {
		nlink = 2
	}
	return newc(int64(i+1), int64(f.Unix()), nlink, o.Time.Unix(), size, "./"+f.Path)
}

// newc is a header of cpio's "newc" form.
func newc(inode, mode, links, modified, size int64, name string) string {
	name += "\x00"
	var b strings.Builder
	b.WriteString("070701")
	for _, n := range []int64{inode, mode, 0, 0, links, modified, size, 0, 0, 0, 0, int64(len(name)), 0} {
		fmt.Fprintf(&b, "%08x", n)
	}
	return b.String() + name
}
