"""A connection to NATS: its client runs in a loop of its own, in a thread."""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import Coroutine
from concurrent.futures import TimeoutError as TookTooLong
from typing import TYPE_CHECKING, Any, TypeVar

from plainstep.deferred import nats
from plainstep.errors import ConfigError, StoreError, Unreachable, need
from plainstep.redaction import shown_url
from plainstep.stores.unreachable import no_answer

if TYPE_CHECKING:
    from nats.aio.client import Client

Found = TypeVar("Found")


class Connection:
    """A way to a server.

    Args:
        place: the store's name, for messages.
        url: the server's URL.
        wait: how many seconds to wait for an answer.
    """

    def __init__(self, place: str, url: str, wait: float) -> None:
        self.place, self.url, self.wait = place, url, max(wait, 1.0)
        self._client: Client | None = None
        self._made_loop: asyncio.AbstractEventLoop | None = None
        # Several loads use one connection: of two that make what is missing at once, each would have a loop of its own, and a client
        # that is used from another loop than its own does not notice its answers.
        self._making = threading.RLock()

    @property
    def _loop(self) -> asyncio.AbstractEventLoop:
        with self._making:
            if self._made_loop is None:
                self._made_loop = asyncio.new_event_loop()
                threading.Thread(target=self._made_loop.run_forever, daemon=True).start()
            return self._made_loop

    def done(self, work: Coroutine[Any, Any, Found], patience: float | None = None) -> Found:
        """What comes of some work of the client.

        Raises:
            StoreError: it gave no answer in time.
        """
        begun = asyncio.run_coroutine_threadsafe(work, self._loop)
        try:
            return begun.result(patience or self.wait + 1.0)
        except (TookTooLong, nats.errors.Error, OSError) as error:
            begun.cancel()
            raise no_answer(f"{self.place} ({shown_url(self.url)})", error) from error

    @property
    def client(self) -> Client:
        """The client, connected. It comes back by itself to a server that was away for a while, and is made anew if it gave up."""
        with self._making:
            if self._client is None or self._client.is_closed:
                self._client = self._connected()
            return self._client

    def _connected(self) -> Client:
        need("nats", "nats", f"{self.place} is a store of NATS")

        async def quiet(_: Exception) -> None:
            """The client tells of every try: what comes of them is told once."""

        made = nats.connect(
            self.url,
            connect_timeout=max(1, int(self.wait)),
            allow_reconnect=True,
            max_reconnect_attempts=max(1, int(self.wait)),
            reconnect_time_wait=1,
            error_cb=quiet,
            name="plainstep",
        )
        return self.done(made, self.wait * 2 + 2.0)

    def close(self) -> None:
        """Leave the server."""
        if self._client is not None:
            self.done(self._client.close())
            self._client = None

    def asked(self, subject: str, body: dict[str, Any] | None = None, missing: bool = False) -> dict[str, Any]:
        """What JetStream answers to a request; if what is asked for may be missing, nothing where it is.

        Raises:
            ConfigError: there is no such stream, or no JetStream.
            StoreError: it answers with another error.
        """
        data = json.dumps(body).encode() if body else b""
        try:
            answer = self.done(self.client.request(f"$JS.API.{subject}", data, timeout=self.wait))
        except Unreachable as error:
            if isinstance(error.__cause__, nats.errors.NoRespondersError):
                raise ConfigError(
                    f"{self.place} has no JetStream.", "Only streams keep messages.", "Start the server with -js."
                ) from error
            raise
        found: dict[str, Any] = json.loads(answer.data)
        wrong = found.get("error")
        if wrong:
            what = f"{self.place} answers for {subject.rpartition('.')[2]}: {wrong.get('description')}."
            if wrong.get("code") == 404 and missing:
                return {}
            if wrong.get("code") == 404:
                raise ConfigError(what, "", "Check 'from' in the load: STORE.STREAM.")
            raise StoreError(what, "Nothing was written.", "Check the server, and what its user may do.")
        return found
