"""Object storage (S3 and what speaks like it), by obstore. An object is seen when it is complete."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from datetime import timedelta
from typing import Any
from urllib.parse import SplitResult, unquote

from obstore.exceptions import AlreadyExistsError, BaseError, NotFoundError
from obstore.store import S3Store

from ...errors import PlaceError, Vanished
from .credentials import Login
from .remote import Capabilities, Found, Inside

__all__ = ["ObjectRemote"]

_PART_BYTES = 8 << 20  # of an object that is sent in parts
_PATIENCE = timedelta(seconds=20)
_RETRIES: Any = {
    "max_retries": 3,
    "retry_timeout": _PATIENCE,
    "backoff": {
        "init_backoff": timedelta(seconds=0.1),
        "max_backoff": timedelta(seconds=5),
        "base": 2,
    },
}


class ObjectRemote:
    """`s3://bucket/prefix`."""

    capabilities = Capabilities(whole=True, times=True, folders=False)

    def __init__(self, parts: SplitResult, login: Login) -> None:
        self.location = f"s3://{parts.hostname}{parts.path.rstrip('/')}"
        self._prefix = unquote(parts.path).strip("/")
        options: dict[str, str] = {"region": login.region or "us-east-1"}
        if login.user:
            options |= {"access_key_id": login.user, "secret_access_key": login.password}
        if login.endpoint:
            options["endpoint"] = login.endpoint
        client: Any = {"timeout": timedelta(seconds=60)}
        if login.endpoint.startswith("http://"):
            client["allow_http"] = True
        self._store = S3Store(
            parts.hostname or "",
            prefix=self._prefix or None,
            client_options=client,
            retry_config=_RETRIES,
            **options,  # type: ignore[arg-type]
        )

    @contextlib.contextmanager
    def _asking(self, path: str) -> Iterator[None]:
        where = f"{self.location}/{path}"
        try:
            yield
        except NotFoundError as error:
            raise Vanished("it is not there", where=where) from error
        except FileNotFoundError as error:
            raise Vanished("it is not there", where=where) from error
        except (BaseError, OSError) as error:
            first = str(error).strip().splitlines()[0] if str(error).strip() else "no reason given"
            raise PlaceError(
                f"the store refused or broke off: {first}",
                where=where,
                remedy="Check endpoint, keys and connection; see docs/remotes.md.",
            ) from error

    def list(self, folder: str) -> list[Found]:
        return self.inside(folder).files

    def inside(self, folder: str) -> Inside:
        """Return what is in a folder; its folders are the next parts of names that go on behind its own."""
        start = f"{folder}/" if folder else ""
        with self._asking(folder):
            found = self._store.list_with_delimiter(prefix=folder or None)
        return Inside(
            sorted(
                Found(
                    one["path"].removeprefix(start), one["size"], one["last_modified"].timestamp()
                )
                for one in found["objects"]
            ),
            sorted(name.removeprefix(start).strip("/") for name in found["common_prefixes"]),
        )

    def stat(self, path: str) -> Found | None:
        try:
            with self._asking(path):
                found = self._store.head(path)
        except Vanished:
            return None
        return Found(path.rpartition("/")[2], found["size"], found["last_modified"].timestamp())

    def read(self, path: str, *, start: int = 0, length: int | None = None) -> Iterator[bytes]:
        with self._asking(path):
            if length is not None or start:
                end = None if length is None else start + length
                there = self._store.head(path)["size"]
                end = there if end is None else min(end, there)
                if start < end:
                    yield bytes(self._store.get_range(path, start=start, end=end))
                return
            for block in self._store.get(path).stream(min_chunk_size=1 << 20):
                yield bytes(block)

    def write(self, path: str, blocks: Iterable[bytes], *, start: int = 0) -> None:
        with self._asking(path):
            self._store.put(path, iter(blocks), chunk_size=_PART_BYTES)

    def create(self, path: str, data: bytes) -> None:
        taken = False
        with self._asking(path):
            try:
                self._store.put(path, data, mode="create", use_multipart=False)
            except AlreadyExistsError:
                taken = True
        if taken:
            raise FileExistsError(path)

    def rename(self, source: str, target: str) -> None:
        with self._asking(source):
            self._store.rename(source, target)

    def delete(self, path: str) -> None:
        with contextlib.suppress(Vanished), self._asking(path):
            self._store.delete(path)

    def make_folder(self, path: str) -> None:
        pass  # a store of objects has none

    def remove_folder(self, path: str) -> None:
        pass

    def set_time(self, path: str, seconds: float) -> None:
        pass  # an object's time is when it was put

    def close(self) -> None:
        pass
