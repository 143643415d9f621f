"""Run what the README, the guide and the examples show, as a reader would: every command, every block, every script.

Run with: python docs/run.py            (in a folder that holds README.md, docs, examples, and the demo's folder ferry)
"""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from pathlib import Path

SET_UP = ("python3 -m venv",)  # the two commands of the first screen, which are run around this


def commands(page: str) -> list[str]:
    """The command lines of a page's shell blocks."""
    blocks = re.findall(r"```bash\n(.*?)```", page, re.DOTALL)
    lines = "".join(blocks).replace("\\\n", " ").splitlines()
    return [line for line in lines if line.startswith("amber-ruler") and not line.startswith(SET_UP)]


def code(page: str) -> str:
    """The Python of a page, from first to last."""
    return "\n".join(re.findall(r"```python\n(.*?)```", page, re.DOTALL))


def run(said: str, *command: str) -> None:
    """Run one thing, and end where it fails."""
    done = subprocess.run(command, capture_output=True, text=True, check=False)  # noqa: S603 - our own pages
    sys.stdout.write(f"{'ok    ' if done.returncode == 0 else 'FAILED'}  {said}\n")
    if done.returncode:
        sys.exit(done.stdout + done.stderr)


def main() -> None:
    """Run all of it."""
    pages = {name: Path(name).read_text("utf-8") for name in ("README.md", "docs/guide.md")}
    for page in pages.values():
        for line in commands(page):
            run(line, *shlex.split(line, comments=True))
    for name, page in pages.items():
        run(f"the Python of {name}", sys.executable, "-c", code(page))
    for script in sorted(Path("examples").glob("*.py")):
        run(str(script), sys.executable, "-W", "error", str(script))


if __name__ == "__main__":
    main()
