"""Pictures inside of one file: a tar or zip archive, or a table with encoded pictures, read in place and never unpacked.

A picture in such a file has a path like any other, that of the file and then its name within: ``shards/a.tar/birch/0001.jpg``. What
reads a file finds that there is a file where a folder should be (ENOTDIR), and asks here.
"""

from __future__ import annotations

import os
import posixpath
import re
import struct
import tarfile
import threading
import zipfile
import zlib
from collections import OrderedDict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import until_stopped

ARCHIVE_ENDINGS = frozenset({".tar", ".zip"})
PICTURE_TABLE_ENDINGS = frozenset({".parquet", ".arrow", ".feather"})
# Archives that are compressed as a whole have to be unpacked from the beginning for every picture.
PACKED_ENDINGS = frozenset({".tgz", ".gz", ".bz2", ".xz", ".zst", ".tbz2", ".txz", ".7z", ".rar"})
# A picture that unpacks to more than this is refused.
MOST_BYTES = 800_000_000
# So many containers are remembered with what they hold.
_REMEMBERED = 16
# What stands for the part of an archive that is missing.
CUT_OFF = "(cut off here)"


class MemberFault(Exception):
    """A member that cannot be read; the message is the reason."""


class Container(Protocol):
    """One file with pictures in it; safe to read from several threads. ``changed`` is the file's time of change in ns."""

    changed: int

    def names(self) -> list[str]:
        """What it holds, by name, in its order."""
        ...

    def size(self, name: str) -> int:
        """How many bytes a member has as it was put in. KeyError where there is none."""
        ...

    def read(self, name: str) -> bytes:
        """A member's bytes. KeyError where there is none, MemberFault where it cannot be read."""
        ...


_FILES_ON_THE_WAY = re.compile(
    rf"(?:{'|'.join(map(re.escape, sorted(ARCHIVE_ENDINGS | PICTURE_TABLE_ENDINGS)))})(?=/)", re.I
)


def container_of(path: Path | str) -> tuple[str, str] | None:
    """The file that a path leads into, and the name within it; None where no part of the path is such a file."""
    text = os.fspath(path)
    for found in _FILES_ON_THE_WAY.finditer(text):
        if os.path.isfile(text[: found.end()]):
            return text[: found.end()], text[found.end() + 1 :]
    return None


# A page of a file with several, or a frame: the file's path, and then this.
_FRAME = re.compile(r"/(?:page|frame) (\d{1,6})")


def frame_of(path: Path) -> tuple[Path, int] | None:
    """The file whose page or frame a path names, and which of them, from 0; None where it names none. Pages are counted from 1."""
    found = _FRAME.fullmatch(f"/{path.name}")
    if found is None or not int(found[1]) or path.parent.is_dir():
        return None
    return path.parent, int(found[1]) - 1


def frame_paths(path: str, frames: int) -> list[str]:
    """The paths of a file's frames, each an image; of a single frame that of the file."""
    return [f"{path}/frame {i}" for i in range(1, frames + 1)] if frames > 1 else [path]


def read_inside(path: Path) -> tuple[bytes, int] | None:
    """The bytes of a picture within a container, and the container's time of change; None where no part of the path is one. MemberFault
    where it cannot be read."""
    found = container_of(path)
    if found is None:
        return None
    try:
        container = opened(found[0])
        return container.read(found[1]), container.changed
    except KeyError:
        raise MemberFault(f"{os.path.basename(found[0])} holds no {found[1]}") from None
    except InputError as error:
        raise MemberFault(f"{os.path.basename(found[0])} {error.what}") from error
    except OSError as error:
        raise MemberFault(f"{os.path.basename(found[0])} cannot be read ({error.strerror})") from error


def picture_stat(path: Path | str) -> tuple[int, int]:
    """Size and time of change (ns) of a picture, whether it is a file of its own or stands within one. OSError where it is not there."""
    try:
        about = os.stat(path)
    except NotADirectoryError:
        if (part := frame_of(Path(path))) is not None:
            return picture_stat(part[0])
        found = container_of(path)
        if found is None:
            raise
        try:
            container = opened(found[0])
            return container.size(found[1]), container.changed
        except (KeyError, InputError, MemberFault) as error:
            raise FileNotFoundError(str(path)) from error
    return about.st_size, about.st_mtime_ns


def stat_if_there(path: Path | str) -> tuple[int, int] | None:
    """Size and time of change (ns) of a picture; None where it is not there."""
    try:
        return picture_stat(path)
    except (OSError, ValueError):
        return None


def is_there(path: Path) -> bool:
    """Whether a picture is there, as a file of its own or within one."""
    return stat_if_there(path) is not None


def root_is_there(root: Path) -> bool:
    """Whether the folder of an image set is there, or the one file that all its pictures stand in."""
    return root.is_dir() or (root.suffix.lower() in ARCHIVE_ENDINGS | PICTURE_TABLE_ENDINGS and root.is_file())


_known: OrderedDict[str, tuple[tuple[int, int], Container]] = OrderedDict()
_lock = threading.Lock()


def opened(place: Path | str) -> Container:
    """What a file holds; looked at once, and again when it has changed. InputError where it is no such file."""
    path = os.fspath(place)
    about = os.stat(path)
    like = about.st_size, about.st_mtime_ns
    with _lock:
        known = _known.get(path)
        if known is not None and known[0] == like:
            _known.move_to_end(path)
            return known[1]
        container = _open(Path(path), about.st_size, about.st_mtime_ns)
        _known[path] = like, container
        while len(_known) > _REMEMBERED:
            _known.popitem(last=False)
        return container


