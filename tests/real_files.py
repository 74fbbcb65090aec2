"""Real files for the tests, from the package registries by name and version, checked by hash, kept outside the repository.

`python -m tests.real_files` fetches what is missing. A file that cannot be had fails the tests, it does not skip them.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import subprocess
import sys
import tarfile
import tempfile
import zipfile
from dataclasses import dataclass
from pathlib import Path

CACHE = Path(os.environ.get("QUILT_TEST_FILES") or Path.home() / ".cache/untold-quilt/test-files")


@dataclass(frozen=True)
class Package:
    """A pinned archive: how it is fetched, its hash, and the part of it that is kept."""

    kind: str
    spec: str
    sha: str
    keep: str


PACKAGES = {
    "webxr": Package(
        "npm",
        "@webxr-input-profiles/assets@1.0.20",
        "30df2a2268220fc0d0e034bed1550aabdd7a2500573c5216f64fc70d59c3d91e",
        "package/dist/profiles/",
    ),
    "threebox": Package(
        "npm", "threebox-plugin@2.2.7", "5532f7371dd9ed7fb273b35c65722e956cf3d9cff9d355c288279e54f80d07e9", "package/examples/models/"
    ),
    "pybullet": Package("pypi", "pybullet==3.2.7", "5d858abf7c12a21ef3ed351cf81dac1b5e486ec25c9ab59bfc84beb89034edff", "pybullet_data/"),
    "gradio": Package(
        "pypi", "gradio==6.31.0", "7b50b9b6a2d23cd02851ad4c8b1c8312c88d8b911d1f29c93f9761c98348a64a", "gradio/media_assets/models3d/"
    ),
    "assimp": Package(
        "deb",
        "assimp-testmodels=5.2.5~ds0-1",
        "526f326186000cd6f631ea806128548a7d3d391abd8149fddc5c4c8513e80b8a",
        "./usr/share/assimp/models/",
    ),
}


def _download(package: Package, folder: str) -> Path:
    commands = {
        "npm": ["npm", "pack", "--silent", package.spec],
        "pypi": [sys.executable, "-m", "pip", "download", "-q", "--no-deps", "--only-binary", ":all:", "--python-version", "3.11",
                 "--platform", "manylinux2014_x86_64", "--platform", "any", package.spec],
        "deb": ["apt-get", "-q", "download", package.spec],
    }  # fmt: skip
    done = subprocess.run(commands[package.kind], cwd=folder, capture_output=True, text=True)
    if done.returncode and package.kind == "deb":
        subprocess.run(["apt-get", "-q", "update"], capture_output=True)
        done = subprocess.run(commands["deb"], cwd=folder, capture_output=True, text=True)
    files = list(Path(folder).iterdir())
    if done.returncode or len(files) != 1:
        raise RuntimeError(f"{package.spec} could not be fetched: {done.stderr.strip()[-400:]}")
    found = hashlib.sha256(files[0].read_bytes()).hexdigest()
    if found != package.sha:
        raise RuntimeError(f"{package.spec} has the hash {found}, not {package.sha}")
    return files[0]


def _extract(package: Package, archive: Path, target: Path) -> None:
    if package.kind == "pypi":
        with zipfile.ZipFile(archive) as z:
            z.extractall(target, [n for n in z.namelist() if n.startswith(package.keep)])
    elif package.kind == "npm":
        # Debian's Python 3.11.2 has no filters yet; what is unpacked was checked by its hash.
        safe = {"filter": "data"} if hasattr(tarfile, "data_filter") else {}
        with tarfile.open(archive) as t:
            t.extractall(target, [m for m in t.getmembers() if m.name.startswith(package.keep)], **safe)  # type: ignore[arg-type]
    else:
        subprocess.run(["dpkg-deb", "-x", str(archive), str(target)], check=True)


def fetch(name: str) -> Path:
    """The folder of a package's kept part, fetched when it is not there."""
    package = PACKAGES[name]
    target = CACHE / f"{name}-{package.sha[:12]}"
    if not target.exists():
        CACHE.mkdir(parents=True, exist_ok=True)
        # Tests run in two processes: the one that comes later waits for what the other fetches.
        with open(CACHE / f"{target.name}.lock", "w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not target.exists():
                with tempfile.TemporaryDirectory() as folder:
                    archive = _download(package, folder)
                    unfinished = Path(tempfile.mkdtemp(dir=CACHE))
                    _extract(package, archive, unfinished)
                unfinished.rename(target)
    return target / package.keep


def path(name: str, file: str) -> Path:
    """A file of a package.

    Raises
    ------
    FileNotFoundError : the package does not hold it
    """
    found = fetch(name) / file
    if not found.exists():
        raise FileNotFoundError(found)
    return found


if __name__ == "__main__":
    for each in PACKAGES:
        print(each, fetch(each))
