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
	"piedmont/internal/format/compress"
	"piedmont/internal/format/cpio"
	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// compressors are RPM's names for how the payload is compressed.
var compressors = map[string]struct{ name, flags string }{"gz": {"gzip", "9"}, "xz": {"xz", "6"}, "zst": {"zstd", "19"}}

// Write writes a package. compression is gz, xz or zst.
func (Format) Write(ctx context.Context, w io.Writer, p *linuxpkg.Package, compression string,
	o archive.Options) error {
	o.Time = p.Time
	files := linuxpkg.WithFolders(p.Files, false)
	// The headers carry sizes and digests of the payload, so it is written aside.
	sum := sha256.New()
	payload := compress.NewSpool(sum)
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

func mainHeader(p *linuxpkg.Package, files []release.Entry, compression, payloadDigest string) ([]byte, error) {
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
	at := func(moment string) string { return s.At(Format{}, moment) }
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
		{tagPostUn, tagPostUnProg, sensePostUn, last(at(linuxpkg.AfterRemove), restarted(s))},
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

func fileTags(h *header, p *linuxpkg.Package, files []release.Entry) {
	if len(files) == 0 {
		return
	}
	var sizes, mtimes, flags, verify, devices, inodes, dirs []uint32
	var wide []uint64
	var modes, rdevs []uint16
	var digests, links, users, groups, langs, names, folders []string
	index := map[string]uint32{}
	long := large(files)
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
		case f.Mode.IsDir():
			size, digest = 4096, ""
		case f.IsLink():
			size, digest = int64(len(f.Link)), ""
		}
		sizes, wide = append(sizes, uint32(size)), append(wide, uint64(size))
		digests, links = append(digests, digest), append(links, f.Link)
		modes, rdevs = append(modes, uint16(linuxpkg.Unix(f))), append(rdevs, 0)
		mtimes, verify = append(mtimes, uint32(p.Time.Unix())), append(verify, 0xffffffff)
		users, groups, langs = append(users, f.Owner), append(groups, f.Group), append(langs, "")
		devices, inodes = append(devices, 1), append(inodes, uint32(i+1))
		var flag uint32
		if f.Keep {
			flag |= fileConfig | fileNoReplace
		}
		switch f.Mark {
		case release.MarkDoc:
			flag |= fileDoc
		case release.MarkLicense:
			flag |= fileLicense
		}
		flags = append(flags, flag)
	}
	if long {
		h.int64s(tagLongFileSizes, wide...)
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
func large(files []release.Entry) bool {
	for _, f := range files {
		if f.Size > cpio.MaxSize {
			return true
		}
	}
	return false
}

// writePayload writes the files as cpio's "newc" form, whose numbers are eight
// hexadecimal digits, and gives the plain size. With files of 4 GiB and more,
// each entry is only the number of its file, as RPM has it since 4.12.
func writePayload(ctx context.Context, w io.Writer, files []release.Entry, compression string,
	o archive.Options) (int64, error) {
	s, err := compress.NewStream(w, compression, o.Options)
	if err != nil {
		return 0, err
	}
	defer func() { _ = s.Close() }() // an error leaves it open
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
		case f.Mode.IsDir():
		case f.IsLink():
			if err := put(f.Link); err != nil {
				return 0, err
			}
		default:
			if _, err := s.File(ctx, f.Content); err != nil {
				return 0, fmt.Errorf("pack %s: %w", f.Path, err)
			}
			total += f.Size
			if err := put(""); err != nil {
				return 0, err
			}
		}
	}
	if err := put(cpio.Header{Links: 1, Name: cpio.Trailer}.String()); err != nil {
		return 0, err
	}
	return total, s.Close()
}

func cpioHeader(f release.Entry, i int, stripped bool, o archive.Options) string {
	if stripped {
		return cpio.Numbered(i)
	}
	h := cpio.Header{Inode: int64(i + 1), Mode: int64(linuxpkg.Unix(f)), Links: 1, Modified: o.Time.Unix(),
		Size: f.Size, Name: "./" + f.Path}
	switch {
	case f.Mode.IsDir():
		h.Links, h.Size = 2, 0
	case f.IsLink():
		h.Size = int64(len(f.Link))
	}
	return h.String()
}
