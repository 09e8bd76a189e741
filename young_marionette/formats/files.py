"""Reading and writing files so that nothing is lost: clear refusals, and writes that are whole or not there."""

from __future__ import annotations

import os
import tempfile
from contextlib import contextmanager
from pathlib import Path

from ..core.errors import InputError


@contextmanager
def opened(path):
    """Open a file for reading bytes; InputError, in one sentence, where that can't be done."""
    path = Path(path)
    try:
        if path.is_dir():
            raise InputError(f"{path.name} is a folder, not a file.")
        if path.exists() and not path.is_file():
            raise InputError(f"{path.name} is not a plain file.")
        with open(path, "rb") as file:
            yield file
    except FileNotFoundError:
        raise InputError(f"There is no file {path}.") from None
    except PermissionError:
        raise InputError(f"{path.name} may not be read: permission was denied.") from None
    except OSError as error:
        raise InputError(f"{path.name} can't be read: {error.strerror or error}.") from None


def check_free(path, overwrite=False):
    """Refuse (InputError) a path that exists, unless overwriting was asked for."""
    path = Path(path)
    if path.is_dir():
        raise InputError(f"{path} is a folder; give a file name.")
    if path.exists() and not overwrite:
        raise InputError(f"{path} exists already and was left as it is; ask for overwriting to replace it.")


def write_whole(path, chunks):
    """Write bytes from an iterable to ``path``: into a new file beside it, synced, then renamed over it."""
    path = Path(path)
    try:
        # A link stays a link: what it points to is replaced.
        path = path.resolve() if path.is_symlink() else path
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name[:80]}.", suffix=".part", dir=path.parent)
        try:
            with os.fdopen(handle, "wb") as file:
                for chunk in chunks:
                    file.write(chunk)
                file.flush()
                os.fsync(file.fileno())
            os.chmod(temporary, path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~_umask())
            os.replace(temporary, path)
        except BaseException:
            Path(temporary).unlink(missing_ok=True)
            raise
    except FileNotFoundError:
        raise InputError(f"There is no folder {path.parent}.") from None
    except PermissionError:
        raise InputError(f"{path} may not be written: permission was denied.") from None
    except OSError as error:
        raise InputError(f"{path} can't be written: {error.strerror or error}.") from None


def _umask():
    mask = os.umask(0)
    os.umask(mask)
    return mask
