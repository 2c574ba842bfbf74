package rpm

import (
	"strings"

	"piedmont/internal/linuxpkg"
	"piedmont/internal/release"
)

// relation is one record of RPM's: a name, flags and a version.
type relation struct {
	name    string
	flags   uint32
	version string
}

func records(list []linuxpkg.Relation) ([]relation, error) {
	var out []relation
	for _, r := range list {
		if len(r.Any) > 1 { // a rich one is a name that begins with "("
			text, err := Format{}.Relation(r)
			if err != nil {
				return nil, err
			}
			out = append(out, relation{name: text})
			continue
		}
		n := r.Any[0]
		v := ""
		if n.Op != "" {
			v = n.Spelled(Format{})
		}
		flags := map[string]uint32{"": 0, "<": senseLess, "<=": senseLess | senseEqual, "=": senseEqual,
			">=": senseGreater | senseEqual, ">": senseGreater}[n.Op]
		out = append(out, relation{n.Name, flags, v})
	}
	return out, nil
}

func relations(h *header, p *linuxpkg.Package, files []release.Entry, compression string, programs uint32) error {
	needs, err := records(p.Needs)
	if err != nil {
		return err
	}
	provides, err := records(p.Provides)
	if err != nil {
		return err
	}
	config := relation{"config(" + p.Name + ")", senseConfig | senseEqual, evr(p)}
	for _, f := range files {
		if f.Keep {
			provides, needs = append(provides, config), append(needs, config)
			break
		}
	}
	provides = append(provides, relation{p.Name, senseEqual, evr(p)})
	if isa := map[string]string{"x86_64": "x86-64", "aarch64": "aarch-64", "i686": "x86-32",
		"armv7hl": "armv7hl-32", "ppc64le": "ppc-64", "s390x": "s390-64", "riscv64": "riscv-64"}[p.Arch]; isa != "" {
		provides = append(provides, relation{p.Name + "(" + isa + ")", senseEqual, evr(p)})
	}
	for _, flag := range []uint32{sensePre, sensePost, sensePreUn, sensePostUn} {
		if programs&flag != 0 {
			needs = append(needs, relation{"/bin/sh", senseInterp | flag, ""})
		}
	}
	needs = append(needs, features(p, needs, files, compression)...)
	for _, r := range []struct {
		name, flags, version uint32
		list                 []relation
		from                 []linuxpkg.Relation
	}{
		{tagProvideName, tagProvideFlags, tagProvideVersion, provides, nil},
		{tagRequireName, tagRequireFlags, tagRequireVersion, needs, nil},
		{tagConflictName, tagConflictFlags, tagConflictVersion, nil, p.Conflicts},
		{tagObsoleteName, tagObsoleteFlags, tagObsoleteVersion, nil, p.Replaces},
		{tagRecommendName, tagRecommendFlags, tagRecommendVersion, nil, p.Recommends},
		{tagSuggestName, tagSuggestFlags, tagSuggestVersion, nil, p.Suggests},
	} {
		list := r.list
		if r.from != nil {
			if list, err = records(r.from); err != nil {
				return err
			}
		}
		var names, versions []string
		var flags []uint32
		for _, one := range list {
			names, flags, versions = append(names, one.name), append(flags, one.flags), append(versions, one.version)
		}
		h.texts(r.name, names)
		h.int32s(r.flags, flags...)
		h.texts(r.version, versions)
	}
	return nil
}

// features are what the rpm that installs the package must know.
func features(p *linuxpkg.Package, needs []relation, files []release.Entry, compression string) []relation {
	var out []relation
	add := func(name, since string) {
		out = append(out, relation{"rpmlib(" + name + ")", senseRPMLib | senseLess | senseEqual, since})
	}
	add("CompressedFileNames", "3.0.4-1")
	add("FileDigests", "4.6.0-1")
	add("PayloadFilesHavePrefix", "4.0-1")
	switch compression {
	case "xz":
		add("PayloadIsXz", "5.2-1")
	case "zst":
		add("PayloadIsZstd", "5.4.18-1")
	}
	if large(files) {
		add("LargeFiles", "4.12.0-1")
	}
	tilde, rich := strings.Contains(p.Version, "~"), false
	for _, n := range needs {
		tilde = tilde || strings.Contains(n.version, "~")
		rich = rich || strings.HasPrefix(n.name, "(")
	}
	if tilde {
		add("TildeInVersions", "4.10.0-1")
	}
	if rich {
		add("RichDependencies", "4.12.0-1")
	}
	return out
}
