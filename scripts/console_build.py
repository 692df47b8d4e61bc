"""Builds the console once: skipped while the stamp equals the hash of its sources."""

from __future__ import annotations

import fcntl
import gzip
import hashlib
import os
import shutil
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
CONSOLE = ROOT / "console"
BUILD = ROOT / "src/patient_ladle/service/console/build"
SETTINGS = ("package.json", "package-lock.json", "index.html", "vite.config.ts", "tsconfig.json")


def _digest() -> str:
    digest = hashlib.sha256()
    files = [CONSOLE / name for name in SETTINGS]
    files += [p for folder in ("src", "public") for p in (CONSOLE / folder).rglob("*") if p.is_file()]
    for file in sorted(files):
        digest.update(str(file.relative_to(CONSOLE)).encode() + b"\0" + file.read_bytes() + b"\0")
    return digest.hexdigest()


def npm() -> str:
    """The npm beside a Node of 20.19 or newer: the machine's, else the one in the environment."""
    for place in (None, str(Path(sys.executable).parent)):
        node, found = shutil.which("node", path=place), shutil.which("npm", path=place)
        if node and found:
            said = subprocess.run([node, "--version"], capture_output=True, text=True, check=False).stdout
            numbers = [int(part) for part in said.strip().lstrip("v").split(".")[:2] if part.isdigit()]
            if len(numbers) == 2 and numbers >= [20, 19]:
                return found
    sys.exit("The console needs Node 20.19 or newer to be built, and none was found. Install it, or use the wheel.")


def _beside_node() -> dict[str, str]:
    """The environment in which the packages' own scripts find the same Node."""
    return {**os.environ, "PATH": f"{Path(npm()).parent}{os.pathsep}{os.environ['PATH']}", "npm_config_loglevel": "error"}


def ensure_packages() -> None:
    """The console's packages, exactly as the lock file has them."""
    mark = CONSOLE / "node_modules" / ".ladle-lock"
    want = hashlib.sha256((CONSOLE / "package-lock.json").read_bytes()).hexdigest()
    if mark.is_file() and mark.read_text() == want:
        return
    print("console: installing its packages", flush=True)
    command = [npm(), "ci", "--ignore-scripts", "--no-audit", "--no-fund", "--loglevel=error"]
    subprocess.run(command, cwd=CONSOLE, check=True, stdout=subprocess.DEVNULL, env=_beside_node())
    mark.write_text(want)


def ensure() -> Path:
    """The folder of the built console, built if its sources changed."""
    if not CONSOLE.is_dir():
        return BUILD  # a source archive or a wheel carries the files already
    with open(BUILD.parent / ".build.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        stamp, want = BUILD / ".stamp", _digest()
        if stamp.is_file() and stamp.read_text() == want:
            return BUILD
        ensure_packages()
        print("console: building", flush=True)
        made = BUILD.with_name("build.new")
        command = [npm(), "exec", "--", "vite", "build", "--outDir", str(made), "--emptyOutDir", "--logLevel", "warn"]
        subprocess.run(command, cwd=CONSOLE, check=True, env=_beside_node())
        for file in made.rglob("*"):
            if file.suffix in {".js", ".css", ".svg"}:
                file.with_name(file.name + ".gz").write_bytes(gzip.compress(file.read_bytes(), 9, mtime=0))
        (made / ".stamp").write_text(want)
        shutil.rmtree(BUILD, ignore_errors=True)
        made.rename(BUILD)
    return BUILD


if __name__ == "__main__":
    try:
        ensure()
    except subprocess.CalledProcessError as error:
        sys.exit(f"The console could not be built: npm ended with status {error.returncode}; its words stand above.")
