"""The release server, simulated: what Mossferry's makers would have on the net, on loopback only.

It answers as such servers do: whole files, ranges, an ETag by content (RFC 9110).
"""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import unquote

from blake3 import blake3

from .releases import served

__all__ = ["ReleaseHandler", "release_server"]


class ReleaseHandler(BaseHTTPRequestHandler):
    """Serves files from memory; `files` is set by the server."""

    protocol_version = "HTTP/1.1"
    files: Mapping[str, bytes] = {}

    def do_GET(self) -> None:
        """Answer with a file, or the rest of it."""
        data = self.files.get(unquote(self.path.lstrip("/")))
        if data is None:
            self.send_error(404)
            return
        mark = f'"{blake3(data).hexdigest()[:16]}"'
        start = self.wanted_from(data, mark)
        if start >= len(data) and data:
            self.send_response(416)
            self.send_header("Content-Range", f"bytes */{len(data)}")
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        self.send_response(206 if start else 200)
        if start:
            self.send_header("Content-Range", f"bytes {start}-{len(data) - 1}/{len(data)}")
        self.send_header("ETag", mark)
        self.send_header("Content-Length", str(len(data) - start))
        self.end_headers()
        self.send_body(data[start:])

    def wanted_from(self, data: bytes, mark: str) -> int:
        """Return the first byte that is asked for; all of it if the file is another one now."""
        asked = self.headers.get("Range", "")
        if not asked.startswith("bytes=") or self.headers.get("If-Range", mark) != mark:
            return 0
        first = asked.removeprefix("bytes=").partition("-")[0]
        return int(first) if first.isdigit() else 0

    def send_body(self, data: bytes) -> None:
        """Send what was asked for."""
        self.wfile.write(data)

    def log_message(self, format: str, *args: object) -> None:
        """Keep quiet."""


class _Quiet(ThreadingHTTPServer):
    """Says nothing of clients that hang up."""

    daemon_threads = True

    def handle_error(self, request: object, client_address: object) -> None:
        """Keep quiet."""


@contextmanager
def release_server(
    handler: type[ReleaseHandler] = ReleaseHandler,
    files: Mapping[str, bytes] | None = None,
    *,
    port: int = 0,
) -> Iterator[str]:
    """Serve the made-up releases, or other files, on loopback; yield the address of the index."""
    shown = type("Shown", (handler,), {"files": served() if files is None else files})
    server = _Quiet(("127.0.0.1", port), shown)
    thread = threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/releases.json"
    finally:
        server.shutdown()
        server.server_close()
        thread.join(10)
