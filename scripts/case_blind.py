#!/usr/bin/env python3
"""Mounts a folder so that names are found whatever their case and however their accents are stored, as
memory cards and most desktops do.

usage: scripts/case_blind.py FOLDER MOUNT        (needs FUSE 2, and fusepy from PyPI; ends when unmounted)
"""
import errno
import os
import sys
import unicodedata

import fuse


def folded(name: str) -> str:
    return unicodedata.normalize("NFC", name).casefold()


class CaseBlind(fuse.Operations):
    """Passes everything on to a folder under the names that it lists."""

    # Times are whole nanoseconds.
    use_ns = True

    def __init__(self, folder: str):
        self.folder = folder

    def real(self, path: str) -> str:
        place = self.folder
        for name in path.split("/")[1:]:
            if not name:
                continue
            try:
                listed = [other for other in os.listdir(place) if folded(other) == folded(name)]
            except OSError:
                listed = []
            place = os.path.join(place, listed[0] if listed else name)
        return place

    def getattr(self, path, fh=None):
        found = os.lstat(self.real(path))
        keys = ("st_mode", "st_nlink", "st_size", "st_uid", "st_gid", "st_atime", "st_mtime", "st_ctime", "st_ino")
        found = {key: getattr(found, key + "_ns" if key.endswith("time") else key) for key in keys}
        return found

    def readdir(self, path, fh):
        return [".", ".."] + os.listdir(self.real(path))

    def rename(self, old, new):
        source, target = self.real(old), self.real(new)
        # A new spelling of the same name takes effect.
        if source == target:
            target = os.path.join(os.path.dirname(target), os.path.basename(new))
        os.rename(source, target)

    def create(self, path, mode, fi=None):
        return os.open(self.real(path), os.O_RDWR | os.O_CREAT | os.O_EXCL, mode)

    def open(self, path, flags):
        return os.open(self.real(path), flags & ~os.O_NOFOLLOW)

    def read(self, path, size, offset, fh):
        return os.pread(fh, size, offset)

    def write(self, path, data, offset, fh):
        return os.pwrite(fh, data, offset)

    def truncate(self, path, length, fh=None):
        os.truncate(self.real(path), length)

    def fsync(self, path, datasync, fh):
        os.fsync(fh)

    def release(self, path, fh):
        os.close(fh)

    def unlink(self, path):
        os.unlink(self.real(path))

    def mkdir(self, path, mode):
        os.mkdir(self.real(path), mode)

    def rmdir(self, path):
        os.rmdir(self.real(path))

    def chmod(self, path, mode):
        os.chmod(self.real(path), mode)

    def utimens(self, path, times=None):
        os.utime(self.real(path), ns=times)

    def statfs(self, path):
        found = os.statvfs(self.real(path))
        keys = ("f_bavail", "f_bfree", "f_blocks", "f_bsize", "f_files", "f_ffree", "f_frsize", "f_namemax")
        return {key: getattr(found, key) for key in keys}

    def link(self, target, source):
        raise fuse.FuseOSError(errno.EPERM)

    def symlink(self, target, source):
        raise fuse.FuseOSError(errno.EPERM)


if __name__ == "__main__":
    if len(sys.argv) != 3:
        sys.exit(__doc__)
    fuse.FUSE(CaseBlind(os.path.abspath(sys.argv[1])), sys.argv[2], foreground=True, nothreads=True, attr_timeout=0, entry_timeout=0)
