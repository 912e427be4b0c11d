"""A small service of the open inference protocol, version 2, for trying things out: one artifact, on this machine
alone.

Faults can be switched on, to see what a break looks like. It is not made for production.
"""

from __future__ import annotations

import itertools
import json
import re
import socket
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import numpy as np

from zygal.classifier.scores import LOGITS, to_probabilities
from zygal.endpoint.messages import DTYPES, HEADER_LENGTH, NAMES
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import ZygalError

FAULTS = {
    "slow": "each answer takes 0.7 s",
    "stuck": "no request for scores is answered",
    "channels": "the channels of the images are reversed before the model runs",
    "version": "another version of the model answers, with other scores",
    "busy": "every third request is answered with the status 503",
    "down": "every request for scores is answered with the status 503",
    "batching": "the scores of a batch come back in another order",
    "softmax": "the scores are turned into probabilities",
    "rows": "the last image of a batch gets no scores",
    "text": "the answer is a web page",
    "cut": "the answer ends in the middle",
}
SLOW_SECONDS, STUCK_SECONDS = 0.7, 600.0
LARGEST_REQUEST = 256_000_000


class StandIn(ThreadingHTTPServer):
    """Serves an artifact under a name. faults: names of FAULTS."""

    daemon_threads = True
    request_queue_size = 128

    def __init__(self, artifact: str | Path, name: str | None = None, port: int = 0, faults: tuple[str, ...] = ()):
        self.engine = RuntimeEngine(artifact)
        self.name, self.faults = name or Path(artifact).stem, frozenset(faults)
        self.version = "2" if "version" in faults else "1"
        self.counter, self.stopping = itertools.count(1), threading.Event()
        super().__init__(("127.0.0.1", port), _Handler)

    @property
    def url(self) -> str:
        """The address of the model."""
        return f"http://127.0.0.1:{self.server_address[1]}/v2/models/{self.name}"

    def description(self) -> dict[str, Any]:
        """What the protocol says of the model."""
        engine = self.engine
        shape = [size if isinstance(size, int) else -1 for size in engine.input_shape]
        return {
            "name": self.name,
            "versions": [self.version],
            "platform": engine.name,
            "inputs": [{"name": engine.input_name, "datatype": NAMES[engine.input_dtype], "shape": shape}],
            "outputs": [{"name": engine.output_name, "datatype": "FP32", "shape": [-1, -1]}],
        }

    def scores(self, batch: np.ndarray) -> np.ndarray:
        """What the model answers, with the faults that change it."""
        if "channels" in self.faults:
            batch = np.ascontiguousarray(np.flip(batch, 1 if batch.shape[1] == 3 else -1))
        scores = self.engine.run(batch)
        if "version" in self.faults:
            scores = scores + 0.2 * (scores.max() - scores.min()) * np.sin(np.arange(scores.shape[1], dtype=np.float32))
        if "softmax" in self.faults:
            scores = to_probabilities(scores, LOGITS)
        if "batching" in self.faults:
            scores = np.roll(scores, 1, axis=0)
        return (scores[:-1] if "rows" in self.faults else scores).astype(np.float32)


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: StandIn

    def setup(self) -> None:
        super().setup()
        # An answer is written in two pieces, which would otherwise wait for each other.
        self.connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def log_message(self, *_: Any) -> None:
        """Says nothing: the tests and the demo read what it prints."""

    def do_GET(self) -> None:
        server = self.server
        model = f"/v2/models/{server.name}"
        paths = {
            "/v2/health/live": {"live": True},
            "/v2/health/ready": {"ready": True},
            "/v2": {"name": "zygal-demo", "version": "1", "extensions": ["binary_tensor_data"]},
        }
        for base in (model, f"{model}/versions/{server.version}"):
            paths |= {base: server.description(), f"{base}/ready": {"ready": True}}
        if self.path in paths:
            self._json(200, paths[self.path])
        else:
            self._json(404, {"error": f"there is nothing at {self.path}"})

    def do_POST(self) -> None:
        server = self.server
        length = self.headers.get("Content-Length", "")
        if not (length.isascii() and length.isdigit()) or int(length) > LARGEST_REQUEST:
            self.close_connection = True
            return self._json(413, {"error": "a length is needed, of at most 256 MB"})
        body = self.rfile.read(int(length))
        if not re.fullmatch(rf"/v2/models/{re.escape(server.name)}(/versions/{server.version})?/infer", self.path):
            return self._json(404, {"error": f"there is no model at {self.path}"})
        if "stuck" in server.faults:
            server.stopping.wait(STUCK_SECONDS)
            self.close_connection = True
            return None
        if "slow" in server.faults:
            time.sleep(SLOW_SECONDS)
        if "down" in server.faults or "busy" in server.faults and next(server.counter) % 3 == 0:
            return self._json(503, {"error": "the model is being loaded"})
        try:
            document, batch, binary = _request(body, self.headers)
            scores = server.scores(batch)
        except (ZygalError, ValueError, KeyError, TypeError, IndexError) as fault:
            return self._json(400, {"error": str(fault)[:300]})
        return self._answer(document, scores, binary)

    def _answer(self, document: Mapping[str, Any], scores: np.ndarray, binary: bool) -> None:
        server = self.server
        output: dict[str, Any] = {"name": server.engine.output_name, "datatype": "FP32", "shape": list(scores.shape)}
        data = scores.astype("<f4").tobytes() if binary else b""
        output |= {"parameters": {"binary_data_size": len(data)}} if binary else {"data": scores.ravel().tolist()}
        header = json.dumps(
            {
                "model_name": server.name,
                "model_version": server.version,
                "id": document.get("id", ""),
                "outputs": [output],
            }
        ).encode()
        if "text" in server.faults:
            return self._send(200, b"<html><body>Welcome</body></html>", {"Content-Type": "text/html"})
        content = header + data
        extra = (
            {"Content-Type": "application/octet-stream", HEADER_LENGTH: str(len(header))}
            if binary
            else {"Content-Type": "application/json"}
        )
        if "cut" in server.faults:
            self.close_connection = True
            return self._send(200, content[: len(content) // 2], extra, len(content))
        return self._send(200, content, extra)

    def _json(self, status: int, document: Mapping[str, Any]) -> None:
        self._send(status, json.dumps(document).encode(), {"Content-Type": "application/json"})

    def _send(self, status: int, content: bytes, headers: Mapping[str, str], length: int | None = None) -> None:
        try:
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(content) if length is None else length))
            self.end_headers()
            self.wfile.write(content)
        except (BrokenPipeError, ConnectionResetError):
            self.close_connection = True


def _request(body: bytes, headers: Any) -> tuple[dict[str, Any], np.ndarray, bool]:
    """The document of a request, its batch, and whether the scores are wanted as bytes."""
    length = int(headers.get(HEADER_LENGTH, len(body)))
    document = json.loads(body[:length])
    (tensor,) = document["inputs"]
    dtype = DTYPES[tensor["datatype"]]
    if "binary_data_size" in tensor.get("parameters", {}):
        data = np.frombuffer(body[length:], np.dtype(dtype).newbyteorder("<")).astype(dtype)
    else:
        data = np.array(tensor["data"], dtype)
    binary = any(each.get("parameters", {}).get("binary_data") for each in document.get("outputs", []))
    return document, data.reshape(tensor["shape"]), binary


@contextmanager
def serving(artifact: str | Path, *faults: str, name: str | None = None) -> Iterator[StandIn]:
    """A stand-in that runs meanwhile, on a free port."""
    server = StandIn(artifact, name, 0, faults)
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.stopping.set()
        server.shutdown()
        server.server_close()
