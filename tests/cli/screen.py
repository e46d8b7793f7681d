"""A terminal of its own for commands that are tried in one."""

from __future__ import annotations

import os
import subprocess
import sys

try:
    import pty
except ImportError:  # Windows
    pty = None  # type: ignore[assignment]

__all__ = ["OnScreen", "pty"]


class OnScreen:
    """What tests that need a terminal have in common."""

    folder: str

    def converse(
        self,
        *args: str,
        answer: str = "",
        answers: tuple[str, ...] = (),
        prompts: tuple[str, ...] = ("[y/N]",),
        **environment: str,
    ) -> tuple[int, str]:
        """Run a command in a terminal of its own, type an answer at each prompt; return status and screen."""
        left_answers = list(answers or (answer,) * len(prompts))
        keeper, screen = pty.openpty()
        process = subprocess.Popen(
            [sys.executable, "-m", "kindred_ledger.cli.main", *args],
            cwd=self.folder,
            env={
                **os.environ,
                "KINDRED_LEDGER": "ledger",
                "TERM": "xterm-256color",
                "COLUMNS": "120",
                **environment,
            },
            stdin=screen,
            stdout=screen,
            stderr=screen,
        )
        os.close(screen)
        shown = b""
        left = list(prompts)
        while True:
            try:
                block = os.read(keeper, 4096)
            except OSError:
                break
            if not block:
                break
            shown += block
            if left and left[0].encode() in shown:
                left.pop(0)
                typed = left_answers.pop(0) if left_answers else ""
                os.write(keeper, typed.encode() + b"\n")
        os.close(keeper)
        return process.wait(), shown.decode("utf-8", "replace")
