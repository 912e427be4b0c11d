"""One model of a service: is it ready, what is it, what does it answer. Over HTTP, with time limits and safe
repetitions."""

from __future__ import annotations

import os
import re
import threading
import time
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, unquote, urlsplit

import numpy as np

from zygal.endpoint import TIMEOUT_SECONDS
from zygal.endpoint.deadline import deadline, pool
from zygal.endpoint.messages import BINARY_EXTENSION, Answer, Described, answer_of, described, fault_of, request_of
from zygal.errors import EndpointError, first_line
from zygal.files.documents import parse_json

TOKEN = "ZYGAL_ENDPOINT_TOKEN"
"""The environment variable with a token that is sent as "Authorization: Bearer"."""
LARGEST_ANSWER = 256_000_000
CONNECTIONS = 64
REPEATED_STATUSES = (429, 502, 503, 504)
"""What a service that is busy, restarting or behind a gateway says; an inference changes nothing, so it can be sent
again."""
TRIES = 5
FIRST_PAUSE, LONGEST_PAUSE = 0.1, 5.0
EXAMPLE = "http://HOST:8000/v2/models/NAME"


@dataclass
class Traffic:
    """What happened on the way. seconds: of each request that was answered. repeated: how often one was sent again, by
    the reason. versions: of the model, as the answers say. Guarded by a lock, because many threads send."""

    seconds: list[float] = field(default_factory=list)
    repeated: dict[str, int] = field(default_factory=dict)
    versions: dict[str, int] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def again(self, reason: str) -> None:
        """Counts a request that is sent again."""
        with self.lock:
            self.repeated[reason] = self.repeated.get(reason, 0) + 1

    def answered(self, seconds: float, version: str | None) -> None:
        """Counts an answer."""
        with self.lock:
            self.seconds.append(seconds)
            if version is not None:
                self.versions[version] = self.versions.get(version, 0) + 1


class Service:
    """url: of a model, "http://HOST:PORT/v2/models/NAME", perhaps with "/versions/VERSION". timeout: seconds for one
    answer. May be used by several threads at once. Raises EndpointError if the URL is none, or the model is not
    ready."""

    def __init__(self, url: str, timeout: float = TIMEOUT_SECONDS):
        import urllib3

        self.url, self.timeout = url.rstrip("/"), timeout
        self._root, self.model, self.version = _parts(self.url)
        headers = {"Accept-Encoding": "identity"} | (
            {"Authorization": f"Bearer {os.environ[TOKEN]}"} if os.environ.get(TOKEN) else {}
        )
        limits = urllib3.Timeout(connect=min(timeout, 5.0), read=timeout)
        # Sent again here, where it is counted; a redirection could lead anywhere.
        self._pool = pool(maxsize=CONNECTIONS, retries=False, timeout=limits, headers=headers)
        self.traffic = Traffic()
        self.binary = self._check_ready()
        self.described: Described = described(self._get(self.url), f"{self.url}: the description of the model")

    def _check_ready(self) -> bool:
        """Whether the service has the binary tensor extension; it must be alive and the model ready."""
        self._get(
            f"{self._root}/v2/health/live",
            "the service is not alive, or not one of the open inference protocol, version 2",
        )
        self._get(f"{self.url}/ready", self._not_ready())
        server = parse_json(self._get(f"{self._root}/v2"), f"{self._root}/v2", EndpointError)
        extensions = server.get("extensions")
        return type(extensions) is list and BINARY_EXTENSION in extensions

    def _not_ready(self) -> str:
        """What to say if the model is not; of a version, which ones there are."""
        if self.version is None:
            return f"the model {self.model} is not ready"
        try:
            content, _ = self._send("GET", f"{self._root}/v2/models/{quote(self.model)}", None, {})
            versions = described(content, self.url).versions
        except EndpointError:
            return f"version {self.version} of the model {self.model} is not ready"
        if self.version in versions:
            return f"version {self.version} of the model {self.model} is not ready"
        others = f", but {', '.join(versions)}" if versions else "; it does not say which versions it has"
        return f"the service has no version {self.version} of the model {self.model}{others}"

    def _get(self, url: str, otherwise: str = "") -> bytes:
        try:
            content, _ = self._send("GET", url, None, {})
        except EndpointError as fault:
            if otherwise:
                raise EndpointError(f"{str(fault).rstrip('.')}; {otherwise}.") from fault
            raise
        return content

    def infer(self, input_name: str, output_name: str, batch: np.ndarray) -> Answer:
        """The output of a batch [N, ...]. Raises EndpointError."""
        body, headers = request_of(input_name, output_name, batch, self.binary)
        started = time.perf_counter()
        content, answered = self._send("POST", f"{self.url}/infer", body, headers)
        answer = answer_of(content, answered, output_name, f"{self.url}: the answer")
        self.traffic.answered(time.perf_counter() - started, answer.version)
        return answer

    def _send(self, method: str, url: str, body: bytes | None, headers: dict[str, str]) -> tuple[bytes, Any]:
        """Body and headers of an answer with the status 200. Raises EndpointError."""
        pause = FIRST_PAUSE
        for attempt in range(1, TRIES + 1):
            status, content, answered, reason = self._once(method, url, body, headers)
            if status == 200:
                return content, answered
            if reason is None and status not in REPEATED_STATUSES:
                break
            if attempt < TRIES:
                self.traffic.again(reason or f"status {status}")
                wanted = answered.get("Retry-After", "") if answered is not None else ""
                time.sleep(
                    min(
                        LONGEST_PAUSE,
                        float(wanted) if wanted.isascii() and wanted.isdigit() and len(wanted) < 6 else pause,
                    )
                )
                pause *= 2
        if reason is not None:
            raise EndpointError(
                f"{url} cannot be reached ({reason}, {TRIES} times); check that the service runs there."
            )
        said = fault_of(content)
        times = f" {TRIES} times" if status in REPEATED_STATUSES else ""
        raise EndpointError(
            f"{url} answers with the status {status}{times} "
            f"({_MEANINGS.get(status, 'not what the protocol says')}){f': {said}' if said else ''}."
        )

    def _once(self, method: str, url: str, body: bytes | None, headers: dict[str, str]):
        """Status, body, headers and why there is no answer, which may go away; one that will not is raised."""
        import urllib3

        late = (
            f"{url} did not answer within {self.timeout:g} s; the service is too slow, or give it more time with "
            f"--timeout."
        )
        exchange = None
        try:
            merged = {**self._pool.headers, **headers}
            with deadline(self.timeout) as exchange:
                answer = self._pool.request(
                    method, url, body=body, headers=merged, redirect=False, preload_content=False
                )
                try:
                    content = self._read(answer)
                finally:
                    answer.release_conn()
            if exchange.over:
                raise EndpointError(late)
        except urllib3.exceptions.SSLError as fault:
            raise EndpointError(f"{url} has no valid certificate ({first_line(fault)}); check the address.") from fault
        except (urllib3.exceptions.ReadTimeoutError, TimeoutError) as fault:
            raise EndpointError(late) from fault
        except urllib3.exceptions.LocationParseError as fault:
            raise EndpointError(f"{url} is not a URL; give one like {EXAMPLE}.") from fault
        except (urllib3.exceptions.HTTPError, OSError, ValueError) as fault:
            if exchange is not None and exchange.over:
                raise EndpointError(late) from fault
            return 0, b"", None, _why(fault)
        if len(content) > LARGEST_ANSWER:
            raise EndpointError(
                f"{url} answers with more than {LARGEST_ANSWER // 1_000_000} MB, which no classifier does."
            )
        return answer.status, content, answer.headers, None

    def _read(self, answer: Any) -> bytes:
        """The body, at most one byte more than LARGEST_ANSWER."""
        pieces, size = [], 0
        while size <= LARGEST_ANSWER and (piece := answer.read1(1 << 16)):
            pieces.append(piece)
            size += len(piece)
        return b"".join(pieces)

    def notes(self) -> list[str]:
        """What a user should know of the traffic."""
        found = [
            f"the service did not answer {count} requests at once ({reason}); they were sent again"
            for reason, count in self.traffic.repeated.items()
        ]
        if self.traffic.seconds and float(np.median(self.traffic.seconds)) > SLOW_SECONDS:
            found.append(
                f"the service is slow: the median answer took {np.median(self.traffic.seconds):.2f} s, the "
                f"slowest {max(self.traffic.seconds):.2f} s"
            )
        return found


