"""The lowest version of each library that pyproject.toml allows, as constraints for pip:

python scripts/lowest_versions.py > lowest.txt && pip install -c lowest.txt .
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent / "pyproject.toml"


def main() -> None:
    project = tomllib.loads(PROJECT.read_text("utf-8"))["project"]
    for one in [
        *project["dependencies"],
        *project["optional-dependencies"]["hub"],
        *project["optional-dependencies"]["postgresql"],
        *project["optional-dependencies"]["archives"],
    ]:
        name, version = re.fullmatch(r"([\w-]+)(?:\[\w+\])?>=([\d.]+)", one).groups()  # type: ignore[union-attr]
        print(f"{name}=={version}")


if __name__ == "__main__":
    main()
