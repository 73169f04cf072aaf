"""Files by name, in a folder or in a bucket of object storage."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from datetime import datetime
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, cast
from urllib.parse import unquote

from msgspec import Struct

from plainstep.deferred import deferred, obstore
from plainstep.errors import ConfigError, DataError, StoreError, Unreachable, need
from plainstep.redaction import shown_url
from plainstep.stores.urls import parts_of

if TYPE_CHECKING:
    from obstore import store as stores
else:
    (stores,) = deferred("obstore", "store")

# Bytes that a reader of a file asks for at a time.
AHEAD = 1 << 20
# The schemes of URLs of object storage.
BUCKETS = ("s3", "gs", "az")


class Listed(Struct, frozen=True):
    """A file as it is listed.

    Attributes:
        name: its name, from where its store begins.
        size: its bytes.
        changed: when it was last written.
        tag: what tells this writing of it from every other; empty where nothing does.
    """

    name: str
    size: int
    changed: datetime
    tag: str = ""


def location(url: str, base: Path, examples: tuple[str, str]) -> Path | str:
    """Where the URL of a store leads: a folder, or the URL of a bucket with what all names in it begin with.

    Args:
        url: the store's, without its query; what stands before a + is the store's own.
        base: the folder that relative paths start from.
        examples: URLs of folders and of buckets as they are written, for messages.

    Raises:
        ConfigError: it names neither.
    """
    parts = parts_of(url)
    folders, buckets = examples
    if parts.fragment:
        raise ConfigError(f"The URL {shown_url(url)!r} has something after a #.", "", "Write it as %23.")
    if parts.scheme.rpartition("+")[2] in BUCKETS:
        if not parts.netloc:
            raise ConfigError(f"The URL {shown_url(url)!r} names no bucket.", "", f"Write {buckets}.")
        return url.partition("+")[2] if "+" in parts.scheme else url
    if parts.netloc or not parts.path.startswith("/"):
        raise ConfigError(
            f"The URL {shown_url(url)!r} names no folder.",
            "A folder's URL has three slashes before a relative path, four before an absolute one.",
            f"Write {folders}.",
        )
    return base / unquote(parts.path)[1:]


class Objects:
    """Files by name.

    Args:
        place: the store's name, for messages.
        where: the folder, or the URL of a bucket with what all names in it begin with.
        extra: the extra of this package that installs what is needed.
    """

    def __init__(self, place: str, where: Path | str, extra: str = "lake") -> None:
        need("obstore", extra, f"{place} is read through object storage")
        self.place, self._made_of = place, (place, where, extra)
        self._folder = where.resolve() if isinstance(where, Path) else None
        self.where = shown_url(where) if isinstance(where, str) else str(where)
        try:
            # Credentials come from the environment, or from the machine's role.
            self._store: Any = stores.from_url(where) if isinstance(where, str) else stores.LocalStore(where)
        except Exception as error:  # the library has a class for each service
            raise StoreError(
                f"{place} ({self.where}) cannot be opened: {error}.", "", "Fix the store's URL."
            ) from error

    def __reduce__(self) -> tuple[Any, ...]:
        """Another process opens it for itself, by its own credentials."""
        return Objects, self._made_of

    def names(self, folder: str, after: str = "") -> Iterator[Listed]:
        """The files in a folder, or below it, whose names come after one; in the order of their names."""
        found = list[Listed]()
        try:
            with self._asking(folder):
                for batch in obstore.list(self._store, folder, offset=after or None):
                    found += map(_listed, batch)
        except FileNotFoundError:
            return
        yield from sorted(found, key=lambda one: one.name)

    def folders(self) -> list[str]:
        """The folders that stand at the top."""
        with self._asking(""):
            return sorted(obstore.list_with_delimiter(self._store)["common_prefixes"])

    def read(self, name: str) -> bytes:
        """A file, whole.

        Raises:
            FileNotFoundError: there is none of that name.
        """
        self._refuse_link(name)
        with self._asking(name):
            return bytes(obstore.get(self._store, name).bytes())

    def open(self, name: str) -> io.RawIOBase:
        """A file to be read in parts.

        Raises:
            FileNotFoundError: there is none of that name.
        """
        self._refuse_link(name)
        with self._asking(name):
            return _Opened(obstore.open_reader(self._store, name, buffer_size=AHEAD), lambda: self._asking(name))

    @contextmanager
    def write(self, name: str) -> Iterator[IO[bytes]]:
        """A file to be written in parts. It is there when all is written, and never where that fails."""
        with self._asking(name, "written"):
            out = obstore.open_writer(self._store, name)
        yield cast("IO[bytes]", _Written(out, lambda: self._asking(name, "written")))
        with self._asking(name, "written"):
            out.close()

    def copy(self, name: str, to: str) -> None:
        """Copy a file within the store, over what is there.

        Raises:
            FileNotFoundError: there is none of that name.
        """
        with self._asking(name, "written"):
            obstore.copy(self._store, name, to)

    def about(self, name: str) -> Listed:
        """A file as it would be listed.

        Raises:
            FileNotFoundError: there is none of that name.
        """
        with self._asking(name):
            return _listed(obstore.head(self._store, name))

    def put(self, name: str, data: bytes, new: bool = False) -> bool:
        """Write a file, whole or not at all.

        Args:
            name: its name.
            data: what it holds.
            new: whether it must not be there yet.

        Returns:
            Whether it was written; False if it was to be new, and another one is there.
        """
        try:
            with self._asking(name, "written"):
                obstore.put(self._store, name, data, mode="create" if new else "overwrite")
        except _Taken:
            # A request is sent again where its answer was lost: then what is there may be what it had written.
            with suppress(FileNotFoundError):
                return self.read(name) == data
            return False
        return True

    def remove(self, names: Sequence[str]) -> None:
        """Remove files, as far as they are there."""
        for name in names:
            with suppress(FileNotFoundError), self._asking(name, "written"):
                obstore.delete(self._store, name)

    def _refuse_link(self, name: str) -> None:
        """Refuse a file that is a link out of the folder.

        Raises:
            DataError: it is.
        """
        if self._folder is not None and not (self._folder / name).resolve().is_relative_to(self._folder):
            raise self._outside(name)

    def _outside(self, name: str) -> DataError:
        return DataError(
            f"{self.place} can have no file {name!r}.",
            "Names lie within its folder. Nothing was merged.",
            "Fix what names it.",
        )

    @contextmanager
    def _asking(self, name: str, what: str = "read") -> Iterator[None]:
        """Meanwhile, errors of the library are ours.

        Raises:
            FileNotFoundError: there is no such file.
            DataError: no file can have that name.
            Unreachable: the storage gives no answer, or refuses.
        """
        try:
            yield
        except FileNotFoundError:
            raise
        except (obstore.exceptions.AlreadyExistsError, obstore.exceptions.PreconditionError) as error:
            raise _Taken from error
        except ValueError as error:
            raise self._outside(name) from error
        except (obstore.exceptions.BaseError, OSError) as error:
            raise self._unreachable(error, what) from error

    def _unreachable(self, error: Exception, what: str) -> Unreachable:
        told = str(error).splitlines()[0] if str(error) else type(error).__name__
        return Unreachable(
            f"{self.place} ({self.where}) cannot be {what}: {told[:200]}.",
            "Nothing was merged."
            if what == "read"
            else "Whether the step was made is not known; the next one goes on from what is there.",
            "Check the store's URL, the credentials in the environment, and the network; then run the command again.",
        )


def _listed(about: Any) -> Listed:
    return Listed(about["path"], about["size"], about["last_modified"], about["e_tag"] or "")


class _Taken(Exception):
    """A file that was to be new is there."""


class _Written(io.RawIOBase):
    """A file that is being written, as one of Python's. To close it does nothing: see ``Objects.write``.

    Args:
        file: the library's.
        asking: meanwhile, its errors are ours.
    """

    def __init__(self, file: Any, asking: Callable[[], AbstractContextManager[None]]) -> None:
        self._file, self._asking = file, asking

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        with self._asking():
            return int(self._file.write(bytes(data)))


class _Opened(io.RawIOBase):
    """A file of the library as one of Python's.

    Args:
        file: the library's.
        asking: meanwhile, its errors are ours.
    """

    def __init__(self, file: Any, asking: Callable[[], AbstractContextManager[None]]) -> None:
        self._file, self._asking = file, asking

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        into = memoryview(buffer)
        with self._asking():
            data = self._file.read(len(into))
        into[: len(data)] = data
        return len(data)

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        with self._asking():
            return int(self._file.seek(offset, whence))

    def tell(self) -> int:
        return int(self._file.tell())

    def close(self) -> None:
        self._file.close()
        super().close()
