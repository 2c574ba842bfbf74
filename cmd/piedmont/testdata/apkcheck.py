"""Checks a package for apk against its specification, knowing nothing of who
wrote it. It prints what is wrong and ends with 1, or prints the files.

    apkcheck.py PACKAGE
"""

import hashlib
import io
import re
import sys
import tarfile
import zlib

VERSION = re.compile(
    r"^[0-9]+(\.[0-9]+)*[a-z]?((_alpha|_beta|_pre|_rc|_cvs|_svn|_git|_hg|_p)[0-9]*)*-r[0-9]+$")
SCRIPTS = {".pre-install", ".post-install", ".pre-upgrade", ".post-upgrade",
           ".pre-deinstall", ".post-deinstall", ".trigger"}
NEEDED = ["pkgname", "pkgver", "pkgdesc", "builddate", "packager", "size", "arch", "license", "datahash"]


def members(data):
    """Cuts the file into its gzip members: the bytes of each, and its content."""
    out = []
    while data:
        if data[:3] != b"\x1f\x8b\x08":
            raise ValueError("what follows member %d is no gzip member" % len(out))
        z = zlib.decompressobj(31)
        content = z.decompress(data) + z.flush()
        if not z.eof:
            raise ValueError("a gzip member is cut off")
        out.append((data[:len(data) - len(z.unused_data)], content))
        data = z.unused_data
    return out


def whole(tar, data):
    """The reader stops at a damaged header and says nothing of it."""
    if data[tar.offset:].strip(b"\0"):
        raise ValueError("a header is damaged: %d bytes were not read" % (len(data) - tar.offset))


def check(path):
    with open(path, "rb") as f:
        parts = members(f.read())
    if len(parts) not in (2, 3):
        raise ValueError("there are %d gzip members, and two (or three with a signature) were expected" % len(parts))
    control, (raw, files) = parts[-2][1], parts[-1]
    if control[-1024:] == b"\0" * 1024:
        raise ValueError("the control tar has an end, so that nothing after it is read")
    if files[-1024:] != b"\0" * 1024 or len(files) % 512:
        raise ValueError("the tar of the files has no end")
    info = None
    tar = tarfile.open(fileobj=io.BytesIO(control + b"\0" * 1024))
    for m in tar:
        content = tar.extractfile(m).read()
        if m.name == ".PKGINFO":
            info = content.decode()
        elif m.name not in SCRIPTS:
            raise ValueError("the control tar has %s" % m.name)
        elif not content.startswith(b"#!/bin/sh\n") or not m.mode & 0o100:
            raise ValueError("%s is no script" % m.name)
    whole(tar, control)
    if info is None:
        raise ValueError("there is no .PKGINFO")
    fields = {}
    for line in info.splitlines():
        if line.startswith("#"):
            continue
        key, sep, value = line.partition(" = ")
        if not sep or not value:
            raise ValueError("the line %r of .PKGINFO is no field" % line)
        fields.setdefault(key, []).append(value)
    for key in NEEDED:
        if len(fields.get(key, [])) != 1:
            raise ValueError(".PKGINFO has %d times %s" % (len(fields.get(key, [])), key))
    if not VERSION.match(fields["pkgver"][0]):
        raise ValueError("%s is no version" % fields["pkgver"][0])
    if fields["datahash"][0] != hashlib.sha256(raw).hexdigest():
        raise ValueError("datahash is not that of the files")
    size, seen = 0, set()
    tar = tarfile.open(fileobj=io.BytesIO(files))
    for m in tar:
        if m.name.startswith(("/", "./")) or ".." in m.name.split("/"):
            raise ValueError("the path %s" % m.name)
        if m.name in seen:
            raise ValueError("%s is there twice" % m.name)
        parent = m.name.rpartition("/")[0]
        if parent and parent not in seen:
            raise ValueError("%s comes before its folder" % m.name)
        seen.add(m.name)
        told = m.pax_headers.get("APK-TOOLS.checksum.SHA1")
        if m.isreg():
            content = tar.extractfile(m).read()
            size += len(content)
            if told != hashlib.sha1(content).hexdigest():
                raise ValueError("the checksum of %s" % m.name)
        elif m.issym():
            if told != hashlib.sha1(m.linkname.encode()).hexdigest():
                raise ValueError("the checksum of the link %s" % m.name)
        elif not m.isdir():
            raise ValueError("%s is neither file, folder nor link" % m.name)
    whole(tar, files)
    if int(fields["size"][0]) != size:
        raise ValueError("the size is %d and not %s" % (size, fields["size"][0]))
    return fields, sorted(seen)


try:
    FIELDS, FILES = check(sys.argv[1])
except (ValueError, OSError, EOFError, tarfile.TarError, zlib.error) as e:
    print(e, file=sys.stderr)
    sys.exit(1)
for KEY in sorted(FIELDS):
    for VALUE in FIELDS[KEY]:
        print(KEY, "=", VALUE)
print("\n".join(FILES))
