"""The harbour trust's directory for the tour: a real server, where this computer has one."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import files
from pathlib import Path

_SEARCHED = "/usr/sbin:/usr/local/sbin:/usr/libexec:/usr/lib/openldap"
_SCHEMAS = ("/etc/ldap/schema", "/etc/openldap/schema")
_MODULES = ("/usr/lib/ldap", "/usr/lib64/openldap", "/usr/lib/openldap")
_SECONDS = 15.0
_CONFIG = """
include {schema}/core.schema
include {schema}/cosine.schema
include {schema}/inetorgperson.schema
{modules}
database mdb
suffix "dc=tidewick,dc=example"
directory "{folder}/data"
"""
_TOP = """dn: dc=tidewick,dc=example
objectClass: dcObject
objectClass: organization
dc: tidewick
o: Tidewick Harbour Trust

dn: ou=people,dc=tidewick,dc=example
objectClass: organizationalUnit
ou: people

"""


def is_here() -> bool:
    """Whether this computer has a directory server."""
    return all(_program(name) for name in ("slapd", "slapadd")) and any(Path(one).is_dir() for one in _SCHEMAS)


def _program(name: str) -> str | None:
    return shutil.which(name) or shutil.which(name, path=_SEARCHED)


@contextmanager
def serving(folder: Path) -> Iterator[str | None]:
    """The directory with the people of the demo, on loopback, for the length of the block: its URL; None where it does
    not start."""
    (folder / "data").mkdir(parents=True)
    schema = next(one for one in _SCHEMAS if Path(one).is_dir())
    found = [one for one in _MODULES if Path(one).is_dir()]
    modules = f"modulepath {found[0]}\nmoduleload back_mdb" if found else ""
    config = folder / "slapd.conf"
    config.write_text(_CONFIG.format(schema=schema, modules=modules, folder=folder), encoding="utf-8")
    people = (files("barnacle.demo") / "data" / "directory.ldif").read_text("utf-8").partition("\n\n")[2]
    (folder / "people.ldif").write_text(_TOP + people, encoding="utf-8")
    with (folder / "slapd.log").open("wb") as log:
        load = [str(_program("slapadd")), "-f", str(config), "-l", str(folder / "people.ldif")]
        loaded = subprocess.run(load, stdout=log, stderr=log, check=False)
        with socket.socket() as one:
            one.bind(("127.0.0.1", 0))
            port = one.getsockname()[1]
        url = f"ldap://127.0.0.1:{port}/"
        command = [str(_program("slapd")), "-f", str(config), "-h", url, "-d", "0"]
        server = (
            subprocess.Popen(command, stdout=log, stderr=log, stdin=subprocess.DEVNULL)
            if not loaded.returncode
            else None
        )
    try:
        yield f"{url}ou=people,dc=tidewick,dc=example" if server and _answers(server, port) else None
    finally:
        if server is not None:
            server.terminate()
            server.wait(10)


def _answers(server: subprocess.Popen[bytes], port: int) -> bool:
    end = time.monotonic() + _SECONDS
    while server.poll() is None and time.monotonic() < end:
        with socket.socket() as one:
            if one.connect_ex(("127.0.0.1", port)) == 0:
                return True
        time.sleep(0.05)
    return False
