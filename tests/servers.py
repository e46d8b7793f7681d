"""Real servers on loopback for the tests: SFTP and a store of objects; FTP is the demo's."""

from __future__ import annotations

import asyncio
import logging
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from kindred_ledger.demo.rented_server import PASSWORD, USER
from kindred_ledger.places.remotes import Login


@contextmanager
def sftp_server(root: str) -> Iterator[tuple[str, Login]]:
    """Serve a folder; yield URL and login."""
    import asyncssh

    logging.getLogger("asyncssh").setLevel(logging.CRITICAL)
    logging.getLogger("paramiko").setLevel(logging.CRITICAL)
    key = asyncssh.generate_private_key("ssh-ed25519")

    class Server(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:
            return True

        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password: str) -> bool:
            return (username, password) == (USER, PASSWORD)

    started: list[Any] = []
    ready = threading.Event()
    loop = asyncio.new_event_loop()

    async def serve() -> None:
        started.append(
            await asyncssh.create_server(
                Server,
                "127.0.0.1",
                0,
                server_host_keys=[key],
                sftp_factory=lambda channel: asyncssh.SFTPServer(channel, chroot=root.encode()),
            )
        )
        ready.set()

    async def end() -> None:
        started[0].close()
        tasks = asyncio.all_tasks() - {asyncio.current_task()}
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    def run() -> None:
        asyncio.set_event_loop(loop)
        loop.run_until_complete(serve())
        loop.run_forever()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    ready.wait(10)
    port = started[0].get_port()
    line = key.export_public_key().decode().strip()
    try:
        yield f"sftp://127.0.0.1:{port}", Login(USER, PASSWORD, host_key=line)
    finally:
        asyncio.run_coroutine_threadsafe(end(), loop).result(10)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)


@contextmanager
def object_store() -> Iterator[tuple[str, Login]]:
    """Run a store of objects with one bucket; yield URL and login."""
    import boto3
    from moto.server import ThreadedMotoServer

    logging.getLogger("werkzeug").setLevel(logging.CRITICAL)
    bucket = f"ferries-{os.urandom(4).hex()}"  # the store is one for all servers of a process
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    try:
        host, port = server.get_host_and_port()
        login = Login("ferrykey", "ferrysecret", endpoint=f"http://{host}:{port}")
        boto3.client(
            "s3",
            endpoint_url=login.endpoint,
            aws_access_key_id=login.user,
            aws_secret_access_key=login.password,
            region_name="us-east-1",
        ).create_bucket(Bucket=bucket)
        yield f"s3://{bucket}", login
    finally:
        server.stop()
