"""Why a start cannot go on."""

import errno


class LaunchError(Exception):
    """Something that Doppio needs is missing, and could not be installed or started."""


# What an operator can mend, and how.
_MENDED = {
    errno.ENOSPC: "there is no space left; make some and start again, nothing half-done stays behind",
    errno.EDQUOT: "the quota is used up; make some space and start again",
    errno.EROFS: "the file system is read-only; mount it for writing, or set DOPPIO_VAR to another folder",
    errno.EACCES: "this account may not write there; give it the right, or set DOPPIO_VAR to a folder that it may",
    errno.EPERM: "this account may not do that; give it the right, or set DOPPIO_VAR to a folder of its own",
    errno.ENOTDIR: "is no folder; move it away, or set DOPPIO_VAR to another place",
    errno.EEXIST: "is there and is no folder; move it away, or set DOPPIO_VAR to another place",
    errno.EMFILE: "too many files are open; raise the limit (ulimit -n)",
    errno.ENOMEM: "there is no memory left",
}


def told_of(error: OSError) -> str | None:
    """A sentence about an error of the system that an operator can mend; None for others."""
    mended = _MENDED.get(error.errno or 0)
    return f"{error.filename}: {mended}" if mended and error.filename else mended
