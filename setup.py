"""Makes the man page from the parser when a package is built; all else is in pyproject.toml."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent / "src"))

from build_manpages import build_manpages, get_build_py_cmd, get_install_cmd
from setuptools import setup

setup(cmdclass={"build_manpages": build_manpages, "build_py": get_build_py_cmd(), "install": get_install_cmd()})