def _open(path: Path, size: int, changed: int) -> Container:
    ending = path.suffix.lower()
    if ending == ".tar":
        return _Archive(path, changed, dict(_tar_members(path, size)))
    if ending == ".zip":
        return _Archive(path, changed, dict(_zip_members(path)))
    from mivrat.core.pictures.picture_tables import PictureTable  # tables take long to load

    return PictureTable(path, changed)


@dataclass(frozen=True)
class _Member:
    """Where a member lies: from ``begin`` on ``stored`` bytes, which are ``whole`` bytes as they were put in; ``packed`` by deflate;
    ``check`` is their CRC-32 (None: not told). ``local``: in a zip archive its header stands first. ``fault``: why it cannot be read."""

    begin: int
    stored: int
    whole: int
    packed: bool = False
    check: int | None = None
    local: bool = False
    fault: str = ""


class _Archive:
    """A tar or zip archive whose members are read where they lie."""

    def __init__(self, path: Path, changed: int, members: Mapping[str, _Member]) -> None:
        self._path, self.changed, self._members = path, changed, members

    def names(self) -> list[str]:
        return list(self._members)

    def size(self, name: str) -> int:
        return self._members[name].whole

    def read(self, name: str) -> bytes:
        one = self._members[name]
        if one.fault:
            raise MemberFault(one.fault)
        if one.whole > MOST_BYTES:
            raise MemberFault(f"too large to read: {one.whole / 1e9:.1f} GB")
        with open(self._path, "rb") as file:
            begin = one.begin + (_behind_header(file.fileno(), one.begin) if one.local else 0)
            data = os.pread(file.fileno(), one.stored, begin)
        if len(data) < one.stored:
            raise MemberFault("the archive ends before this picture does")
        if one.packed:
            data = _unpacked(data, one.whole)
        if one.check is not None and zlib.crc32(data) != one.check:
            raise MemberFault("is damaged: its checksum in the archive is another")
        return data


def _unpacked(data: bytes, whole: int) -> bytes:
    """Deflated bytes as they were; no more than they say they are."""
    unpack = zlib.decompressobj(-15)
    try:
        found = unpack.decompress(data, whole + 1)
    except zlib.error as error:
        raise MemberFault(f"is damaged: it cannot be unpacked ({error})") from error
    if len(found) != whole:
        raise MemberFault("is damaged: it unpacks to another size than the archive says")
    return found


def plain_name(name: str) -> str:
    """A member's name as a path of its own below the archive: whatever it says, it leads nowhere else."""
    parts = [
        f"({part})" if part == ".." else part for part in name.replace("\0", "").split("/") if part not in ("", ".")
    ]
    return "/".join(parts)


# --- tar (POSIX.1-1988 and later) ---


def _tar_members(path: Path, size: int) -> Iterator[tuple[str, _Member]]:
    """The files of a tar archive; of one name twice the last, as unpacking would leave it."""
    found: dict[str, _Member] = {}
    links: dict[str, str] = {}
    try:
        with tarfile.open(path, "r:") as archive:
            for one in until_stopped(archive):
                name = plain_name(one.name)
                if not name:
                    continue
                if one.islnk() or one.issym():
                    here = posixpath.dirname(one.name) if one.issym() else ""
                    found.pop(name, None)
                    links[name] = plain_name(posixpath.normpath(posixpath.join(here, one.linkname)))
                elif one.isreg():
                    links.pop(name, None)
                    fault = "is kept with holes, which is not read" if one.issparse() else ""
                    found[name] = _Member(one.offset_data, one.size, one.size, fault=fault)
    except tarfile.ReadError as error:
        if not found and not links:
            raise InputError(
                f"is not a plain tar archive ({error})",
                where=path,
                hint="one that is compressed as a whole cannot be read in place: decompress it to .tar first",
            ) from error
        found[CUT_OFF] = _Member(0, 0, 0, fault="the archive is cut off here: what stood behind is lost")
    except (tarfile.TarError, OSError, ValueError, OverflowError) as error:
        raise InputError(
            f"cannot be read ({error})", where=path, hint="check that it is a whole tar archive"
        ) from error
    for name, target in links.items():
        seen = {name}
        while target in links and target not in seen:
            seen.add(target)
            target = links[target]
        found[name] = found.get(target, _Member(0, 0, 0, fault="is a link that leads nowhere in the archive"))
    for name, member in found.items():
        if member.begin + member.stored > size and not member.fault:
            member = replace(member, fault="the archive ends before this picture does")
        yield name, member


# --- zip (APPNOTE 6.3) ---


def _zip_members(path: Path) -> Iterator[tuple[str, _Member]]:
    try:
        with zipfile.ZipFile(path) as archive:
            listed = archive.infolist()
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, OSError, ValueError, struct.error) as error:
        raise InputError(
            f"is not a whole zip archive ({error})",
            where=path,
            hint="fetch or make it again; what is missing is its end",
        ) from error
    for one in listed:
        name = plain_name(one.filename)
        if one.is_dir() or not name:
            continue
        fault = ""
        if one.flag_bits & 0x1:
            fault = "is encrypted"
        elif one.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
            fault = f"is packed in a way that is not read (method {one.compress_type})"
        packed = one.compress_type == zipfile.ZIP_DEFLATED
        yield name, _Member(one.header_offset, one.compress_size, one.file_size, packed, one.CRC, True, fault)


def _behind_header(file: int, at: int) -> int:
    """How far behind the beginning of a member's own header its bytes lie."""
    header = os.pread(file, 30, at)
    if len(header) < 30 or header[:4] != b"PK\3\4":
        raise MemberFault("is damaged: its place in the archive is empty")
    name, extra = struct.unpack("<HH", header[26:30])
    return 30 + int(name) + int(extra)
