"""A registry of schemas, over HTTP: the numbers that stand before values are numbers of schemas there."""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import quote

from plainstep.deferred import httpx, tenacity
from plainstep.errors import DataError, StoreError, need
from plainstep.redaction import shown_url
from plainstep.stores.bounded_http import asked

# Seconds that a registry has to answer, and for how many it is asked again where it does not.
PATIENCE, AGAIN = 5.0, 5.0
# Bytes of a schema: those of large envelopes have some hundred thousand.
LARGEST = 1 << 23
# What asks for a schema as its language compiles it.
COMPILED = "?format=serialized"


class Registry:
    """A registry. What is asked for once is kept: the schema of a number, or of a version, never changes.

    Args:
        url: its address; a user and a password in it are sent as HTTP basic authentication.
    """

    def __init__(self, url: str) -> None:
        need("httpx", "http", "A registry of schemas is asked over HTTP")
        self.url = url.rstrip("/")
        self._kept: dict[str, Any] = {}

    def schema(self, number: int, how: str = "") -> dict[str, Any]:
        """The schema of a number: ``schema``, its text; ``schemaType``; ``references`` to others. ``how`` may be ``COMPILED``.

        Raises:
            DataError: there is none.
            StoreError: the registry gives no answer.
        """
        return self._lasting(f"/schemas/ids/{number}{how}", f"schema {number}")

    def version(self, subject: str, version: int, how: str = "") -> dict[str, Any]:
        """The same of a version of a subject, with its number as ``id``."""
        path = f"/subjects/{quote(subject, safe='')}/versions/{version}{how}"
        return self._lasting(path, f"version {version} of {subject}")

    def versions(self, subject: str) -> list[int]:
        """The versions that a subject has, the newest last; none where there is no such subject."""
        return list(self._asked(f"/subjects/{quote(subject, safe='')}/versions") or ())

    def _lasting(self, path: str, what: str) -> dict[str, Any]:
        """What never changes, and is asked for once."""
        if path not in self._kept:
            found = self._asked(path)
            if not isinstance(found, dict) or not isinstance(found.get("schema"), str):
                raise DataError(f"The registry at {shown_url(self.url)} has no {what}.")
            self._kept[path] = found
        kept: dict[str, Any] = self._kept[path]
        return kept

    def _asked(self, path: str) -> Any:
        """What the registry answers; None where it has no such thing."""
        again = tenacity.Retrying(
            retry=tenacity.retry_if_exception_type(httpx.TransportError),
            stop=tenacity.stop_after_delay(AGAIN),
            wait=tenacity.wait_exponential(multiplier=0.1, max=1.0),
            reraise=True,
        )
        try:
            with httpx.Client(timeout=PATIENCE) as client:
                answer = again(asked, client, self.url + path, {}, LARGEST)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise StoreError(
                f"The registry at {shown_url(self.url)} gives no answer: {error}.",
                "Without schemas, values cannot be read. Nothing was written.",
                "Check the registry in the store's URL, and run the command again.",
            ) from error
        if answer.status == httpx.codes.NOT_FOUND:
            return None
        if answer.status != httpx.codes.OK or answer.body is None:
            raise StoreError(
                f"The registry at {shown_url(self.url)} answers {answer.status} {answer.reason} for {path}.",
                "Without schemas, values cannot be read. Nothing was written.",
                "Check its address and password in the store's URL, and run the command again.",
            )
        return json.loads(answer.body)
