"""The real program in its own processes, spoken to over HTTP, and what can be done to it from outside."""

from __future__ import annotations

import contextlib
import json
import os
import resource
import signal
import subprocess
import sys
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tests.kit.processes import ROOT, children, free_port, wait_for


class Running:
    """The program on a data folder."""

    def __init__(self, data: Path, *more: str, command: str = "start", port: int = 0, **env: str) -> None:
        self.data, self.port = data, port or free_port()
        self.url = f"http://localhost:{self.port}"
        self.cookies: dict[str, str] = {}
        words = [sys.executable, "-m", "quilt_cli", command, "--port", str(self.port), "--data", str(data), *more]
        self.output = data.parent / f"{data.name}.{self.port}.txt"
        own = {k: v for k, v in os.environ.items() if k not in ("QUILT_DATA", "DJANGO_SETTINGS_MODULE")} | {"PYTHONPATH": str(ROOT)} | env
        with self.output.open("wb") as out:
            self.process = subprocess.Popen(words, cwd=ROOT, env=own, stdout=out, stderr=subprocess.STDOUT)
        wait_for(lambda: self.process.poll() is not None or self.ask("GET", "/api/formats")[0], 120)
        assert self.process.poll() is None, self.output.read_text()

    def ask(self, method: str, path: str, body: Any = None, files: dict[str, bytes] | None = None) -> tuple[int, Any]:
        """An answer's status and body."""
        headers = {"X-Quilt": "1", **({"Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items())} if self.cookies else {})}
        if "csrftoken" in self.cookies:
            headers["X-CSRFToken"] = self.cookies["csrftoken"]
        data = None
        if files is not None:
            data, headers["Content-Type"] = _form(files)
        elif body is not None:
            data, headers["Content-Type"] = json.dumps(body).encode(), "application/json"
        request = urllib.request.Request(f"http://127.0.0.1:{self.port}{path}", data, headers, method=method)
        try:
            with urllib.request.urlopen(request, timeout=90) as answer:
                return answer.status, self._body(answer)
        except urllib.error.HTTPError as e:
            return e.code, self._body(e)

    def _body(self, answer: Any) -> Any:
        for line in answer.headers.get_all("Set-Cookie") or ():
            name, _, value = line.split(";")[0].partition("=")
            self.cookies[name] = value
        body = answer.read()
        return json.loads(body) if "json" in answer.headers.get("Content-Type", "") else body

    def project(self, files: dict[str, bytes], name: str = "Real") -> int:
        """A new project with files in it."""
        number = int(self.ask("POST", "/api/projects", {"name": name})[1]["id"])
        self.done(self.ask("POST", f"/api/projects/{number}/files", files=files)[1])
        return number

    def done(self, job: dict[str, Any], seconds: float = 60.0) -> dict[str, Any]:
        """A job once it is over."""
        return dict(
            wait_for(
                lambda: (j := self.ask("GET", f"/api/jobs/{job['id']}")[1])["state"] in ("done", "failed", "stopped", "interrupted") and j,
                seconds,
            )
        )

    def processes(self) -> list[int]:
        """All processes of it, itself first."""
        out = [self.process.pid]
        for pid in out:
            out += children(pid)
        return out

    def named(self, what: str) -> list[int]:
        """Those of its processes whose command has some words in it."""
        return [pid for pid in self.processes() if what in Path(f"/proc/{pid}/cmdline").read_text()]

    def grow(self, most: int) -> None:
        """Let its files grow to so many bytes only, as a full disk would; -1 for any size."""
        value = resource.RLIM_INFINITY if most < 0 else most
        for pid in self.processes():
            with contextlib.suppress(ProcessLookupError):
                resource.prlimit(pid, resource.RLIMIT_FSIZE, (value, resource.RLIM_INFINITY))

    def end(self) -> None:
        """Stop it."""
        self.process.send_signal(signal.SIGTERM)
        try:
            self.process.wait(20)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


def _form(files: dict[str, bytes]) -> tuple[bytes, str]:
    mark = "----quilt-test"
    parts = [f'--{mark}\r\nContent-Disposition: form-data; name="paths"\r\n\r\n{name}\r\n'.encode() for name in files]
    for name, body in files.items():
        head = (
            f'--{mark}\r\nContent-Disposition: form-data; name="files"; filename="{name}"\r\nContent-Type: application/octet-stream\r\n\r\n'
        )
        parts.append(head.encode() + body + b"\r\n")
    return b"".join(parts) + f"--{mark}--\r\n".encode(), f"multipart/form-data; boundary={mark}"


@contextlib.contextmanager
def running(data: Path, *more: str, command: str = "start", port: int = 0, **env: str) -> Iterator[Running]:
    """The program, stopped again."""
    found = Running(data, *more, command=command, port=port, **env)
    try:
        yield found
    finally:
        found.end()