SLOW_SECONDS = 0.5
_MEANINGS = {
    301: "moved; give the new address",
    302: "moved; give the new address",
    307: "moved; give the new address",
    308: "moved; give the new address",
    400: "it does not take this request",
    401: f"a token is needed; set {TOKEN}",
    403: "the token does not permit this",
    404: "there is no such model or version",
    405: "it does not take this kind of request",
    413: "the batch is too large for it",
    429: "too many requests",
    500: "it failed",
    501: "it does not do this",
    502: "the gateway cannot reach it",
    503: "not available",
    504: "the gateway waited in vain",
}


def _why(fault: Exception) -> str:
    text = first_line(fault)
    known = re.search(
        r"(Connection refused|Name or service not known|No route to host|Network is unreachable|Connection reset "
        r"by peer|closed connection without response|"
        r"Temporary failure in name resolution|timed out|IncompleteRead)",
        text,
    )
    if known is None:
        return text
    return "the answer ends early" if known[1] == "IncompleteRead" else known[1].lower()


def _parts(url: str) -> tuple[str, str, str | None]:
    """Root, model and version of a URL. Raises EndpointError."""
    try:
        split = urlsplit(url)
        port = split.port
    except ValueError as fault:
        raise EndpointError(f"{url} is not a URL ({fault}); give one like {EXAMPLE}.") from fault
    if split.scheme not in ("http", "https") or not split.hostname:
        raise EndpointError(f"{url} is not a URL of a service; give one like {EXAMPLE}.")
    if split.username or split.password or split.query or split.fragment:
        raise EndpointError(
            f"--endpoint holds a password, a query or a fragment; give only {EXAMPLE}, and a token in {TOKEN}."
        )
    found = re.fullmatch(r"(.*)/v2/models/([^/]+)(?:/versions/([^/]+))?", split.path)
    if found is None:
        raise EndpointError(f"{url} names no model; give one like {EXAMPLE}.")
    host = f"[{split.hostname}]" if ":" in split.hostname else split.hostname
    root = f"{split.scheme}://{host}{f':{port}' if port else ''}{quote(found[1], safe='/%')}"
    return root, unquote(found[2]), found[3] and unquote(found[3])
